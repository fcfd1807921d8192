"""What all tables of a study share."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

Text = Annotated[str, Field(min_length=1)]


Share = Annotated[float, Field(gt=0.0, lt=1.0)]


class Part(BaseModel):
    """A part of the file: unknown keys and wrong types are errors."""

    model_config = ConfigDict(extra="forbid", strict=True, frozen=True)
