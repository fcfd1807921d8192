"""The drivers that a screening selects, as lines of a study: one model for every size."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import fields

from offing.base.results import SELECTING, Entry, alone, register
from offing.base.toml import toml, toml_key
from offing.evaluation.screening import Screening, screening_rows, stability_rows
from offing.terms import Driver


def selected_lines(screening: Screening, sizes: Sequence[int] | None = None) -> str:
    """Terms and models for a study, so that ``offing compare`` can compare the models of some sizes; by default of all.

    Examples
    --------
    >>> import numpy as np, pandas as pd, offing as of
    >>> from offing.evaluation.selected_drivers import selected_lines
    >>> generator = np.random.default_rng(3)
    >>> data = pd.DataFrame(generator.normal(size=(200, 4)), pd.date_range("2024-01-01", periods=200), list("abcd"))
    >>> data["sold"] = 5.0 + 2.0 * data["c"] + generator.normal(size=200)
    >>> found = of.screen(data, of.Model("sold", [of.Trend()]), of.candidates(list("abcd")), most=3)
    >>> print(selected_lines(found, [1]))
    # These drivers were selected on all the data. For an honest back-test of the selection itself, let a model
    # select at every origin: add "driver_selection = true" to a [models.NAME].
    [[terms]]
    type = "driver"
    data = "c"
    <BLANKLINE>
    [models."main with 1 driver"]
    terms = ["trend", "c"]
    """
    chosen = range(len(screening.chosen)) if sizes is None else sizes
    drivers = {str(each.name): each for size in chosen for each in screening.drivers(size)}
    parts = [_term(each) for each in drivers.values()]
    for size in chosen:
        model = screening.model(size)
        names = [str(term.name) for term in model.terms]
        parts.append(f"[models.{toml_key(model.name)}]\nterms = {toml(names)}")
    head = (
        "# These drivers were selected on all the data. For an honest back-test of the selection itself, let a model\n"
        '# select at every origin: add "driver_selection = true" to a [models.NAME].\n'
    )
    return head + "\n\n".join(parts)


def _term(driver: Driver) -> str:
    usual = Driver(driver.data)
    lines = ["[[terms]]", 'type = "driver"', f"data = {toml(driver.data)}"]
    for each in fields(driver):
        value = getattr(driver, each.name)
        if each.name != "data" and value != getattr(usual, each.name):
            lines.append(f"{each.name} = {toml(value)}")
    return "\n".join(lines)


def _screened(found: Screening) -> str:
    """The sizes, and the lines of the proposed one for a study; those of all sizes are written to ``selected.toml``."""
    return f"{found}\n\nLines for the study, of the size proposed:\n\n{selected_lines(found, [found.size])}"


register(
    Entry(
        "screening",
        of=lambda study, name: alone(study.screenings[name]),
        text={SELECTING: _screened},
        figure_for=[SELECTING],
        files={
            "screening": lambda found, _: screening_rows(found),
            "stability": lambda found, _: stability_rows(found),
        },
        files_for=[SELECTING],
    )
)
