"""Numbers as an engineer wants to read them."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from veldrain.units import names_of

if TYPE_CHECKING:
    from veldrain.study.edges import Edge
    from veldrain.study.effects import Effect
    from veldrain.study.statistics import Comparison, Difference, PassRate


MOST_DOUBTED = 3  # verdicts that are named in one sentence
MOST_UNCLEAR = 6  # verdicts that cannot tell and have a sentence each; of more the table tells


def number(value: float, digits: int = 3) -> str:
    """A number with few digits and no needless exponent; an en dash for nan.

    >>> number(0.012345), number(21.2512), number(0.9996), number(1234.6), number(float("nan"))
    ('0.0123', '21.3', '1.00', '1235', '–')
    """
    if not math.isfinite(value):
        return "–" if math.isnan(value) else ("∞" if value > 0 else "−∞")
    if value == 0:
        return "0"
    size = math.floor(math.log10(abs(float(f"{value:.{digits - 1}e}"))))  # of what is printed: 0.9996 is 1.00
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
    return f"{name} ({unit})" if unit and not names_of(unit) else name


def edge_sentence(edge: Edge) -> str:
    """Where a controller fails, in one sentence."""
    unit = f" {edge.unit}" if edge.unit else ""
    more = "" if math.isnan(edge.beyond) else f" and {number(edge.beyond)}"
    where = f"{edge.fails} {number(edge.edge)}{more}{unit}"
    return (
        f"{edge.controller} fails where {edge.quantity} is {where}: {edge.failed} of "
        f"{edge.trials} trials there, {edge.failed_beyond} of {edge.trials_beyond} on the other side "
        f"(p {probability(edge.p)})."
    )


def effect_sentence(effect: Effect) -> str:
    """What a quantity does to a metric, in one sentence."""
    whose = f" of {effect.controller}"
    if "×" in effect.quantity:
        return f"{effect.metric}{whose} depends on {effect.quantity} together (strength {signed(effect.strength)})."
    way = "rises" if effect.strength > 0 else "falls"
    unit = f" {effect.unit}" if effect.unit else ""
    if effect.swap:
        path, name, other = effect.swap
        by = f"{number(abs(effect.swing))}{unit} " if math.isfinite(effect.swing) else ""
        way = "larger" if effect.strength > 0 else "smaller"
        place = f"with {path} {name} in place of {other}"
        return f"{effect.metric}{whose} is {by}{way} {place} (strength {signed(effect.strength)})."
    swing = f", by {number(abs(effect.swing))}{unit} from end to end" if math.isfinite(effect.swing) else ""
    return f"{effect.metric}{whose} {way} with {effect.quantity}{swing} (strength {signed(effect.strength)})."


def doubt_sentence(doubt: Mapping[str, Any]) -> str:
    """What became of a verdict where one thing was other, in one sentence."""
    unit = f" {doubt['unit']}" if doubt["unit"] else ""
    if doubt["controller"] == "expectation":
        return f"With {doubt['what']}, '{doubt['metric']}': {doubt['then']}."
    change = f"{signed(doubt['before'])} becomes {signed(doubt['after'])}{unit}"
    which = f"{doubt['metric']} of {doubt['controller']}"
    return f"With {doubt['what']}, the verdict on {which} {doubt['effect']}: {change} ({doubt['then']})."


def doubt_lines(doubts: Sequence[Mapping[str, Any]]) -> list[str]:
    """What the verdicts hang on, a sentence each; or that nothing was found, or that there was no verdict to doubt."""
    serious = [doubt_sentence(d) for d in doubts if d["effect"] not in ("stands", "no verdict")]
    tried = ", ".join(dict.fromkeys(d["what"] for d in doubts))
    if serious or not doubts:
        return serious
    if any(d["effect"] == "stands" for d in doubts):
        return [f"No doubt was found: the verdicts stand with {tried}."]
    return [f"Nothing to doubt: the pairs that were looked at give no verdict. Tried: {tried}."]


def how_sure(doubts: Sequence[Mapping[str, Any]] | None) -> str:
    """What of the verdicts hangs on things that nobody measured, in one sentence."""
    if doubts is None:
        return "Not looked at yet: whether this hangs on the step, the noise, or what was left at its default."
    words = {"turns": "turns round", "blurs": "is no verdict any more", "weakens": "is less than half"}
    found: dict[str, list[Mapping[str, Any]]] = {}
    for effect in words:  # the worst first
        for d in doubts:
            if d["effect"] == effect:
                found.setdefault(f"{d['metric']} of {d['controller']}", []).append(d)
    said = []
    for name, mine in list(found.items())[:MOST_DOUBTED]:
        more = len({d["what"] for d in mine}) - 1
        others = f" and {more} more" if more else ""
        whose = name.removesuffix(" of expectation")
        said.append(f"{whose} {words[mine[0]['effect']]} with {mine[0]['what']}{others}")
    if len(found) > MOST_DOUBTED:
        said.append(f"and {len(found) - MOST_DOUBTED} more, see Doubts")
    tried = len({d["what"] for d in doubts})
    if said:
        return f"Not all of it is sure: {'; '.join(said)}. The rest stands in all {tried} that were tried."
    if any(d["effect"] == "stands" for d in doubts):
        return f"It stands in all {tried} doubts that were tried."
    return "The pairs that were looked at for doubts give no verdict."


def kind_of(verdict: str) -> str:
    """``better``, ``worse``, ``equal``, ``mixed`` or "": what a verdict comes to, for its colour."""
    word = verdict.partition(" ")[0].rstrip(":")
    return {"better": "better", "worse": "worse", "equal": "equal", "mixed": "mixed", "the": "equal"}.get(word, "")


def percent(share: float) -> str:
    """A share of trials.

    >>> percent(0.954)
    '95 %'
    """
    return "–" if math.isnan(share) else f"{100 * share:.0f} %".replace("-", "−")


def pass_sentence(rate: PassRate, baseline: PassRate) -> str:
    """How a controller's passes compare with the baseline's, in one sentence."""
    counts = f"{rate.passed} of {rate.trials} against {baseline.passed} of {baseline.trials}"
    if rate.verdict in ("better", "worse"):
        way = "more" if rate.verdict == "better" else "fewer"
        span = f"{percent(rate.change_low)} to {percent(rate.change_high)}"
        return (
            f"{rate.controller} passes {way} trials than {baseline.controller}: {counts}, a change of "
            f"{percent(rate.difference)} ({span}; p {probability(rate.p_holm)})."
        )
    if not rate.won and not rate.lost:
        whole = rate.passed == rate.trials == baseline.passed
        every = "the one trial" if rate.trials == 1 else f"all {rate.trials} trials"
        some = f"the same {rate.passed} of {rate.trials}" if rate.passed else "no trial"
        what = every if whole else some
        return f"{rate.controller} and {baseline.controller} pass {what}."
    return (
        f"Passes do not tell {rate.controller} and {baseline.controller} apart: {counts} "
        f"({len(rate.won)} won, {len(rate.lost)} lost)."
    )


def sentence(d: Difference, baseline: str) -> str:
    """A difference in one sentence."""
    unit = f" {d.unit}" if d.unit else ""
    if d.verdict not in ("better", "worse"):
        span = f" ({signed(d.low)} to {signed(d.high)}{unit})" if d.low == d.low else ""
        more = f"; on average {signed(d.mean)}{unit}" if d.verdict.startswith("mixed") else ""
        return f"{d.metric}: {d.verdict}, {d.controller} against {baseline}{span}{more}."
    if math.isinf(d.difference):
        who = d.controller if (d.difference > 0) == (d.better == "lower") else baseline
        return f"{d.metric}: {d.controller} is {d.verdict}: in most pairs it is infinite with {who}."
    low, high = sorted((abs(d.low), abs(d.high)))
    way = "lower" if d.difference < 0 else "higher"
    return (
        f"{d.metric}: {d.controller} is {d.verdict}, {number(abs(d.difference))}{unit} {way} than {baseline} "
        f"({number(low)} to {number(high)}{unit})."
    )


def headline(comparison: Comparison) -> list[str]:
    """What a comparison comes to, a line a controller: passes, then in which metrics it is better or worse."""
    first = next(r for r in comparison.passes if r.controller == comparison.baseline)
    found = []
    for rate in (r for r in comparison.passes if r is not first):
        mine = [d for d in comparison.differences if d.controller == rate.controller]
        words = []
        for kind, said in (("better", "better"), ("worse", "worse"), ("mixed", "mixed"), ("equal", "equal")):
            names = [d.metric for d in mine if kind_of(d.verdict) == kind]
            if names:
                listed = "all" if len(names) == len(mine) > 1 else ", ".join(names)
                words.append(f"{said} in {listed}")
        unclear = sum(not kind_of(d.verdict) for d in mine)
        if unclear:
            words.append(f"not to be told apart in {unclear} of {len(mine)}")
        rest = f" Of the metrics, {rate.controller} is {'; '.join(words)}." if words else ""
        found.append(pass_sentence(rate, first) + rest)
    return found + too_few(comparison)


def too_few(comparison: Comparison) -> list[str]:
    """A line where so many comparisons leave so few pairs nothing to tell: p is at least 2/2ⁿ for each."""
    pairs = max((d.pairs for d in comparison.differences), default=0)
    tests, chance = comparison.tests, 1 - next((d.level for d in comparison.differences), 0.95)
    least = 2.0 ** (1 - pairs) * tests
    if not pairs or least < chance:
        return []
    needed = math.floor(1 + math.log2(tests / chance)) + 1
    return [
        f"{pairs} pairs are too few for {tests} comparisons: p cannot fall below {probability(min(least, 1.0))}. "
        f"Run {needed} pairs at least, or compare fewer metrics or controllers."
    ]


def verdicts(comparison: Comparison) -> list[str]:
    """What a comparison says, a sentence each: passes first, then what is better or worse, then the rest."""
    first = next(r for r in comparison.passes if r.controller == comparison.baseline)
    passes = [pass_sentence(r, first) for r in comparison.passes if r is not first]
    clear = [d for d in comparison.differences if d.verdict in ("better", "worse")]
    rest = [d for d in comparison.differences if d.verdict not in ("better", "worse")]
    if len(rest) > MOST_UNCLEAR:
        rest = [d for d in rest if kind_of(d.verdict)]
    return passes + [sentence(d, comparison.baseline) for d in (*clear, *rest)]


def remarks(comparison: Comparison) -> list[str]:
    """What a reader of a table of differences has to know, a sentence each."""
    pairs = sorted({d.pairs for d in comparison.differences})
    if not pairs:
        return []
    many = f"{pairs[0]}" if len(pairs) == 1 else f"{pairs[0]} to {pairs[-1]}"
    tests = comparison.tests
    corrected = f", corrected for {tests} comparisons (Holm)" if tests > 1 else ""
    found = [
        f"Means over {many} pairs of trials that met the same draws; the difference is the pseudo-median of the pairs; "
        f"p by the signed-rank test{corrected}."
    ]
    for d in comparison.differences:
        for lost, who in ((d.lost_other, d.controller), (d.lost_baseline, comparison.baseline)):
            if lost:
                found.append(f"{d.metric}: {lost} pairs lost, as {who} has no value there.")
        if d.skewed:
            found.append(
                f"{d.metric}: the mean difference, {signed(d.mean)}, lies outside of the interval: "
                "a few trials make it. Look at them."
            )
    return found
