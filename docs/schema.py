"""Write the JSON Schema of saved models into the package: ``python docs/schema.py``."""

import json
from pathlib import Path

import offing.evaluation  # noqa: F401  what selects drivers registers itself
from offing.model.saved import model_schema

FILE = Path(__file__).parents[1] / "src" / "offing" / "model" / "model-file.schema.json"


def text() -> str:
    """The schema as the file holds it."""
    return json.dumps(model_schema(), indent=1, ensure_ascii=False) + "\n"


if __name__ == "__main__":
    FILE.write_text(text(), encoding="utf-8")
