"""Figures of a study: paths over the plan, streams over time, paired differences."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.layout_engine import ConstrainedLayoutEngine
from matplotlib.patches import Polygon

from veldrain.errors import VeldrainError
from veldrain.pose import Array
from veldrain.study import Result
from veldrain.study.statistics import Comparison

COLOURS = ("#3b6ea5", "#c8553d", "#588b4c", "#8a5a9e", "#b08830", "#4a8f8f")
STONE, SILT, INK, QUIET = "#8d8a83", "#d9c9a3", "#22262a", "#6f767d"
STYLE = {
    "font.family": "DejaVu Sans",
    "font.size": 9.5,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.edgecolor": QUIET,
    "axes.labelcolor": INK,
    "xtick.color": QUIET,
    "ytick.color": QUIET,
    "figure.facecolor": "none",
    "axes.facecolor": "none",
    "svg.hashsalt": "veldrain",  # the same figure gives the same bytes
}


def saved(figure: Figure, out: str | Path) -> None:
    """Write a figure to a file.

    Raises:
        VeldrainError: it cannot be written.
    """
    try:
        figure.savefig(out, dpi=130)
    except (OSError, ValueError) as error:
        cure = "name a PNG, PDF or SVG file"
        raise VeldrainError(f"cannot be written ({error})", where=str(out), cure=cure) from error


def colour_of(result: Result, controller: str) -> str:
    """A controller's colour, the same in all figures."""
    return COLOURS[list(result.about["controllers"]).index(controller) % len(COLOURS)]


def paths(result: Result) -> Figure | None:
    """The paths of all trials over the world seen from above, a panel a controller; None without poses."""
    controllers = list(result.about["controllers"])
    figure = Figure(figsize=(11, 1.0 + 1.75 * len(controllers)), layout="constrained")
    panels = np.atleast_1d(figure.subplots(len(controllers), 1, sharex=True, sharey=True))
    drawn: list[Array] = []
    for panel, controller in zip(panels, controllers, strict=True):
        _draw_plan(panel, result.about.get("plan", []), names=panel is panels[0])
        for row in result.trials[result.trials["controller"] == controller].itertuples():
            recording = result.recording(controller, int(row.trial))
            for name in result.about.get("paths", []):
                if name in recording.messages and len(recording[name]):
                    table = recording[name]
                    panel.plot(
                        table["x"], table["y"], color=colour_of(result, controller), lw=1.1, alpha=0.75, zorder=3
                    )
                    panel.plot(table["x"].iloc[0], table["y"].iloc[0], "o", ms=3, color=INK, zorder=4)
                    if not row.passed:
                        panel.plot(table["x"].iloc[-1], table["y"].iloc[-1], "x", ms=6, mew=1.6, color=INK, zorder=4)
                    drawn.append(table[["x", "y"]].to_numpy(float))
        panel.set_aspect("equal", adjustable="box")  # panels that share their axes know no other way
        panel.set_title(controller, loc="left", fontsize=10, color=colour_of(result, controller), fontweight="bold")
        panel.set_ylabel("y, m")
    panels[-1].set_xlabel("x, m      ● start   ✕ end of a trial that did not pass")
    if not drawn:
        return None
    low, high = np.nanmin(np.concatenate(drawn), axis=0), np.nanmax(np.concatenate(drawn), axis=0)
    room = max(0.1 * np.ptp([low, high], axis=0).max(), 2.0)
    if np.ptp(panels[0].get_xlim()) > 2.0 * (high[0] - low[0] + 2 * room):  # a plan of roads goes on far beyond
        panels[0].set_xlim(low[0] - room, high[0] + room)
        panels[0].set_ylim(low[1] - room, high[1] + room)
    return figure


def _draw_plan(panel: Axes, plan: list[dict[str, Any]], names: bool) -> None:
    for thing in plan:
        outline = np.array(thing["outline"])
        patch = thing["kind"] == "patch"
        panel.add_patch(Polygon(outline, closed=True, fc=SILT if patch else STONE, ec="none", zorder=0 if patch else 1))
        if names and patch:
            # Beside the middle, where the paths run.
            low, high = outline.min(axis=0), outline.max(axis=0)
            panel.text(low[0] + 0.06, high[1] - 0.06, thing["name"], color="#7a6633", fontsize=8.5, va="top", zorder=5)
    if plan:
        corners = np.concatenate([t["outline"] for t in plan])
        margin = 0.02 * np.ptp(corners, axis=0).max()
        panel.set_xlim(corners[:, 0].min() - margin, corners[:, 0].max() + margin)
        panel.set_ylim(corners[:, 1].min() - margin, corners[:, 1].max() + margin)


def over_time(result: Result, stream: str, column: str, unit: str) -> Figure:
    """One column of a stream over time, each controller's median and the middle 80 % of its trials."""
    figure = Figure(figsize=(11, 3.1), layout="constrained")
    panel = figure.subplots()
    shown: list[Array] = []
    for controller in result.about["controllers"]:
        rows = result.trials[result.trials["controller"] == controller]
        recordings = [result.recording(controller, int(t)) for t in rows["trial"]]
        tables = [r[stream] for r in recordings if stream in r.messages]
        series = [t[["time", column]].to_numpy(float) for t in tables if len(t) and column in t]
        if not series:
            continue
        grid = np.linspace(0.0, max(s[-1, 0] for s in series), 400)
        # Past its end a trial says nothing: the spread is over the trials that still run.
        values = np.array([np.interp(grid, s[:, 0], s[:, 1], right=np.nan) for s in series])
        low, middle, high = _quantiles(values)
        colour = colour_of(result, controller)
        panel.fill_between(grid, low, high, color=colour, alpha=0.18, lw=0)
        panel.plot(grid, middle, color=colour, lw=1.8, label=f"{controller} ({len(series)} trials)")
        shown += [low, high]
    values = np.concatenate([*shown, np.zeros(0)])
    values = values[np.isfinite(values)]
    if len(values) and values.min() > 0.0 and values.max() > 300.0 * values.min():  # such as a time to collision
        panel.set_yscale("log")
    else:
        panel.axhline(0.0, color=QUIET, lw=0.7, zorder=0)
    panel.set_xlabel("time, s")
    panel.set_ylabel(column_title(stream, column) + (f", {unit}" if unit else ""))
    panel.legend(frameon=False, loc="lower right", bbox_to_anchor=(1.0, 1.0), ncols=4, borderaxespad=0.2)
    panel.margins(x=0.01)
    return figure


