"""Numbers as an engineer wants to read them."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from veldrain.study.edges import Edge
    from veldrain.study.statistics import Comparison


def number(value: float, digits: int = 3) -> str:
    """A number with few digits and no needless exponent; an en dash for nan.

    >>> number(0.012345), number(21.2512), number(1234.6), number(float("nan"))
    ('0.0123', '21.3', '1235', '–')
    """
    if not math.isfinite(value):
        return "–" if math.isnan(value) else ("∞" if value > 0 else "−∞")
    if value == 0:
        return "0"
    size = math.floor(math.log10(abs(value)))
    if size < -4 or size > 6:
        return f"{value:.{digits - 1}e}".replace("-", "−")
    return f"{value:.{max(0, digits - 1 - size)}f}".replace("-", "−")


def signed(value: float) -> str:
    """The same with its sign always there."""
    return number(value) if not value > 0 else f"+{number(value)}"


def probability(p: float) -> str:
    """A p-value.

    >>> probability(0.0312), probability(0.00002)
    ('0.031', '< 0.001')
    """
    if math.isnan(p):
        return "–"
    return "< 0.001" if p < 0.001 else f"{p:.3f}" if p < 0.1 else f"{p:.2f}"


def with_unit(name: str, unit: str) -> str:
    """A name with its unit."""
    return f"{name} ({unit})" if unit else name


def edge_sentence(edge: Edge) -> str:
    """Where a controller fails, in one sentence."""
    unit = f" {edge.unit}" if edge.unit else ""
    return (
        f"{edge.controller} fails where {edge.quantity} is {edge.fails} {number(edge.edge)}{unit}: {edge.failed} of "
        f"{edge.trials} trials there, {edge.failed_beyond} of {edge.trials_beyond} on the other side "
        f"(p {probability(edge.p)})."
    )


def remarks(comparison: Comparison) -> list[str]:
    """What a reader of a table of differences has to know, a sentence each."""
    pairs = sorted({d.pairs for d in comparison.differences})
    if not pairs:
        return []
    many = f"{pairs[0]}" if len(pairs) == 1 else f"{pairs[0]} to {pairs[-1]}"
    tests = sum(d.p_holm == d.p_holm for d in comparison.differences)
    corrected = f", corrected for {tests} comparisons (Holm)" if tests > 1 else ""
    found = [f"Means over {many} pairs of trials that met the same draws; p by the signed-rank test{corrected}."]
    for d in comparison.differences:
        for lost, who in ((d.lost_other, d.controller), (d.lost_baseline, comparison.baseline)):
            if lost:
                found.append(
                    f"{d.metric}: {lost} pairs lost, as {who} has no value there (aborted, or did not finish)."
                )
        if d.skewed:
            found.append(
                f"{d.metric}: the mean difference, {signed(d.mean)}, lies outside of the median's interval: "
                "a few trials make it. Look at them."
            )
    return found
