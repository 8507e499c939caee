"""What the command line prints: tables on standard output, progress on standard error."""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from textwrap import fill
from typing import TYPE_CHECKING, Any

import numpy as np
from rich.box import SIMPLE_HEAD
from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.table import Table

from veldrain.report.text import (
    doubt_lines,
    edge_sentence,
    effect_sentence,
    headline,
    how_sure,
    kind_of,
    number,
    percent,
    probability,
    remarks,
    signed,
    with_unit,
)

if TYPE_CHECKING:
    from veldrain.recording import Log, Recording
    from veldrain.study import Result
    from veldrain.study.statistics import Comparison, Difference


class Screen(Console):
    """A console that no name of a stream, file or column can command."""

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        for segment in super().render(renderable, options):
            if segment.control or segment.text.isprintable():
                yield segment
            else:
                lines = ("".join(c if c.isprintable() else "�" for c in line) for line in segment.text.split("\n"))
                yield Segment("\n".join(lines), segment.style)


# A pipe has no width: tables are then as wide as they are.
out = Screen(highlight=False, width=None if sys.stdout.isatty() else 200)
err = Screen(stderr=True, highlight=False)


MOST_LINES = 8


def plain(value: Any) -> Any:
    """A value as JSON has it: nan is null, and infinite numbers are texts."""
    if isinstance(value, Mapping):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple | set | frozenset):
        return [plain(v) for v in value]
    if isinstance(value, np.generic):
        value = value.item()
    if isinstance(value, float) and not math.isfinite(value):
        return None if math.isnan(value) else str(value)
    return value if isinstance(value, str | int | float | bool | None) else str(value)


@contextmanager
def as_json(is_asked: bool) -> Iterator[dict[str, Any]]:
    """What is put into the map that is given comes out as JSON at the end, and nothing else is printed, where asked."""
    data: dict[str, Any] = {}
    before, out.quiet = out.quiet, out.quiet or is_asked
    try:
        yield data
    finally:
        out.quiet = before
    if is_asked:
        out.print_json(json.dumps(plain(data)))


def grid(*columns: str, left: int = 1, fold: bool = False) -> Table:
    """A table; ``fold``: all that does not fit goes on in the next line, and nothing is cut."""
    table = Table(box=SIMPLE_HEAD, pad_edge=False, show_edge=False, padding=(0, 1, 0, 0))
    for k, column in enumerate(columns):
        is_left = k < left or (fold and k == len(columns) - 1)
        least = min(max(len(column), 10), 14) if fold and k < left else None
        table.add_column(
            column,
            justify="left" if is_left else "right",
            no_wrap=not fold and k >= left,
            overflow="fold",
            min_width=least,
        )
    return table


def say(text: str) -> None:
    """A line on standard output."""
    out.print(text, markup=False, soft_wrap=True)


def print_comparison(comparison: Comparison, doubts: Sequence[Mapping[str, Any]] | None = None) -> None:
    """The verdict in sentences and, where it was looked at, how sure it is; then passes and paired differences."""
    for line in [*headline(comparison), *([how_sure(doubts)] if doubts else [])]:
        out.print(line, markup=False, soft_wrap=not out.is_terminal)  # sentences: on a terminal they end at words
    say("")
    passes = grid("controller", "passed", "95 % interval", "change", "won, lost", "p")
    for r in comparison.passes:
        is_first = r.controller == comparison.baseline
        change = "" if is_first else f"{percent(r.difference)} ({percent(r.change_low)} to {percent(r.change_high)})"
        swapped = "" if is_first else f"{len(r.won)}, {len(r.lost)}"
        rate = f"{100 * r.low:.0f} to {100 * r.high:.0f} %"
        passes.add_row(r.controller, f"{r.passed} of {r.trials}", rate, change, swapped, probability(r.p_holm))
    out.print(passes)
    say("")
    print_differences(comparison.differences, comparison.baseline, "its mean")
    for line in remarks(comparison):
        say(fill(line, 96))


def print_differences(differences: Sequence[Difference], baseline: str, other: str) -> None:
    """A table of paired differences; of one controller alone its name is the heading."""
    who = {d.controller for d in differences}
    single = len(who) == 1 and other == "its mean"
    heads = [*who] if single else ["controller", other]
    table = grid("metric", *heads[:-1], baseline, heads[-1], "difference (95 %)", "p", "", fold=True)
    colours = {"better": "green", "worse": "red", "mixed": "yellow", "equal": "cyan", "": ""}
    for d in differences:
        style = colours[kind_of(d.verdict)]
        span = f" ({signed(d.low)} to {signed(d.high)})" if not math.isnan(d.low) else ""
        table.add_row(
            with_unit(d.metric, d.unit),
            *([] if single else [d.controller]),
            number(d.baseline),
            number(d.other),
            f"{signed(d.difference)}{span}",
            probability(d.p_holm),
            f"[{style}]{d.verdict}[/]" if style else d.verdict,
        )
    out.print(table)