def column_title(stream: str, column: str) -> str:
    """What a figure calls a column: the last part of its stream where there is only one."""
    return stream.rpartition("/")[2].replace("_", " ") if column == "data" else column


def edges(result: Result) -> Figure | None:
    """Failed and passed trials over the two quantities that part them best, a panel a controller that does both.

    None where none does, or nothing was varied.
    """
    found = result.edges()
    names = [name for name in result.about["controllers"] if any(edge.controller == name for edge in found)]
    if not names:
        return None
    figure = Figure(figsize=(11, 3.4 * math.ceil(len(names) / 2)), layout="constrained")
    panels = np.atleast_1d(figure.subplots(math.ceil(len(names) / 2), 2, squeeze=False)).ravel()
    for panel in panels[len(names) :]:
        panel.set_visible(False)
    for panel, name in zip(panels, names, strict=False):
        rows = result.trials[result.trials["controller"] == name]
        mine = [edge for edge in found if edge.controller == name][:2]
        passed = rows["passed"].to_numpy(bool)
        columns = [rows[edge.quantity].to_numpy(float) for edge in mine]
        x, y = columns if len(columns) == 2 else (columns[0], rows["trial"].to_numpy(float))
        panel.plot(
            x[passed], y[passed], "o", ms=6, color=colour_of(result, name), alpha=0.75, mec="none", label="passed"
        )
        panel.plot(x[~passed], y[~passed], "x", ms=7, mew=2, color=INK, label="failed")
        if mine[0].is_clear:
            panel.axvline(mine[0].edge, color=QUIET, lw=1.0, ls="--")
        if len(mine) == 2 and mine[1].is_clear:
            panel.axhline(mine[1].edge, color=QUIET, lw=1.0, ls="--")
        titles = [f"{edge.quantity}{', ' + edge.unit if edge.unit else ''}" for edge in mine]
        panel.set_xlabel(titles[0])
        panel.set_ylabel(titles[1] if len(titles) == 2 else "trial")
        panel.set_title(f"{name}: {(~passed).sum()} of {len(passed)} failed", loc="left", fontsize=9.5, color=INK)
    panels[0].legend(frameon=False, fontsize=8.5, loc="best")
    return figure


def _quantiles(values: Array) -> tuple[Array, Array, Array]:
    """10 %, 50 % and 90 % of each column; nan where fewer than half of the trials still run."""
    values = np.where(np.isfinite(values), values, np.nan)  # a gap to nobody is infinite
    enough = np.isfinite(values).sum(axis=0) * 2 >= len(values)
    found = np.full((3, values.shape[1]), np.nan)
    found[:, enough] = np.nanquantile(values[:, enough], (0.1, 0.5, 0.9), axis=0)
    return found[0], found[1], found[2]


def differences(result: Result, comparison: Comparison) -> Figure:
    """For each metric the difference of every pair, their median and its 95 % interval."""
    columns = 3
    rows = math.ceil(len(comparison.differences) / columns)
    figure = Figure(figsize=(11, 2.3 * rows), layout=ConstrainedLayoutEngine(w_pad=0.12, h_pad=0.12))
    better = {name: way for name, _, way in result.metrics}
    panels = np.atleast_1d(figure.subplots(rows, columns, squeeze=False)).ravel()
    for panel in panels[len(comparison.differences) :]:
        panel.set_visible(False)
    for panel, d in zip(panels, comparison.differences, strict=False):
        table = result.trials.pivot_table(index="trial", columns="controller", values=d.metric, dropna=False)
        pairs = (table[d.controller] - table[comparison.baseline]).dropna().to_numpy()
        # Spread over the height by number, so that equal values do not hide each other.
        heights = np.linspace(0.15, 0.85, len(pairs)) if len(pairs) > 1 else np.full(len(pairs), 0.5)
        panel.plot(pairs, heights, "o", ms=4, color=colour_of(result, d.controller), alpha=0.6, mec="none")
        panel.axvline(0.0, color=INK, lw=0.9)
        if math.isfinite(d.low):
            panel.plot([d.low, d.high], [1.12, 1.12], color=INK, lw=2.2, solid_capstyle="butt")
        if math.isfinite(d.difference):
            panel.plot(d.difference, 1.12, "D", ms=5, color=INK)
        panel.set_ylim(0, 1.3)
        panel.set_yticks([])
        panel.spines["left"].set_visible(False)
        panel.locator_params(axis="x", nbins=5)
        low, high = panel.get_xlim()
        panel.set_xlim(min(low, -0.12 * (high - low)), max(high, 0.12 * (high - low)))
        panel.set_title(f"{d.metric}{', ' + d.unit if d.unit else ''}", loc="left", fontsize=9.5, color=INK)
        side = "left" if better[d.metric] == "lower" else "right"
        panel.set_xlabel(f"{d.controller} − {comparison.baseline} ({side} is better)", fontsize=8.5)
    return figure
