"""Terms that the data suggest, each with its evidence. A start to think from, not a proof."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pandas as pd

from offing.base import InputError, count
from offing.calendar import Axis, Frequency, newest_ended
from offing.engine import cross_correlation, solve, take
from offing.model import Fit, Model
from offing.model.words import signed
from offing.survey.measures import CYCLES, seen_cycles, variance_shares
from offing.tables import Panel, Table
from offing.tables.table import Array
from offing.terms import Driver, Holidays, Season, Term, Trend

#: More drivers than this need a screening, which a first look is not.
MOST_DRIVERS = 12


#: A table of holidays, as `Holidays` takes it.
Days = str | Path | pd.DataFrame


@dataclass(frozen=True)
class Proposal:
    """One term of the suggested study: its `kind`, `keys`, `evidence` and `gain`, and whether it is `active`."""

    kind: str
    keys: Mapping[str, Any]
    evidence: str
    active: bool = True
    gain: float = 0.0


@dataclass(frozen=True)
class Suggested:
    """A suggested model of a target."""

    scale: str
    scale_evidence: str
    terms: tuple[Proposal, ...]
    horizon: int

    @property
    def table(self) -> pd.DataFrame:
        """One row a suggestion: ``what, suggestion, evidence``."""
        rows = [("scale", self.scale, self.scale_evidence)]
        for each in self.terms:
            keys = ", ".join(f"{key} = {value}" for key, value in each.keys.items() if key not in ("data", "table"))
            named = str(each.keys.get("data", each.kind)) + (f" ({keys})" if keys else "")
            rows.append((each.kind, named if each.active else f"not used: {named}", each.evidence))
        return pd.DataFrame(rows, columns=["what", "suggestion", "evidence"])


@dataclass
class _Choice:
    """Columns of one superset design from which models are chosen by the Bayes criterion (Schwarz 1978)."""

    fit: Fit
    chosen: dict[str, list[int]] = field(default_factory=dict)

    @property
    def rows(self) -> int:
        return int(self.fit.used.sum())

    def columns(self, term: str, pairs: int | None = None) -> list[int]:
        """Columns of a term in the superset; of harmonics the first `pairs`."""
        slot = next(slot for slot in self.fit.layout.slots if slot.term == term)
        own: list[int] = slot.places.tolist()
        return own if pairs is None else own[: 2 * pairs]

    def criterion(self, changed: Mapping[str, list[int]] | None = None) -> float:
        """N ln(rss/n) + k ln n of the chosen columns, with some terms changed."""
        terms = {**self.chosen, **(changed or {})}
        wanted = [0, *sorted(column for own in terms.values() for column in own)]
        whole = self.fit.estimate.whole
        found = solve(take(whole, [*wanted, whole.shape[1] - 1]))
        rss = max(float(found.rss[0]), 1e-300)
        return self.rows * float(np.log(rss / self.rows)) + int(found.kept.sum()) * float(np.log(self.rows))


def suggest(
    tables: Mapping[str, Table],
    target: str,
    drivers: Mapping[str, str],
    futures: Mapping[str, int],
    days: Days | None,
    *,
    faster: Sequence[str] = (),
) -> Suggested:
    """Suggest scale, trend, seasons, holidays and drivers for a target.

    Parameters
    ----------
    drivers
        Name for people by reference of each driver at the target's frequency.
    futures
        How many periods after the target's end each driver is known for.
    days
        A table of holidays, if there is one.
    faster
        References of drivers that tick faster than the target.
    """
    plain = Model(target).fit(tables)
    if np.ptp(plain.target[np.isfinite(plain.target)]) == 0.0:
        return Suggested(
            "level", "all values are the same, so that nothing explains them", (), _horizon(plain.axis, [], {})
        )
    fit, refused, evidence = _scaled(tables, target, drivers, days)
    choice = _Choice(fit)
    proposals = [*_trend(choice), *_seasons(choice, futures), *_holidays(choice, days)]
    proposals += [*_drivers(choice, drivers, futures, refused)]
    proposals += _faster(fit, proposals, faster)
    return Suggested(fit.model.scale, evidence, tuple(proposals), _horizon(fit.axis, proposals, futures))


def agreed(each: Sequence[Suggested]) -> Suggested:
    """One suggestion for several series: the first one's terms, active where the gains of all add up to one."""
    first = each[0]
    if len(each) == 1:
        return first
    terms = []
    for proposal in first.terms:
        alike = [other for one in each for other in one.terms if _same(other, proposal)]
        gain = sum(other.gain for other in alike)
        usable = any(other.active for other in alike)
        words = f"summed over {len(alike)} series, Bayes criterion {signed(round(gain))}"
        decided = proposal.gain != 0.0
        terms.append(
            replace(proposal, evidence=words, active=gain > 0.0 and usable, gain=gain) if decided else proposal
        )
    logs = sum(one.scale == "log" for one in each)
    scale = "log" if 2 * logs > len(each) else "level"
    words = f"{logs} of {len(each)} series fit better as logarithms"
    return Suggested(scale, words, tuple(terms), min(one.horizon for one in each))


