"""The page of a study: what was asked, what came of it and how sure that is, in one HTML file."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator
from importlib.resources import files
from io import StringIO
from pathlib import Path
from typing import Any

import matplotlib as mpl
from jinja2 import Environment, StrictUndefined
from markupsafe import Markup
from matplotlib.figure import Figure

from veldrain.errors import VeldrainError
from veldrain.files import write_text
from veldrain.kernel import is_compiled
from veldrain.report import figures
from veldrain.report.moments import Moment, moments
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
    verdicts,
    with_unit,
)
from veldrain.report.viewer.making import page as show
from veldrain.study import Result
from veldrain.study.metrics import expectation_columns
from veldrain.study.statistics import Comparison

MOST_ROWS = 2000  # in the table of trials: those that failed come first
MOST_FIGURES = 6  # of streams over time
PAIRS = "pairs"  # folder of the pages of pairs
Drawn = tuple[str, str, Markup]


def write_page(result: Result, comparison: Comparison | None, path: Path, pictures: bool | None = None) -> Path:
    """Write the page of a study.

    Args:
        result: the study's results.
        comparison: of its controllers; None where there is only one.
        path: of the HTML file.
        pictures: True draws the moments of the worst and the median pair; None: where what paints is compiled already.
    """
    template = files("veldrain.report").joinpath("page.html").read_text(encoding="utf-8")
    page = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    page.filters |= {"number": number, "signed": signed, "p": probability, "percent": percent, "kind": kind_of}
    paint = is_compiled("painting.paint") if pictures is None else pictures
    effects = result.effects()
    with mpl.rc_context(figures.STYLE):  # type: ignore[arg-type]
        pairs = [
            (m.title, m.pictures, _svg(m.figure) if m.figure else "", _pair_page(m, path.parent))
            for m in (moments(result, comparison, paint) if comparison else ())
        ]
        drawn = list(_differences(result, comparison)) + list(_over_time(result))
        found = list(_effects_and_boundaries(result, effects))
    rows, left = _rows(result)
    html = page.from_string(template).render(
        about=result.about,
        comparison=comparison,
        headline=headline(comparison) if comparison else [],
        how_sure=how_sure(result.about.get("doubts")),
        findings=verdicts(comparison) if comparison else [],
        remarks=remarks(comparison) if comparison else [],
        failures=_failures(result),
        moments=pairs,
        effects=[effect_sentence(e) for e in effects if e.is_clear][:12],
        boundaries=found,
        doubts=result.about.get("doubts"),
        doubt_lines=doubt_lines(result.about.get("doubts") or ()),
        drawn=drawn,
        changes=result.about.get("changes", {}),
        caveats=result.caveats,
        notices=result.notices,
        colours={name: figures.colour_of(result, name) for name in result.about["controllers"]},
        counts=result.trials.groupby("controller", sort=False)["passed"].agg(["sum", "count"]).to_dict("index")
        if not result.trials.empty
        else {},
        rows=Markup(json.dumps(rows, separators=(",", ":")).replace("<", "\\u003c").replace("&", "\\u0026")),
        left=left,
        total=len(result.trials),
    )
    write_text(path, html)
    return path


def _pair_page(moment: Moment, folder: Path) -> str:
    """The page that shows both trials of a pair, beside the report; its address from there."""
    address = f"{PAIRS}/{moment.name}.html"
    for old in (folder / PAIRS).glob(f"{moment.name.partition('-')[0]}-*.html"):  # of other trials, before
        old.unlink()
    show(list(moment.recordings.values()), folder / address, names=list(moment.recordings))
    return address


def _failures(result: Result) -> list[dict[str, Any]]:
    """Each expectation: how often it failed with each controller, and in which trials."""
    found = []
    table = result.failures
    for name in table.index:
        cells = {}
        for controller in table.columns:
            own = result.trials[result.trials["controller"] == controller]
            column = expectation_columns(str(name))[0]
            is_it = own[column].eq(False) if column in own else own["failed"].astype(bool)
            numbers = [int(t) for t in own["trial"][is_it]]
            more = f", … {len(numbers) - 12} more" if len(numbers) > 12 else ""
            cells[str(controller)] = (table.loc[name, controller], ", ".join(map(str, numbers[:12])) + more)
        found.append({"name": str(name), "cells": cells})
    return found


def _differences(result: Result, comparison: Comparison | None) -> Iterator[Drawn]:
    if comparison and comparison.differences:
        text = (
            "Dots: one a pair of trials that met the same draws, without those that were aborted or are copies. "
            "Diamond and bar: their pseudo-median and its interval; upright stroke: their mean; grey: what does not "
            "matter. Arrows at the edge are infinite."
        )
        yield "Paired differences", text, _svg(figures.differences(result, comparison))


def _over_time(result: Result) -> Iterator[Drawn]:
    """Paths, and the streams of metrics over time, of the recordings that were kept."""
    most = max((len(figures.kept(result, c, 10**6)) for c in result.about["controllers"]), default=0)
    some = f" The first {figures.MOST_PATHS} of each that were recorded." if most > figures.MOST_PATHS else ""
    if not most:
        return
    plan = figures.paths(result)
    if plan:
        yield "Paths", f"Each trial's true path over the plan of the world.{some}", _svg(plan)
    seen: set[tuple[str, str]] = set()
    for metric in result.about["metrics"]:
        stream, column = str(metric.get("stream", "")), str(metric.get("column", ""))
        if not stream or any(c in column for c in "*[") or (stream, column) in seen or len(seen) >= MOST_FIGURES:
            continue
        seen.add((stream, column))
        title = f"{stream}{'' if column == 'data' else f' {column}'} over time"
        text = f"Line: median of the trials, dotted once some have ended. Band: the middle 80 % of them.{some}"
        try:
            yield title, text, _svg(figures.over_time(result, stream, column, metric.get("reads_in", "")))
        except (TypeError, ValueError):  # a column of arrays
            continue


def _effects_and_boundaries(result: Result, effects: list[Any]) -> Iterator[Drawn]:
    any_clear = any(e.is_clear for e in effects)
    drawn = figures.effects(effects, list(result.about["controllers"])) if any_clear else None
    if drawn:
        text = "Standardised coefficients of the ranks; faint where chance would make as much."
        yield "What matters for what", text, _svg(drawn)
    parted = figures.edges(result)
    if parted:
        told = [edge_sentence(edge) for edge in result.edges() if edge.is_clear]
        text = " ".join(told) or "No varied quantity alone parts failed from passed trials more than chance would."
        yield "Where it fails", text, _svg(parted)
    if len(result.about["vary"]) < 2:
        return
    for controller in result.about["controllers"]:
        names = [
            e.quantity for e in effects if e.metric == "passed" and e.controller == controller and "×" not in e.quantity
        ]
        pair = (names + [q for q in result.about["vary"] if q not in names])[:2]
        try:
            found = result.boundary(controller, pair)
        except VeldrainError:  # all passed, none did, or too few
            continue
        if found.is_clear:
            text = (
                f"The chance of passing is one half along the line, a tenth and nine tenths along the dashes "
                f"({percent(found.right)} of the trials lie on their own side)."
            )
            yield f"Boundary of {controller}", text, _svg(figures.boundary(result, found, (pair[0], pair[1])))


def _rows(result: Result) -> tuple[dict[str, Any], int]:
    """The table of trials as columns, those that did not pass first; how many were left out."""
    trials = result.trials
    if trials.empty:
        return {"heads": [], "rows": []}, 0
    shown = (
        trials.sort_values("passed", kind="stable").head(MOST_ROWS).sort_index() if len(trials) > MOST_ROWS else trials
    )
    columns = [("controller", "controller"), ("trial", "trial"), ("reason", "ended"), ("passed", "passed")]
    columns += [(path, with_unit(path, unit)) for path, unit in result.about["vary"].items()]
    columns += [(name, with_unit(name, unit)) for name, unit, _ in result.metrics]
    rows = []
    for row in shown.to_dict("records"):
        rows.append([_cell(row[name]) for name, _ in columns] + [row["file"]])
    return {"heads": [title for _, title in columns], "rows": rows}, len(trials) - len(shown)


def _cell(value: Any) -> Any:
    if isinstance(value, str | bool) or value is None:
        return value
    if isinstance(value, float) and not math.isfinite(value):
        return None if math.isnan(value) else "∞" if value > 0 else "−∞"
    return (
        float(f"{float(value):.6g}") if isinstance(value, float) else int(value) if hasattr(value, "__int__") else value
    )


def _svg(figure: Figure) -> Markup:
    """A figure as SVG whose ink is that of the page, by day and by night."""
    out = StringIO()
    figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None})
    text = out.getvalue()
    for colour, word in ((figures.INK, "ink"), (figures.QUIET, "quiet")):
        text = text.replace(colour, f"var(--{word})")
    return Markup(text[text.index("<svg") :])
