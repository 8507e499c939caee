"""Figures of a study: paths over the plan, streams over time, paired differences."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.layout_engine import ConstrainedLayoutEngine
from matplotlib.lines import Line2D
from matplotlib.patches import Polygon

from veldrain.errors import VeldrainError
from veldrain.files import whole_file
from veldrain.pose import Array
from veldrain.study import Fitted, Result
from veldrain.study.boundaries import Boundary
from veldrain.study.effects import Effect
from veldrain.study.statistics import Comparison

# Told apart by who sees colours otherwise, too (M. Okabe, K. Ito, "Color universal design", 2008).
COLOURS = ("#0072b2", "#d55e00", "#009e73", "#cc79a7", "#b58900", "#56b4e9")
DASHES: tuple[Any, ...] = (
    "-",
    (0, (5, 2)),
    (0, (1, 1.5)),
    (0, (5, 2, 1, 2)),
)  # of robots, and of controllers beyond six
MOST_PATHS = 40  # trials of a controller whose path is drawn, or which go into a band
MOST_DOTS = 400
STONE, SILT, INK, QUIET = "#8d8a83", "#d9c9a3", "#22262a", "#6f767d"
STYLE = {
    "text.parse_math": False,  # a $ in a name is a $
    "font.family": "DejaVu Sans",
    "font.size": 9.5,
    "text.color": INK,
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
        with whole_file(Path(out)) as part:
            figure.savefig(part, dpi=130)
    except ValueError as error:
        cure = "name a PNG, PDF or SVG file"
        raise VeldrainError(f"cannot be written ({error})", where=str(out), cure=cure) from error


def colour_of(result: Result, controller: str) -> str:
    """A controller's colour, the same in all figures."""
    return COLOURS[list(result.about["controllers"]).index(controller) % len(COLOURS)]


def kept(result: Result, controller: str, most: int = MOST_PATHS) -> list[tuple[int, bool]]:
    """Numbers of a controller's first trials whose recordings are there, and whether they passed."""
    own = result.trials[(result.trials["controller"] == controller) & (result.trials["file"] != "")]
    return [(int(t), bool(p)) for t, p in zip(own["trial"], own["passed"], strict=True)][:most]


def paths(result: Result) -> Figure | None:
    """The paths of trials over the world seen from above, a panel a controller; None without poses.

    Each robot has a kind of line of its own.
    """
    controllers = list(result.about["controllers"])
    figure = Figure(figsize=(11, 1.0 + 1.75 * len(controllers)), layout="constrained")
    panels = np.atleast_1d(figure.subplots(len(controllers), 1, sharex=True, sharey=True))
    drawn: list[Array] = []
    streams = list(result.about.get("paths", []))
    for panel, controller in zip(panels, controllers, strict=True):
        _draw_plan(panel, result.about.get("plan", []), names=panel is panels[0])
        colour = colour_of(result, controller)
        for trial, passed in kept(result, controller):
            recording = result.recording(controller, trial)
            for k, name in enumerate(s for s in streams if s in recording.messages):
                table = recording[name]
                if not len(table):
                    continue
                panel.plot(
                    table["x"], table["y"], color=colour, ls=DASHES[k % len(DASHES)], lw=1.1, alpha=0.75, zorder=3
                )
                panel.plot(table["x"].iloc[0], table["y"].iloc[0], "o", ms=3, color=INK, zorder=4)
                if not passed:
                    panel.plot(table["x"].iloc[-1], table["y"].iloc[-1], "x", ms=6, mew=1.6, color=INK, zorder=4)
                drawn.append(table[["x", "y"]].to_numpy(float))
        panel.set_aspect("equal", adjustable="box")  # panels that share their axes know no other way
        panel.set_title(controller, loc="left", fontsize=10, color=colour, fontweight="bold")
        panel.set_ylabel("y, m")
    panels[-1].set_xlabel("x, m      ● start   ✕ end of a trial that did not pass")
    if not drawn:
        return None
    if len(streams) > 1:
        lines = [Line2D([], [], color=INK, ls=DASHES[k % len(DASHES)]) for k in range(len(streams))]
        names = [name.rpartition("/")[0] for name in streams]
        panels[0].legend(
            lines, names, frameon=False, loc="lower right", bbox_to_anchor=(1, 1), ncols=4, borderaxespad=0.2
        )
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
        recordings = [result.recording(controller, trial) for trial, _ in kept(result, controller)]
        tables = [r[stream] for r in recordings if stream in r.messages]
        series = [t[["time", column]].to_numpy(float) for t in tables if len(t) and column in t]
        if not series:
            continue
        grid = np.linspace(0.0, max(s[-1, 0] for s in series), 400)
        # Past its end a trial says nothing: the spread is over the trials that still run.
        values = np.array([np.interp(grid, s[:, 0], s[:, 1], right=np.nan) for s in series])
        low, middle, high = _quantiles(values)
        colour, all_run = colour_of(result, controller), min(s[-1, 0] for s in series)
        panel.fill_between(grid, low, high, color=colour, alpha=0.18, lw=0)
        whole = grid <= all_run
        panel.plot(grid[whole], middle[whole], color=colour, lw=1.8, label=f"{controller} ({len(series)} trials)")
        panel.plot(grid[grid >= all_run], middle[grid >= all_run], color=colour, lw=1.2, ls=DASHES[2])
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


