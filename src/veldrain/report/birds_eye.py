"""Seen from above: lanes, who is there, and what sensors have detected; and what sensors cover."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.colors import ListedColormap
from matplotlib.figure import Figure
from matplotlib.patches import Polygon

from veldrain.documents import load_world
from veldrain.errors import VeldrainError, unknown
from veldrain.files import whole_file
from veldrain.model import Placed, World
from veldrain.model.volumes import bounds_of, touched
from veldrain.motion import Roads
from veldrain.motion.roads.surfaces import PAVED, grid_of
from veldrain.pose import Array
from veldrain.recording import Recording
from veldrain.recording.detecting import detections
from veldrain.recording.video import Mp4Writer
from veldrain.report.figures import COLOURS, INK, QUIET, STONE, saved
from veldrain.review import Coverage
from veldrain.units import Quantity, quantity

ASPHALT, MEADOW, LINE = "#c9c9cb", "#eef0ea", "#ffffff"
PERIOD = 0.12  # s: detections that are as old are still drawn
MOVIES = (".mp4", ".gif")


def birds_eye(
    recording: Recording,
    out: str | Path | None = None,
    *,
    follow: str,
    time: Quantity | None = None,
    sensors: Sequence[str] | None = None,
    span: Quantity = 60.0,
    rate: float = 10.0,
    world: World | None = None,
) -> Figure:
    """A trial seen from above: lanes, robots and actors, and what sensors have detected, each in a colour of its own.

    Args:
        recording: of the trial.
        out: PNG, PDF or SVG file of one moment; MP4 or GIF of all of it, as fast as it was.
        follow: name of the robot that the picture goes with.
        time: the moment, s; None: the end.
        sensors: streams of radars and lidars; None: all that the robot has.
        span: how far to each side of the robot is drawn, m.
        rate: pictures of a movie in a second.
        world: None: the one that the recording holds.

    Returns:
        The figure, at the moment or at the end.

    Raises:
        VeldrainError: no such robot or stream, or a file that cannot be written.

    >>> birds_eye(recording, "cut_in.png", follow="car", time="5 s")  # doctest: +SKIP
    """
    scene = _Scene(recording, world or load_world(recording), follow, sensors, quantity(span, "length", "birds_eye"))
    figure = Figure(figsize=(9.8, 6.2), layout="constrained")
    FigureCanvasAgg(figure)
    if out is not None and Path(out).suffix.lower() in MOVIES:
        _movie(scene, figure, Path(out), rate)
        return figure
    end = float(scene.times[-1])
    scene.draw(figure, min(quantity(time, "time", "birds_eye"), end) if time is not None else end)
    if out is not None:
        saved(figure, out)
    return figure


def coverage_figure(found: Coverage, within: Quantity = 5.0) -> Figure:
    """How many sensors cover each place, a panel a height; blind places near the robot in red."""
    figure = Figure(figsize=(5.2 * len(found.heights) + 1.2, 5.4), layout="constrained")
    panels = np.atleast_1d(figure.subplots(1, len(found.heights), sharey=True))
    table, dark = found.table(within), found.blind(within)
    extent = (found.x[0], found.x[-1], found.y[0], found.y[-1])
    colours = ["#f1f2f0", "#bcd3e6", "#7fabd0", "#3b6ea5", "#234a75"]
    shown = None
    for k, (panel, height) in enumerate(zip(panels, found.heights, strict=True)):
        count = np.minimum(found.seen[:, k].sum(axis=0), 4)
        words: dict[str, Any] = {"origin": "lower", "extent": extent, "interpolation": "nearest"}
        shown = panel.imshow(count, cmap=ListedColormap(colours), vmin=-0.5, vmax=4.5, **words)
        mask = np.where(dark[k], 1.0, np.nan)
        panel.imshow(mask, cmap=ListedColormap(["#c8553d"]), vmin=0, vmax=1, **words)
        low_x, high_x, low_y, high_y = found.footprint
        corners = [(low_x, low_y), (high_x, low_y), (high_x, high_y), (low_x, high_y)]
        panel.add_patch(Polygon(corners, closed=True, fc=INK, ec=INK))
        row = table[(table["height"] == height) & (table["sensor"] == "all")].iloc[0]
        near = quantity(within, "length")
        panel.set_title(f"{height:g} m above the ground: {row['blind']:.1f} m² blind within {near:g} m", fontsize=10)
        panel.set_xlabel("x, m (ahead)")
        panel.grid(color="white", lw=0.4, alpha=0.6)
    panels[0].set_ylabel("y, m (left)")
    if shown is not None:
        bar = figure.colorbar(shown, ax=list(panels), ticks=range(5), shrink=0.8)
        bar.set_label("sensors that cover it")
        bar.ax.set_yticklabels(["0", "1", "2", "3", "4 or more"])
    return figure


class _Scene:
    """What is drawn at any moment."""

    def __init__(
        self, recording: Recording, world: World, follow: str, sensors: Sequence[str] | None, span: float
    ) -> None:
        if follow not in world.placed:
            raise unknown("robot", follow, world.placed, "birds_eye")
        self.world, self.follow, self.span = world, follow, span
        self.frames = recording.frames
        self.times = self.frames.times
        looking = [
            f"{follow}/{name}"
            for name, mounted in world.placed[follow].model.sensors.items()
            if "PointCloud2" in mounted.sensor.message and not mounted.sensor.truth
        ]
        for stream in sensors or ():
            if stream not in recording.messages:
                raise unknown("stream", stream, recording.messages, "birds_eye")
        chosen = looking if sensors is None else list(sensors)
        self.found = {stream: detections(recording, stream) for stream in chosen if stream in recording.messages}
        self.ways: dict[str, tuple[Array, Array]] = {}
        for name, placed in world.placed.items():
            root = f"{name}/{placed.model.root()}"
            if root in self.frames.names:
                at, turns = self.frames.poses_of(root)
                self.ways[name] = at, np.unwrap(turns.as_euler("ZYX")[:, 0])
        self.outlines = {name: _outline(placed) for name, placed in world.placed.items()}

    def draw(self, figure: Figure, time: float) -> None:
        figure.clear()
        panel = figure.add_subplot()
        panel.set_facecolor(MEADOW)
        for network in self.world.networks.values():
            if isinstance(network, Roads):
                _lanes(panel, network)
        for o in self.world.obstacles.values():
            shapes = [(shape, o.pose @ pose) for shape, pose in touched(o.part)]
            if shapes and not self.world.is_of_roads(o.name):
                low, high = bounds_of(shapes)
                corners = [(low[0], low[1]), (high[0], low[1]), (high[0], high[1]), (low[0], high[1])]
                panel.add_patch(Polygon(corners, closed=True, fc=STONE, ec="none", zorder=3))
        x, y = 0.0, 0.0
        for name, (at, turns) in self.ways.items():
            here = [np.interp(time, self.times, row) for row in (at[:, 0], at[:, 1], turns)]
            c, s = np.cos(here[2]), np.sin(here[2])
            corners = self.outlines[name] @ np.array([[c, s], [-s, c]]) + here[:2]
            is_own = name == self.follow
            panel.add_patch(
                Polygon(corners, closed=True, fc="#d9822b" if is_own else "#8fa7bd", ec=INK, lw=0.8, zorder=5)
            )
            middle = corners.mean(axis=0)
            panel.annotate(
                name, middle, (0, 9), textcoords="offset points", ha="center", fontsize=8, color=INK, zorder=7
            )
            if is_own:
                x, y = (float(v) for v in middle)
        for k, (stream, table) in enumerate(self.found.items()):
            now = table[(table["time"] <= time + 1e-9) & (table["time"] > time - PERIOD)]
            newest = now[now["time"] == now["time"].max()] if len(now) else now
            dots: dict[str, Any] = {"s": 16, "color": COLOURS[(k + 1) % len(COLOURS)], "zorder": 6, "lw": 0}
            panel.scatter(newest["x"], newest["y"], label=stream, **dots)
        panel.set_xlim(x - self.span, x + self.span)
        panel.set_ylim(y - 0.6 * self.span, y + 0.6 * self.span)
        panel.set_aspect("equal")
        panel.set_xlabel("x, m")
        panel.set_ylabel("y, m")
        panel.set_title(f"{time:.2f} s", loc="left", fontsize=10)
        if self.found:
            panel.legend(loc="upper right", frameon=True, fontsize=8)


def _outline(placed: Placed) -> Array:
    """Corners (4, 2) of the box around a robot at its start, in its root's axes."""
    low, high = placed.box() or (np.full(3, -0.1), np.full(3, 0.1))
    return np.array([(low[0], low[1]), (high[0], low[1]), (high[0], high[1]), (low[0], high[1])])


