"""What is stated of a driver, and what follows from it before any data are seen."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar, Literal

from offing.engine import Pinned
from offing.terms.power_transforms import EstimatedPower
from offing.terms.response_forms import Bases, CarryOver, Form, Hinge, Powered, Saturating, bases_of
from offing.terms.splines import Bend
from offing.terms.term import Term
from offing.terms.transform_step import Stated, Step
from offing.terms.transforms import steps_of

Combined = Literal["sum", "mean", "last"]
Between = Literal["repeat", "divide", "linear", "smooth"]
Weights = Literal["flat", "free", "step", "polynomial", "exponential", "beta", "smooth", "chosen"]


@dataclass(frozen=True)
class StatedDriver(Term):
    """The options of a `Driver`, which has their meanings and defaults."""

    data: str
    transform: Sequence[Stated] = ()
    lags: Sequence[int] = (0,)
    above: Bases = None
    below: Bases = None
    curve: Bend | None = None
    lag_degree: int | None = None
    carry_over: float | Literal["estimated"] | None = None
    saturation: float | Literal["estimated"] | None = None
    sign: Literal["positive", "negative"] | None = None
    at_least: float | None = None
    at_most: float | None = None
    expected: float | None = None
    give_or_take: float | None = None
    shrink_with: str | None = None
    combine: Combined | None = None
    weights: Weights | None = None
    span: int | None = None
    skip: int = 0
    degree: int | None = None
    blocks: Sequence[int] | None = None
    pinned: Pinned = "none"
    even_share: bool = False
    between: Between | None = None
    keeps: Literal["sum", "mean"] = "sum"
    pattern: str | None = None
    reference: Literal["mean", "zero"] | float | None = None
    name: str | None = None
    centred: ClassVar[bool] = True
    is_driver: ClassVar[bool] = True

    @property
    def bends(self) -> bool:
        """Whether its effect is no straight line."""
        return self.curve is not None or any(self.chains)

    @property
    def shaped(self) -> bool:
        """Whether a shape of it is estimated."""
        return "estimated" in self._stated

    @property
    def _stated(self) -> tuple[object, ...]:
        power = "estimated" if self.power is not None else None
        return (*(hinge.base for hinge in self.hinges), self.carry_over, self.saturation, power)

    @cached_property
    def power(self) -> Powered | None:
        """The power of it that is estimated, if one is."""
        found = [step for step in steps_of(self.transform) if isinstance(step, EstimatedPower)]
        return Powered(found[0].lower, found[0].upper) if found else None

    @property
    def _ordered(self) -> bool:
        """Whether it has two estimated bases, of which that for low values must not pass that for high ones."""
        return [hinge.base for hinge in self.hinges] == ["estimated"] * 2

    @cached_property
    def hinges(self) -> tuple[Hinge, ...]:
        """Its bases."""
        above, below = bases_of(self.above, "above"), bases_of(self.below, "below")
        return (*(Hinge(base, above=True) for base in above), *(Hinge(base, above=False) for base in below))

    @cached_property
    def chains(self) -> tuple[tuple[Form, ...], ...]:
        """What becomes of it after its transformations, a column each: beyond a base, carried over, saturating."""
        later: list[Form] = [] if self.power is None else [self.power]
        if self.carry_over is not None:
            later.append(CarryOver(self.carry_over))
        if self.saturation is not None:
            later.append(Saturating(self.saturation))
        return tuple((hinge, *later) for hinge in self.hinges) or (tuple(later),)

    @cached_property
    def steps(self) -> tuple[Step, ...]:
        """The transformations; a power that is estimated is a form."""
        return tuple(step for step in steps_of(self.transform) if not isinstance(step, EstimatedPower))
