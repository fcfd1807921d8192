"""A forecast, or the history, on the working scale, and what it rests on."""

from __future__ import annotations

from dataclasses import dataclass, fields

from offing.base.arrays import Array


@dataclass(frozen=True)
class Ahead:
    """A run of periods on the working scale, all (n,).

    `base` is what the values before the run add, `ar_prediction` what the noise before it adds to z, `levels` are η,
    `variances` those of the noise around it, `worth` what one unit of z is worth, `factor` and `mean` belong to the
    target's own scale; `cut` is the mean within the target's limits.
    """

    base: Array
    levels: Array
    variances: Array
    worth: Array
    factor: Array
    mean: Array
    cut: Array
    ar_prediction: Array

    def part(self, low: int, high: int) -> Ahead:
        """Some of the periods."""
        return Ahead(*(getattr(self, each.name)[low:high] for each in fields(self)))
