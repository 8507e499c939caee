"""Plots: columns of recordings, trajectories against their limits, answers of motors."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from pathlib import Path
from textwrap import shorten
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.control import StepResponse
from veldrain.errors import VeldrainError, unknown
from veldrain.motion import Chain, Trajectory
from veldrain.recording import Log, LogComparison
from veldrain.review import Coverage

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

SAMPLES = 600
MOST_ROWS = 8  # of events' words over a plot
LONGEST = 80  # characters of one event's words
CHARACTER = 0.0095  # width of one of them, as a share of the narrowest panel's


def plot(
    thing: Any,
    out: str | Path | None = None,
    *,
    columns: str | Sequence[str] | None = None,
    against: str | None = None,
    chain: Chain | None = None,
) -> Figure:
    """A plot of columns of recordings, of a trajectory, or of a motor's answer to a step.

    Args:
        thing: a ``Recording`` or another log, several of them by name or in a row, a ``Trajectory``, or what
            ``step_response``, ``coverage`` or ``compare_logs`` gave: of the last both logs over time, and below them
            the difference.
        out: PNG, PDF or SVG file to write.
        columns: of recordings: what to plot, each as ``stream.column``. Those of one unit share a
            panel; events are marked.
        against: … over this column instead of time, at the times of each column.
        chain: of a trajectory: the chain whose limits of position and speed are drawn, dashed.

    Returns:
        The figure.

    Raises:
        VeldrainError: what cannot be plotted, no such column, or a file that cannot be written.

    >>> plot(recording, "y.png", columns="crawler/truth.y")  # doctest: +SKIP
    """
    from matplotlib.figure import Figure

    if isinstance(thing, Trajectory):
        figure = Figure(figsize=(8, 8), layout="constrained")
        _trajectory(figure, thing, chain)
    elif isinstance(thing, LogComparison):
        figure = _comparison(thing, [columns] if isinstance(columns, str) else list(columns or ()))
    elif isinstance(thing, Coverage):
        from veldrain.report.birds_eye import coverage_figure

        figure = coverage_figure(thing)
    elif isinstance(thing, StepResponse):
        figure = Figure(figsize=(8, 5), layout="constrained")
        _answer(figure, thing)
    else:
        figure = _columns(_logs(thing), [columns] if isinstance(columns, str) else list(columns or ()), against)
    if out is not None:
        from veldrain.report.figures import saved

        saved(figure, out)
    return figure


def _comparison(found: LogComparison, columns: list[str]) -> Figure:
    """Columns of two logs over time, and below each the difference."""
    from matplotlib.figure import Figure

    from veldrain.report.figures import COLOURS

    if not columns:
        raise VeldrainError("no column is named", where="plot", cure="give columns='crawler/truth.y', or several")
    rows = {f"{row['stream']}.{row['column']}": row for row in found.table.to_dict("records")}
    figure = Figure(figsize=(9.85, 1.2 + 3.2 * len(columns)), layout="constrained")
    axes = figure.subplots(2 * len(columns), 1, sharex=True, height_ratios=[2, 1] * len(columns))
    for k, path in enumerate(columns):
        if path not in rows:
            raise unknown("column", path, rows, "plot")
        row, (upper, lower) = rows[path], axes[2 * k : 2 * k + 2]
        table = found.errors(row["stream"], row["column"])
        unit = f" ({row['unit']})" if row["unit"] else ""
        upper.plot(table["time"], table["a"], color=COLOURS[0], lw=1.4, label=found.names[0])
        upper.plot(table["time"], table["b"], color=COLOURS[1], lw=1.4, label=found.names[1])
        lower.plot(table["time"], table["error"], color="0.3", lw=1.0)
        upper.set_ylabel(f"{path}{unit}")
        lower.set_ylabel(f"b − a{unit}")
        upper.legend(frameon=False, loc="center left", bbox_to_anchor=(1.0, 0.5))
        told = f"RMS {row['RMS']:.3g}, largest {row['largest']:.3g}"
        lower.set_title(told, loc="left", fontsize=9)
        for ax in (upper, lower):
            ax.grid(alpha=0.25)
            ax.margins(x=0.01)
    axes[-1].set_xlabel("time (s)")
    return figure


def _logs(thing: Any) -> dict[str, Log]:
    """Logs by name."""
    logs = thing if isinstance(thing, Mapping) else {"": thing} if isinstance(thing, Log) else None
    if logs is None and isinstance(thing, Sequence):
        paths = [Path(getattr(log, "path", None) or f"run {k + 1}") for k, log in enumerate(thing)]
        for parts in (1, 2, 3):  # as much of their paths as tells them apart
            logs = {"/".join(p.with_suffix("").parts[-parts:]): log for p, log in zip(paths, thing, strict=True)}
            if len(logs) == len(thing):
                break
        else:
            logs = {f"run {k + 1}": log for k, log in enumerate(thing)}
    if not logs or not all(isinstance(log, Log) for log in logs.values()):
        raise VeldrainError(
            f"{type(thing).__name__} cannot be plotted",
            where="plot",
            cure="give a Recording, several of them, a Trajectory or a StepResponse",
        )
    return dict(logs)


def _columns(logs: dict[str, Log], columns: list[str], against: str | None) -> Figure:
    """Columns of logs over time or another column, a panel for each unit."""
    import matplotlib as mpl

    from veldrain.report.figures import COLOURS, INK, QUIET, STYLE

    if not columns:
        raise VeldrainError("no column is named", where="plot", cure="give columns='crawler/truth.y', or several")
    curves = []
    for k, (name, log) in enumerate(logs.items()):
        for path in columns:
            table, column, unit = log.column(path)
            x, across = (table["time"].to_numpy(float), "time (s)") if against is None else _across(log, against, table)
            curves.append((unit, path, name, k, x, table[column].to_numpy(float), across))
    panels = list(dict.fromkeys((unit, "" if unit else path) for unit, path, *_ in curves))
    style: dict[Any, Any] = STYLE | {"figure.facecolor": "white"}
    with mpl.rc_context(style):
        from matplotlib.figure import Figure

        figure = Figure(figsize=(9.85, max(1.2 + 2.4 * len(panels), 4.2)), layout="constrained")
        axes = np.atleast_1d(figure.subplots(len(panels), 1, sharex=True))
        styles = ("-", "--", ":", "-.")
        for unit, path, name, k, x, y, _ in curves:
            ax = axes[panels.index((unit, "" if unit else path))]
            here = list(dict.fromkeys(p for u, p, *_ in curves if (u, "" if u else p) == (unit, "" if unit else path)))
            colour = COLOURS[(k if len(logs) > 1 else columns.index(path)) % len(COLOURS)]
            dashes = styles[here.index(path) % len(styles)] if len(logs) > 1 else "-"
            words = name if len(here) == 1 and name else ", ".join(part for part in (name, path) if part)
            ax.plot(x, y, dashes, color=colour, lw=1.4, label=words)
        for (unit, path), ax in zip(panels, axes, strict=True):
            inside = list(dict.fromkeys(p for u, p, *_ in curves if (u, "" if u else p) == (unit, path)))
            what = inside[0] if len(inside) == 1 else ""
            ax.set_ylabel(f"{what} ({unit})" if what and unit else what or unit)
            ax.grid(alpha=0.25)
            ax.margins(x=0.01)
            if len(inside) * len(logs) > 1:
                ax.legend(frameon=False, loc="center left", bbox_to_anchor=(1.0, 0.5))
        axes[-1].set_xlabel(curves[0][6])
        if against is None:
            _mark_events(axes, logs, INK, QUIET)
    return figure


def _across(log: Log, against: str, table: pd.DataFrame) -> tuple[np.ndarray, str]:
    """Values of another column at the times of a table, and how its axis is called."""
    other, column, unit = log.column(against)
    x = np.interp(table["time"], other["time"], other[column].to_numpy(float), left=np.nan, right=np.nan)
    return x, f"{against} ({unit})" if unit else against


def _mark_events(axes: Any, logs: dict[str, Log], ink: str, quiet: str) -> None:
    """A line for each event, and its words in rows over the topmost panel, as many as it takes.

    Of more than fit the words are left out, and how many is said.
    """
    events = [
        (time, text)
        for log in logs.values()
        if "scenario/events" in log.messages
        for time, text in log["scenario/events"][["time", "data"]].itertuples(index=False)
    ]
    for ax in axes if events else ():
        times = [time for time, _ in events]
        ax.vlines(times, 0, 1, quiet, (0, (2, 2)), lw=0.8, zorder=0, transform=ax.get_xaxis_transform())
    low, high = axes[0].get_xlim()
    taken: list[list[tuple[float, float]]] = []  # of each row, what is taken: shares of the width
    unnamed = 0
    for time, text in sorted(dict.fromkeys(events)):
        words = shorten(text, LONGEST, placeholder=" …")
        at, long = (time - low) / (high - low), min(CHARACTER * (len(words) + 2), 1.0)
        side = "right" if at > 0.5 else "left"
        span = (at - long, at) if side == "right" else (at, at + long)
        row = next((k for k, r in enumerate(taken) if all(span[1] <= a or b <= span[0] for a, b in r)), len(taken))
        if row == MOST_ROWS:
            unnamed += 1
            continue
        if row == len(taken):
            taken.append([])
        taken[row].append(span)
        axes[0].annotate(
            words, (time, 1.0), xycoords=("data", "axes fraction"), xytext=(0, 3 + 11 * row),
            textcoords="offset points", ha=side, va="bottom", fontsize=8, color=ink, parse_math=False,
        )  # fmt: skip
    if unnamed:
        axes[-1].annotate(
            f"lines without words: {unnamed}; scenario/events has all", (0.0, -0.14),
            xycoords="axes fraction", va="top", fontsize=8, color=ink,
        )  # fmt: skip


def _trajectory(figure: Any, path: Trajectory, chain: Chain | None) -> None:
    times = np.linspace(0.0, path.duration, SAMPLES)
    slides = chain.is_linear if chain is not None and chain.joints == path.joints else np.zeros(len(path.joints), bool)
    unit = "m" if slides.all() else "rad" if not slides.any() else "rad, m"
    axes = figure.subplots(3, 1, sharex=True)
    words = (f"position ({unit})", f"velocity ({unit}/s)", f"acceleration ({unit}/s²)")
    for ax, values, word in zip(axes, path.at(times), words, strict=True):
        for k, joint in enumerate(path.joints):
            ax.plot(times, values[:, k], label=joint)
        ax.set_ylabel(word)
        ax.grid(alpha=0.3)
    if chain is not None and chain.joints == path.joints:
        for k in range(len(path.joints)):
            for ax, bounds in (
                (axes[0], (chain.low[k], chain.high[k])),
                (axes[1], (-chain.speeds[k], chain.speeds[k])),
            ):
                for bound in bounds:
                    if math.isfinite(bound):
                        ax.axhline(bound, color=f"C{k}", ls="--", lw=0.8)
    axes[-1].set_xlabel("time (s)")
    axes[0].legend(loc="center left", bbox_to_anchor=(1.0, 0.5), frameon=False)


def _answer(figure: Any, found: StepResponse) -> None:
    ax = figure.subplots()
    time = found.frame["time"]
    ax.plot(time, found.frame["command"], color="0.5", ls="--", label="commanded")
    ax.plot(time, found.frame["value"], label=found.joint)
    told = [
        f"rises in {1e3 * found.rise:.0f} ms" if math.isfinite(found.rise) else "does not rise to 90 %",
        f"overshoots by {100 * found.overshoot:.1f} %",
        f"settles in {1e3 * found.settling:.0f} ms" if math.isfinite(found.settling) else "does not settle",
        f"is off by {found.rest_error:.2g} at the end",
    ]
    ax.set(
        xlabel="time (s)",
        ylabel="position or speed (rad, m)",
        title=f"{found.joint} {', '.join(told[:2])},\n{', '.join(told[2:])}",
    )
    ax.grid(alpha=0.3)
    ax.legend(frameon=False)