def residuals(fitted: Fitted, path: str | Path) -> None:
    """Draw what was logged, and what is simulated before and after a fit; below it what is left."""
    columns = list(dict.fromkeys(fitted.residuals["column"]))
    figure = Figure(figsize=(11, 3.4 * len(columns)), layout="constrained")
    figure.set_facecolor("white")
    panels = figure.subplots(len(columns), 2, squeeze=False, width_ratios=(3, 2))
    for (left, right), column in zip(panels, columns, strict=True):
        for number, own in fitted.residuals[fitted.residuals["column"] == column].groupby("log"):
            first = number == 1
            left.plot(own["time"], own["logged"], ".", ms=4, color=INK, label="logged" if first else None)
            left.plot(own["time"], own["before"], color=COLOURS[1], lw=1.2, label="before" if first else None)
            left.plot(own["time"], own["after"], color=COLOURS[0], lw=1.6, label="after" if first else None)
            right.plot(own["time"], own["after"] - own["logged"], ".", ms=4, color=COLOURS[0])
        right.axhline(0.0, color=QUIET, lw=0.7)
        unit = fitted.column_units.get(column, "")
        left.set_title(f"{column}{', ' + unit if unit else ''}", loc="left", fontsize=10)
        rest = f"after − logged, RMS {fitted.after[column]:.3g} {unit}".rstrip()
        right.set_title(rest, loc="left", fontsize=10)
        for panel in (left, right):
            panel.set_xlabel("time, s")
        left.legend(frameon=False)
    saved(figure, path)


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
    """For each metric the differences of the pairs that the statistics use, their pseudo-median and its interval.

    Of many pairs an even choice is drawn. What is infinite stands at the edge.
    """
    columns = 3
    rows = math.ceil(len(comparison.differences) / columns)
    figure = Figure(figsize=(11, 2.3 * rows), layout=ConstrainedLayoutEngine(w_pad=0.12, h_pad=0.12))
    panels = np.atleast_1d(figure.subplots(rows, columns, squeeze=False)).ravel()
    for panel in panels[len(comparison.differences) :]:
        panel.set_visible(False)
    for panel, d in zip(panels, comparison.differences, strict=False):
        pairs = comparison.pairs[d.metric, d.controller]
        if len(pairs) > MOST_DOTS:
            pairs = np.sort(pairs)[np.linspace(0, len(pairs) - 1, MOST_DOTS).round().astype(int)]
        known = pairs[np.isfinite(pairs)]
        ends = np.append(known, [0.0, *(x for x in (d.low, d.high) if math.isfinite(x))])
        span = max(
            float(np.ptp(ends)), 1e-9 * max(abs(d.baseline), abs(d.other), 1e-3) if math.isfinite(d.other) else 1e-9
        )
        low, high = float(ends.min()) - 0.12 * span, float(ends.max()) + 0.12 * span
        heights = np.linspace(0.15, 0.85, len(pairs)) if len(pairs) > 1 else np.full(len(pairs), 0.5)
        colour, finite = colour_of(result, d.controller), np.isfinite(pairs)
        panel.plot(pairs[finite], heights[finite], "o", ms=4, color=colour, alpha=0.6, mec="none")
        for sign, mark in ((1, ">"), (-1, "<")):
            gone = pairs == sign * math.inf
            panel.plot(
                np.full(gone.sum(), high if sign > 0 else low), heights[gone], mark, ms=5, color=colour, mec="none"
            )
        panel.axvline(0.0, color=INK, lw=0.9)
        if d.matters > 0:
            panel.axvspan(max(-d.matters, low), min(d.matters, high), color=QUIET, alpha=0.12, lw=0)
        if not math.isnan(d.low):
            panel.plot(np.clip([d.low, d.high], low, high), [1.12, 1.12], color=INK, lw=2.2, solid_capstyle="butt")
        if math.isfinite(d.difference):
            panel.plot(d.difference, 1.12, "D", ms=5, color=INK)
        if math.isfinite(d.mean):
            panel.plot(np.clip(d.mean, low, high), 1.12, "|", ms=11, mew=2, color=colour)
        panel.set_xlim(low, high)
        panel.set_ylim(0, 1.3)
        panel.set_yticks([])
        panel.spines["left"].set_visible(False)
        panel.locator_params(axis="x", nbins=5)
        panel.set_title(f"{d.metric}{', ' + d.unit if d.unit else ''}", loc="left", fontsize=9.5, color=INK)
        side = "left" if d.better == "lower" else "right"
        panel.set_xlabel(f"{d.controller} − {comparison.baseline} ({side} is better)", fontsize=8.5)
    return figure


