"""The estimated equation as text: every number and definition that fitted and forecast values can be computed from."""

from __future__ import annotations

from offing.base.text import in_units
from offing.model.fit_state import FitState
from offing.terms import Written


def equation_text(fit: FitState) -> str:
    """The sum, what its names stand for, what the noise carries on, and the mean on the log scale."""
    beta, name = fit.estimate.beta, fit.scale.name(fit.column)
    constant = float(beta[0]) if fit.layout.constant else 0.0
    sums: list[str] = []
    defined: dict[str, str] = {}
    for term, slot in zip(fit.model.terms, fit.layout.slots, strict=True):
        own, state = beta[slot.places], fit.states[slot.term]
        constant += 0.0 if slot.factor else term.reference_effect(fit.view, state, own)
        for part in term.written(fit.view, state, own):
            if part.coefficient:
                sums.append(_summand(part, factor=slot.factor))
            own_lag = term.recursive
            defined[part.name] = part.text.replace("the target", name) if own_lag else part.text
    if fit.rows.centres is not None:
        means = float(fit.rows.centres @ beta[: fit.layout.linear])
        start = "the constant" if constant == float(beta[0]) else f"{float(beta[0]):.12g}"
        held = f"{start}, the summands of the trend, and those of the drivers at their means"
        defined["level"] = f"{held}: {means:.12g}"
    lines = [f"{name} = {constant:.12g}", *sums, *_noise(fit)]
    if defined:
        lines += ["where", *(f"  [{key}]: {text}" for key, text in defined.items() if text)]
    return "\n".join([*lines, *_mean(fit), *_limits(fit)])


def _summand(part: Written, *, factor: bool) -> str:
    sign = "-" if part.coefficient < 0.0 else "+"
    return f"  {sign} {abs(part.coefficient):.12g} * [{part.name}]{' * [level]' if factor else ''}"


def _noise(fit: FitState) -> list[str]:
    """What is expected of a period's noise from those before."""
    phi, unit = fit.estimate.chain.phi, fit.axis.frequency.unit
    parts = [
        f"{value:.12g} of {lag} {unit}{'s' if lag > 1 else ''} before" for lag, value in enumerate(phi, 1) if value
    ]
    if not parts:
        return []
    return [f"  + noise carried on: {', '.join(parts)}, the noise being what is left of {fit.scale.name(fit.column)}"]


def _mean(fit: FitState) -> list[str]:
    """How the mean follows from the logarithm."""
    if not fit.scale.log:
        return []
    scale, unit = fit.scale, fit.axis.frequency.unit
    variance = fit.estimate.variance / scale.gain**2
    inner = f"ln({fit.column})" if scale.plain and not scale.factors and not scale.offset else "its logarithm"
    offset = f" - {scale.offset:g}" if scale.offset else ""
    text = f"mean({fit.column}) = exp({inner} + v / 2){offset}, v = {variance:.12g} one {unit} ahead"
    lasting = [f"{value:.12g} ψ(k−{lag})" for lag, value in enumerate(fit.lingering, 1) if value]
    if lasting:
        text += (
            f"; h {unit}s ahead v times the sum of ψ(k)² over k from 0 to h−1, ψ(0) = 1, ψ(k) = {' + '.join(lasting)}"
        )
    return [text]


def _limits(fit: FitState) -> list[str]:
    model = fit.model
    words = [(model.lower_limit, "at least"), (model.upper_limit, "at most")]
    return [f"{in_units(fit.column, fit.unit)} is {word} {limit:.12g}" for limit, word in words if limit is not None]