def _lanes(panel: Axes, roads: Roads) -> None:
    for road in roads.roads.values():
        for k, section in enumerate(road.sections):
            s = grid_of(road, section.s, road.end_of(k))
            for number, (inner, outer) in road.borders(k, s).items():
                a, b = road.points(s, inner)[:, :2], road.points(s, outer)[:, :2]
                lane = section.lanes[number]
                if number:
                    colour = ASPHALT if lane.type in PAVED else "#dcdad3"
                    panel.add_patch(Polygon(np.concatenate([a, b[::-1]]), closed=True, fc=colour, ec="none", zorder=1))
                for mark in lane.marks[:1]:
                    dashed = "broken" in mark.type
                    panel.plot(*b.T, color=LINE, lw=1.0, ls=(0, (4, 6)) if dashed else "-", zorder=2)
    panel.tick_params(colors=QUIET)


def _movie(scene: _Scene, figure: Figure, out: Path, rate: float) -> None:
    if out.exists():
        raise VeldrainError("is there already", where=str(out), cure="name another file")
    figure.set_dpi(110)
    times = np.arange(float(scene.times[0]), float(scene.times[-1]) + 1e-9, 1.0 / rate)
    with whole_file(out) as part:
        _frames(scene, figure, part, times, rate)


def _frames(scene: _Scene, figure: Figure, out: Path, times: Any, rate: float) -> None:
    pictures: list[Any] = []
    writer = None
    for time in times:
        scene.draw(figure, float(time))
        figure.canvas.draw()
        pixels = np.asarray(figure.canvas.buffer_rgba())[:, :, :3]  # type: ignore[attr-defined]
        pixels = np.ascontiguousarray(pixels[: pixels.shape[0] // 2 * 2, : pixels.shape[1] // 2 * 2])
        if out.suffix.lower() == ".gif":
            from PIL import Image

            pictures.append(Image.fromarray(pixels))
            continue
        writer = writer or Mp4Writer(out, (pixels.shape[1], pixels.shape[0]), rate)
        writer.add(pixels)
    if writer is not None:
        writer.close()
    elif pictures:
        pictures[0].save(out, save_all=True, append_images=pictures[1:], duration=round(1000 / rate), loop=0)