def print_expectations(result: Result) -> None:
    """Which expectation failed, and how often with each controller."""
    failures = result.failures
    failing = [name for name in failures.index if any(not told.startswith("0 ") for told in failures.loc[name])]
    if not failing:
        return
    say("")
    table = grid("failed", *map(str, failures.columns), fold=True)
    for name in failing:
        table.add_row(str(name), *map(str, failures.loc[name]))
    out.print(table)


def print_single(result: Result) -> None:
    """Means of the one controller there is."""
    table = grid("metric", "mean", "least", "most")
    for name, unit, _ in result.metrics:
        values = result.trials[name]
        table.add_row(with_unit(name, unit), *(number(float(v)) for v in (values.mean(), values.min(), values.max())))
    out.print(table)
    say(f"{int(result.trials['passed'].sum())} of {len(result.trials)} trials passed.")


def print_edges(result: Result) -> None:
    """Where trials turn from passing to failing, where chance alone would hardly make it look so."""
    for edge in result.edges():
        if edge.is_clear:
            say(edge_sentence(edge))


def print_effects(result: Result) -> None:
    """Which varied quantities matter, the clearest first."""
    clear = [e for e in result.effects() if e.is_clear and "−" not in e.controller]
    for effect in clear[:MOST_LINES]:
        say(effect_sentence(effect))
    if len(clear) > MOST_LINES:
        say(f"… and {len(clear) - MOST_LINES} more effects; the page has all of them")


def print_doubts(result: Result) -> None:
    """What the verdicts hang on, if it was looked at."""
    if (doubts := result.about.get("doubts")) is None:
        return
    say("")
    for line in doubt_lines(doubts)[:MOST_LINES]:
        say(line)


def print_failures(result: Result) -> None:
    """Trials that were aborted, with the reason; the first of many."""
    rows = result.trials[result.trials["failed"]].to_dict("records")
    for row in rows[:8]:
        say(f"aborted: {row['controller']} trial {row['trial']}: {row['reason']}")
    if len(rows) > 8:
        say(f"aborted: {len(rows) - 8} more trials")


def print_caveats(result: Result) -> None:
    """What is to be known of the results."""
    for text in result.caveats:
        say(f"note: {text}")


def print_notices(result: Result) -> None:
    """What was told of the trials, each once."""
    for text, trials in result.notices.items():
        more = f" and {len(trials) - 1} more trials" if len(trials) > 1 else ""
        say(f"note: {trials[0]}{more}: {text}")


def print_outcome(recording: Recording) -> None:
    """How a trial ended."""
    outcome = recording.outcome
    word = "aborted" if outcome["failed"] else "passed" if outcome["passed"] else "did not pass"
    say(f"{word} at {outcome['time']:.4g} s: {outcome['reason']}")
    words = {True: "met", False: "broken", None: "not judged"}
    width = max((len(words[v["passed"]]) for v in outcome["expectations"].values()), default=0)
    for name, verdict in outcome["expectations"].items():
        when = f" at {verdict['time']:.4g} s" if verdict["time"] is not None else ""
        if "margin" in verdict:
            unit = f" {verdict['unit']}" if verdict["unit"] else ""
            nearest = "" if verdict["nearest"] == verdict["time"] else f", nearest at {verdict['nearest']:.4g} s"
            when += f" (margin {number(verdict['margin'])}{unit}{nearest})"
        say(f"  {words[verdict['passed']]:<{width}} {name}{when}")
    for text in outcome.get("notices", ()):
        say(f"  note: {text}")


def print_streams(log: Log) -> None:
    """The streams of a log, a line each; of a trial's recording also how it ended."""
    from veldrain.recording import Recording

    recording = log if isinstance(log, Recording) else None
    if recording and recording.cut:
        say(f"{recording.path}: {recording.cut}")
    if recording and (about := recording.metadata):
        units = about.get("units", {})
        drawn = ", ".join(
            f"{k} {v}" if isinstance(v, str) else f"{k} {number(v)} {units.get(k, '')}".rstrip()
            for k, v in about.get("drawn", {}).items()
        )
        named = [
            use
            for told in about.get("controllers", {}).values()
            for use in (told.values() if isinstance(told, dict) else [told])
        ]
        who = about.get("controller") or ", ".join(named) or "no controller"
        say(f"{who}, seed {about['seed']}" + (f"; drawn: {drawn}" if drawn else ""))
        print_outcome(recording)
        say("")
    table = grid("stream", "message", "messages", "rate (Hz)", "first (s)", "last (s)", "gaps", left=2)
    for name, s in log.streams.items():
        rate = number(s.rate) if s.rate else "–"
        table.add_row(
            name,
            s.message,
            str(s.count),
            rate,
            f"{s.first:.3f}" if s.count else "–",
            f"{s.last:.3f}" if s.count else "–",
            str(s.gaps) if s.rate else "–",
        )
    out.print(table)


def unused(wanted: Path) -> Path:
    """The wanted path, or the first with a number behind its name where nothing is yet."""
    path, number = wanted, 2
    while path.exists():
        path, number = wanted.with_stem(f"{wanted.stem}-{number}"), number + 1
    return path