def _same(one: Proposal, other: Proposal) -> bool:
    return one.kind == other.kind and all(
        one.keys.get(key) == other.keys.get(key) for key in ("cycle", "data", "table")
    )


def _scaled(
    tables: Mapping[str, Table], target: str, drivers: Mapping[str, str], days: Days | None
) -> tuple[Fit, dict[str, str], str]:
    """The superset on the scale that the data favour, why some terms could not be tried, and the evidence.

    Both scales are compared on the same rows by their likelihood of the target itself: that of the logarithms counts
    the Jacobian, n ln(rss/n) + 2 Σ ln y (Box & Cox 1964).
    """
    level, refused = _superset(tables, target, drivers, days, "level")
    known = level.target[np.isfinite(level.target)]
    if not (known > 0.0).all():
        return level, refused, "not all values are positive, so that they have no logarithm"
    log, not_tried = _superset(tables, target, drivers, days, "log")
    both = level.used & log.used
    misfits = []
    for fit in (level, log):
        rest = (fit.working - fit.design @ fit.estimate.beta)[both]
        misfits.append(float(both.sum() * np.log(np.square(rest).mean())))
    gain = (misfits[0] - misfits[1]) / 2.0 - float(np.log(log.target[both]).sum())
    told = "better" if gain > 0.0 else "no better"
    words = f"the same terms fit logarithms {told} (log-likelihood {signed(round(gain))})"
    return (log, not_tried, words) if gain > 0.0 else (level, refused, words)


