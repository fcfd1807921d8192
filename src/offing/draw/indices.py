"""Season indices as a table that can be shown."""

from __future__ import annotations

import numpy as np

from offing.base.palette import FAINT, INK, PAPER, QUIET, TERMS, WARM
from offing.base.text import percent, signed
from offing.draw.style import Picture, bare
from offing.explain import SeasonIndices

#: More rows than this are reported in several columns of rows, up to as many as can be read.
_ROWS, _MOST = 26, 52


def draw_indices(result: SeasonIndices) -> Picture:
    """A row a position: index, interval, percent as number and bar, and both classical ratios."""
    bent = " ".join(finding.message for finding in result.findings)
    kind = "Indices average to 1" if result.multiplies else "Effects sum to 0"
    shown = min(len(result.positions), _MOST)
    more = f" The first {shown} of {len(result.positions)} positions." if shown < len(result.positions) else ""
    picture, axes = bare(
        result.sentence.rstrip("."),
        f"{kind} and are free of trend and drivers; low and high bound the 95 % interval. 'own' is the mean ratio to "
        f"the own cycle's average, 'grand' the ratio to the grand average. {bent}{more}",
    )
    blocks = -(-shown // _ROWS)
    rows = -(-shown // blocks)
    reach = float(np.nanmax(np.abs(result.share[:shown]))) if np.isfinite(result.share).any() else 1.0
    height = min(1.0 / (rows + 1), 0.075)
    size = 11 if blocks == 1 and rows <= 16 else 9.5 if blocks == 1 else 8.5
    for block in range(blocks):
        left, width = block / blocks, 1.0 / blocks - (0.03 if blocks > 1 else 0.0)
        spots = left + width * np.array([0.0, 0.3, 0.39, 0.48, 0.6, 0.62, 0.9, 1.0])
        heads = ["position", "index" if result.multiplies else "effect", "low", "high", "percent", "", "own", "grand"]
        for spot, head in zip(spots, heads, strict=True):
            axes.text(
                spot,
                1.0 - height / 2.0,
                head,
                color=QUIET,
                fontsize=size,
                va="center",
                ha="left" if head in ("position", "") else "right",
            )
        axes.plot([left, left + width], [1.0 - height] * 2, color=QUIET, lw=1)
        for i in range(block * rows, min((block + 1) * rows, shown)):
            at = 1.0 - height * (i - block * rows + 1.5)
            if (i - block * rows) % 2:
                axes.axhspan(at - height / 2, at + height / 2, left, left + width, color=FAINT, alpha=0.35, lw=0)
            for spot, text in zip(spots, _cells(result, i), strict=True):
                axes.text(
                    spot,
                    at,
                    text,
                    color=INK,
                    fontsize=size,
                    va="center",
                    ha="left" if text == result.positions[i] else "right",
                )
            middle, half = left + width * 0.73, width * 0.09
            share = float(result.share[i])
            if np.isfinite(share) and reach > 0.0:
                axes.barh(at, half * share / reach, 0.55 * height, left=middle, color=WARM if share > 0 else TERMS[0])
            axes.plot([middle, middle], [at - height / 2, at + height / 2], color=QUIET, lw=0.8)
    axes.set_facecolor(PAPER)
    return picture


def _cells(result: SeasonIndices, i: int) -> list[str]:
    values = [
        f"{each[i]:.3f}" if result.multiplies else signed(float(each[i]))
        for each in (result.index, result.low, result.high)
    ]
    share = percent(float(result.share[i])) if np.isfinite(result.share[i]) else ""
    ratios = [f"{each[i]:.3f}" if np.isfinite(each[i]) else "" for each in (result.own_year, result.grand)]
    return [result.positions[i], *values, share, "", *ratios]