def effects(found: list[Effect], controllers: list[str]) -> Figure | None:
    """Strength of each varied quantity for each metric, a panel a controller; faint where chance would make it."""
    alone = [e for e in found if "×" not in e.quantity and e.controller in controllers]
    quantities = list(dict.fromkeys(e.quantity for e in sorted(alone, key=lambda e: e.quantity)))
    metrics = list(dict.fromkeys(e.metric for e in sorted(alone, key=lambda e: e.metric)))
    who = [c for c in controllers if any(e.controller == c for e in alone)]
    if not alone:
        return None
    figure = Figure(figsize=(11, 0.9 + (0.34 * len(metrics) + 0.5) * len(who)), layout="constrained")
    panels = np.atleast_1d(figure.subplots(len(who), 1, sharex=True))
    for panel, controller in zip(panels, who, strict=True):
        for e in (e for e in alone if e.controller == controller):
            x, y = quantities.index(e.quantity), metrics.index(e.metric)
            colour = COLOURS[0] if e.strength > 0 else COLOURS[1]
            width = min(abs(e.strength), 1.0) * 0.78
            panel.barh(y, width, left=x, height=0.62, color=colour, alpha=0.95 if e.is_clear else 0.22)
            panel.text(x + width + 0.02, y, f"{e.strength:+.2f}".replace("-", "−"), va="center", fontsize=8, color=INK)
        panel.set_yticks(range(len(metrics)), metrics)
        panel.set_ylim(len(metrics) - 0.5, -0.5)
        panel.set_xlim(-0.02, len(quantities) + 0.15)
        panel.set_title(controller, loc="left", fontsize=10, color=INK)
        for x in range(len(quantities)):
            panel.axvline(x, color=QUIET, lw=0.6)
    panels[-1].set_xticks(np.arange(len(quantities)), quantities, ha="left")
    return figure


def boundary(result: Result, found: Boundary, pair: tuple[str, str]) -> Figure:
    """Trials that passed and failed over two quantities, with the line where the chance is one half."""
    figure = Figure(figsize=(7.2, 4.2), layout="constrained")
    panel = figure.subplots()
    own = result.trials[result.trials["controller"] == found.controller]
    passed = own["passed"].to_numpy(bool)
    x, y = (own[name].to_numpy(float) for name in pair)
    panel.plot(
        x[passed],
        y[passed],
        "o",
        ms=5,
        color=colour_of(result, found.controller),
        alpha=0.7,
        mec="none",
        label="passed",
    )
    panel.plot(x[~passed], y[~passed], "x", ms=6, mew=1.8, color=INK, label="failed")
    across, up = (np.linspace(v.min(), v.max(), 80) for v in (x, y))
    points = np.tile(found.middle, (80 * 80, 1))
    for name, values in zip(pair, np.meshgrid(across, up), strict=True):
        points[:, found.quantities.index(name)] = values.ravel()
    chance = found.chance(points).reshape(80, 80)
    panel.contourf(across, up, chance, levels=[0.0, 0.1, 0.5, 0.9, 1.0], colors=[QUIET] * 4, alpha=0.0)
    panel.contour(
        across,
        up,
        chance,
        levels=[0.1, 0.5, 0.9],
        colors=QUIET,
        linewidths=[0.8, 1.8, 0.8],
        linestyles=["--", "-", "--"],
    )
    for axis, name in ((panel.set_xlabel, pair[0]), (panel.set_ylabel, pair[1])):
        unit = found.units[found.quantities.index(name)]
        axis(f"{name}{', ' + unit if unit else ''}")
    panel.legend(frameon=False, fontsize=8.5, loc="lower right", bbox_to_anchor=(1.0, 1.0), ncols=2, borderaxespad=0.2)
    panel.set_title(f"{found.controller}: {found.failed} of {found.trials} failed", loc="left", fontsize=9.5, color=INK)
    return figure


def two_over_time(series: list[tuple[str, str, Array]], title: str, moment: float | None) -> Figure:
    """A column of two trials over time: name, colour and (n, 2) times and values of each."""
    figure = Figure(figsize=(11, 2.6), layout="constrained")
    panel = figure.subplots()
    for k, (name, colour, rows) in enumerate(series):
        panel.plot(rows[:, 0], rows[:, 1], color=colour, lw=1.6, ls=DASHES[min(k, 1)], label=name)
    if moment is not None:
        panel.axvline(moment, color=QUIET, lw=1.0, ls="--")
    panel.set_xlabel("time, s")
    panel.set_ylabel(title)
    panel.legend(frameon=False, loc="lower right", bbox_to_anchor=(1.0, 1.0), ncols=2, borderaxespad=0.2)
    panel.margins(x=0.01)
    return figure