def _superset(
    tables: Mapping[str, Table],
    target: str,
    drivers: Mapping[str, str],
    days: Days | None,
    scale: Literal["level", "log"],
) -> tuple[Fit, dict[str, str]]:
    """The fit of all that could be suggested, from which subsets are solved; and why some could not be tried."""
    plain = Model(target).fit(tables)
    axis = plain.axis
    terms: list[Term] = [Trend()]
    for cycle, most in CYCLES[axis.frequency.unit]:
        if seen_cycles(axis)[cycle] >= 2.0:
            pairs = min(most, max(axis.n // 20, 1))
            terms.append(Season("week") if cycle == "week" else Season(cycle, harmonics=pairs))
    if days is not None:
        terms.append(Holidays(table=days))
    for reference in list(drivers)[:MOST_DRIVERS]:
        terms.append(Driver(reference, name=reference))
        if scale == "log" and _may_log(plain, reference):
            terms.append(Driver(reference, transform=["log"], name=f"log {reference}"))
    refused: dict[str, str] = {}
    while terms:
        try:
            return Model(target, terms, scale).fit(tables), refused
        except InputError as error:
            # The term that the error is about goes; with too few rows for all, the one that was added last.
            culprit = next((term for term in terms if term.name == error.term), terms[-1])
            refused[str(culprit.name)] = error.found
            terms.remove(culprit)
    return Model(target, [], scale).fit(tables), refused


def _may_log(fit: Fit, reference: str) -> bool:
    values = fit.view.known(reference, fit.axis).values
    known = values[np.isfinite(values)]
    return len(known) > 0 and bool((known > 0.0).all()) and len(np.unique(known)) > 10


def _trend(choice: _Choice) -> list[Proposal]:
    if "trend" not in _names(choice):
        return []
    choice.chosen["trend"] = choice.columns("trend")
    shares = variance_shares(choice.fit.axis, choice.fit.levels).set_index("part")["share"]
    share = f"{100 * shares.get('trend', 0.0):.0f} % of the variance moves with a slow trend"
    return [Proposal("trend", {}, f"{share}; add knots = [a date] where it bends")]


def _seasons(choice: _Choice, futures: Mapping[str, int]) -> list[Proposal]:
    found = []
    for slot in choice.fit.layout.slots:
        if not slot.term.startswith("season"):
            continue
        term = next(term for term in choice.fit.model.terms if term.name == slot.term)
        if not isinstance(term, Season):
            continue
        # A driver of which no future is known will not be there to explain what the season could.
        usable = [other for other in _names(choice) if futures.get(other, 1)]
        every = {other: choice.columns(other) for other in usable if not other.startswith("log ")}
        options = (
            range(1, term.harmonics + 1) if isinstance(term.harmonics, int) else [len(choice.columns(slot.term)) // 2]
        )
        scored = {
            pairs: choice.criterion({**every, slot.term: choice.columns(slot.term, pairs)})
            if term.harmonics is not None
            else choice.criterion(every)
            for pairs in options
        }
        none = choice.criterion({**every, slot.term: []})
        best = min(scored, key=lambda pairs: scored[pairs])
        gain = none - scored[best]
        pairs = best if term.harmonics is not None else None
        keys: dict[str, Any] = {"cycle": term.cycle}
        if pairs is not None:
            keys["harmonics"] = pairs
        if gain > 0.0:
            choice.chosen[slot.term] = choice.columns(slot.term, pairs)
        found.append(Proposal("season", keys, f"Bayes criterion {signed(round(gain))} against none", gain > 0.0, gain))
    return found


def _holidays(choice: _Choice, days: Days | None) -> list[Proposal]:
    if "holidays" not in _names(choice):
        return []
    own = choice.columns("holidays")
    gain = choice.criterion() - choice.criterion({"holidays": own})
    choice.chosen["holidays"] = own
    return [
        Proposal("holidays", {"table": str(days)}, f"Bayes criterion {signed(round(gain))} against none", True, gain)
    ]


def _drivers(
    choice: _Choice, drivers: Mapping[str, str], futures: Mapping[str, int], refused: Mapping[str, str]
) -> list[Proposal]:
    names = _names(choice)
    references = [reference for reference in drivers if reference in names]
    usable = [reference for reference in references if futures.get(reference, 0)]
    choice.chosen |= {reference: choice.columns(reference) for reference in usable}
    logged = []
    for reference in usable:
        if f"log {reference}" in names:
            other = {reference: choice.columns(f"log {reference}")}
            if choice.criterion(other) < choice.criterion():
                choice.chosen |= other
                logged.append(reference)
    found = []
    for reference in references:
        own = choice.chosen.get(reference, choice.columns(reference))
        worth = choice.criterion({reference: []}) - choice.criterion({reference: own})
        keys: dict[str, Any] = {"data": reference}
        if reference in logged:
            keys["transform"] = ["log"]
        evidence = f"Bayes criterion {signed(round(worth))} against leaving it out"
        lags = _later_lags(choice, reference) if worth > 0.0 and reference in usable else []
        if lags:
            keys["lags"] = [0, *(lag for lag, _ in lags)]
            told = (f"{lag} later (correlation {signed(r, 2)})" for lag, r in lags)
            evidence += f"; what is left follows it {', '.join(told)}"
        if reference not in usable:
            evidence += "; nothing is known of it after the target's end, so give a plan before using it"
        found.append(Proposal("driver", keys, evidence, worth > 0.0 and reference in usable, worth))
    for reference in drivers:
        if reference not in names:
            why = refused.get(reference, f"only the first {MOST_DRIVERS} drivers are")
            found.append(Proposal("driver", {"data": reference}, f"not tried: {why}", active=False))
    for name, why in refused.items():
        if name not in drivers and not name.startswith("log "):
            found.append(Proposal(name.partition(" ")[0], {}, f"not tried: {why}", active=False))
    return found


def _faster(fit: Fit, proposals: Sequence[Proposal], references: Sequence[str]) -> list[Proposal]:
    """Weights over the lags of drivers that tick faster, each beside the terms that are in use before it."""
    kinds: dict[str, type[Term]] = {"trend": Trend, "season": Season, "holidays": Holidays, "driver": Driver}
    terms = [kinds[each.kind](**each.keys) for each in proposals if each.active]
    found = []
    for reference in references[:MOST_DRIVERS]:
        skip, told = _late(fit, reference)
        keys: dict[str, Any] = {"data": reference, "weights": "beta", **({"skip": skip} if skip else {})}
        model = Model(fit.model.target, [*terms, Driver(**keys)], fit.model.scale)
        try:
            with_it = model.fit(dict(fit.view.sources.tables))
            without = Model(fit.model.target, terms, fit.model.scale).fit(dict(fit.view.sources.tables))
        except InputError as error:
            found.append(Proposal("driver", keys, f"not tried: {error.found}", active=False))
            continue
        own = next(term for term in with_it.model.terms if isinstance(term, Driver) and term.data == reference)
        keys["span"] = own.span
        both = with_it.used & without.used
        n = int(both.sum())
        gain = n * np.log(np.square(without.left[both]).sum() / np.square(with_it.left[both]).sum()) - 3.0 * np.log(n)
        evidence = f"Bayes criterion {signed(round(float(gain)))} against leaving it out; {told}"
        found.append(Proposal("driver", keys, evidence, bool(gain > 0.0), float(gain)))
        if gain > 0.0:
            terms.append(own)
    return found


def _late(fit: Fit, reference: str) -> tuple[int, str]:
    """How many of a driver's periods to skip, from where it ends beside the target's last period."""
    source, column = fit.view.sources.find(reference)
    table = fit.view.sources.tables[source]
    known = np.flatnonzero(np.isfinite(table.values(column)))
    last = fit.axis.part(fit.axis.n - 1, fit.axis.n)
    newest = int(newest_ended(table.axis.frequency, last)[0])
    end = table.axis.first + int(known[-1]) if len(known) else newest
    unit = table.axis.frequency.unit
    if end < newest:
        behind = count(newest - end, unit)
        return newest - end, f"it ends {behind} before the target does, which are skipped"
    return 0, f"it is out to the end of the target's last {fit.axis.frequency.unit}, so that no {unit} is skipped"


def _later_lags(choice: _Choice, reference: str) -> list[tuple[int, float]]:
    """Lags from 1 at which what the chosen columns leave unexplained goes with the driver, the strongest two."""
    fit = choice.fit
    wanted = [0, *sorted(column for own in choice.chosen.values() for column in own)]
    design = fit.design[fit.used][:, wanted]
    beta = np.linalg.lstsq(design, fit.working[fit.used], rcond=None)[0]
    rest = np.full(fit.axis.n, np.nan)
    rest[fit.used] = fit.working[fit.used] - design @ beta
    driver = fit.design[:, choice.chosen[reference][0]]
    own = np.full(fit.axis.n, np.nan)
    others = fit.design[fit.used][:, [c for c in wanted if c not in choice.chosen[reference]]]
    own[fit.used] = driver[fit.used] - others @ np.linalg.lstsq(others, driver[fit.used], rcond=None)[0]
    most = min(
        {"hour": 24, "day": 7, "business day": 5, "week": 4, "month": 3}.get(fit.axis.frequency.unit, 2),
        fit.axis.n // 10,
    )
    if most < 1:
        return []
    lags, r, band = cross_correlation(rest, own, most)
    beyond = [
        (int(lag), float(value)) for lag, value in zip(lags, r, strict=True) if lag > 0 and abs(value) > 1.2 * band
    ]
    return sorted(sorted(beyond, key=lambda each: -abs(each[1]))[:2])


def _names(choice: _Choice) -> list[str]:
    return [slot.term for slot in choice.fit.layout.slots]


def _horizon(axis: Axis, proposals: list[Proposal], futures: Mapping[str, int]) -> int:
    """As far as every driver in use is known, at most a quarter of a year of hours and days, else a year or so."""
    usual = {"hour": 168, "day": 28, "business day": 20, "week": 13, "month": 12, "quarter": 4, "year": 3}[
        axis.frequency.unit
    ]
    known = [
        futures[str(each.keys["data"])]
        for each in proposals
        if each.kind == "driver" and each.active and each.keys["data"] in futures
    ]
    return min([usual, *known])


def references_of(
    tables: Mapping[str, Table | Panel], target_source: str, target_column: str, frequency: Frequency
) -> dict[str, str]:
    """References of all columns that may be drivers, at the target's frequency, by their name for people."""
    found = {}
    for source, table in tables.items():
        first: Table = next(iter(table.values())) if isinstance(table, Panel) else table
        if first.axis.frequency != frequency:
            continue
        for column in first.columns:
            if (source, column) != (target_source, target_column):
                found[f"{source}.{column}"] = first.labels.get(column, column)
    return found


def faster_of(tables: Mapping[str, Table | Panel], frequency: Frequency) -> list[str]:
    """References of all columns of tables that tick faster than the target."""
    found = []
    for source, table in tables.items():
        if isinstance(table, Table) and table.axis.frequency.periods_a_year > frequency.periods_a_year:
            found += [f"{source}.{column}" for column in table.columns]
    return found


def known_after(values: Array, axis: Axis, first: int) -> int:
    """How many periods from the ordinal `first` on are known without a gap."""
    at = first - axis.first
    if at < 0 or at >= axis.n:
        return 0
    later = np.isfinite(values[at:])
    return int(len(later) if later.all() else np.argmin(later))
