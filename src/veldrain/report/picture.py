"""Pictures of worlds, robots, scenarios and recordings, drawn without a screen."""

from __future__ import annotations

import io
import math
from collections.abc import Sequence, Set
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from veldrain.errors import VeldrainError, unknown
from veldrain.files import whole_file
from veldrain.model import Air, Look, Sky, Sun, Surroundings
from veldrain.model.drawing import SIDES, Eye
from veldrain.physics.plant import PLANE
from veldrain.physics.scene import Scene
from veldrain.pose import Array
from veldrain.progress import Progress
from veldrain.recording.video import Mp4Writer
from veldrain.report.canvas import INK, PAPER, Canvas, font
from veldrain.report.layers import LAYERS, Notes
from veldrain.report.panels import arranged
from veldrain.report.pixels import as_colours
from veldrain.report.staging import Stage, staged
from veldrain.report.viewpoint import Viewpoint, corners_of, looking
from veldrain.sensing.camera import Camera
from veldrain.sensing.painting import Painter, developed
from veldrain.sheet import Flag, Maybe, Names, Text
from veldrain.simulation import engine_of
from veldrain.units import Quantity, quantity

COLLISION = "collision"
KNOWN = (COLLISION, *LAYERS)
FLOOR = "#d9d9d9"  # ground that has no look of its own
SHELL = "#e87820"  # of collision shapes
GAP = 2  # pixels between panels
SUN, SKY = 34e3, 26e3  # lx: bright, with soft shadows
GRID = (0.01, 0.05, 0.1, 0.5, 1.0, 5.0, 10.0, 50.0, 100.0, 500.0)  # m
PLAIN = np.array((0.93, 0.945, 0.955))  # of light, far away


@dataclass(frozen=True)
class Picture:
    """Pixels (h, w, 3), and what was drawn, line by line."""

    pixels: NDArray[np.uint8]
    told: tuple[str, ...]


class View(Eye):
    """How a thing is looked at, and what is drawn over it.

    >>> View(side="top", layers=["trails"]).size
    (1280, 800)
    """

    ways = ("look_from", "side", "through", "panels")

    layers: Names = Names(
        default=(),
        doc="what to draw over it: ``collision`` shapes, ``joints``, ``frames``, ``masses``, ``contacts``, "
        "``patches``, ``beams``, ``fields``, ``trails``, ``names``",
    )
    through: Maybe[str, str] = Maybe(Text(), default=None, doc="name of a camera's stream: what that camera sees")
    panels: Names = Names(
        default=(), doc="several pictures in one: of each ``around``, a side, or the name of a camera's stream"
    )
    hide: Names = Names(default=(), doc="name paths of what is left out, such as ``walls`` for all of ``walls/…``")
    cutaway: Flag = Flag(default=False, doc="True: fixed things that stand between the eye and a robot are left out")

    def check(self) -> None:
        for layer in self.layers:
            if layer not in KNOWN:
                raise unknown("layer", layer, KNOWN, "look")
        if self.through is not None and (self.hide or self.cutaway):
            raise VeldrainError(
                "a camera sees all that is there", where="look", cure="leave hide and cutaway out, or look from outside"
            )
        super().check()


def look(
    thing: Any,
    out: str | Path | None = None,
    *,
    time: Quantity | None = None,
    posture: str | None = None,
    world: str | Path | None = None,
    **view: Any,
) -> NDArray[np.uint8]:
    """A picture of a thing.

    Args:
        thing: a ``Model``, ``World``, ``Simulation``, ``Scenario``, ``Study`` or ``Recording``, or the path of a file.
        out: PNG or JPEG file to write.
        time: of a recording, s (None: its end); of others, how long they go on by themselves first.
        posture: of a model.
        world: of a recording: its world's file; None: the world that it holds.
        view: how to look, see ``View``: ``layers``, ``size``, ``look_from``, ``look_at``, ``side``, ``through``,
            ``panels``.

    Returns:
        Pixels (h, w, 3), uint8.

    Raises:
        VeldrainError: what cannot be read or drawn, an unknown layer, side or stream.

    >>> from veldrain.model import Box, World
    >>> look(World().ground().obstacle("crate", Box((1, 1, 1))), size=(160, 100)).shape
    (100, 160, 3)
    """
    how = View(**view)
    return pictured(staged(thing, _seconds(time), world, posture), how, out).pixels.view(Shown)


class Shown(np.ndarray):
    """Pixels (h, w, 3) that show themselves in notebooks."""

    def _repr_png_(self) -> bytes:
        file = io.BytesIO()
        Image.fromarray(np.asarray(self)).save(file, "PNG")
        return file.getvalue()


def _seconds(time: Quantity | None) -> float | None:
    return None if time is None else quantity(time, "time", "look time")


def pictured(stage: Stage, view: View, out: str | Path | None = None) -> Picture:
    """The picture of a stage, and what was drawn."""
    size = view.size
    wanted = list(view.panels) or [view.through or view.side or "around"]
    whole = np.full((size[1], size[0], 3), 255, np.uint8)
    told: list[str] = []
    for word, place in zip(wanted, arranged((size[0], size[1]), [_shape(stage, word) for word in wanted]), strict=True):
        left, top, wide, tall = place
        each = (wide - GAP * (left + wide < size[0]), tall - GAP * (top + tall < size[1]))
        part, lines = _panel(stage, word, each, view, len(wanted) > 1)
        whole[top : top + each[1], left : left + each[0]] = part
        told += lines
    if out is not None:
        written(whole, Path(out))
    return Picture(whole, tuple(told))


def written(pixels: NDArray[np.uint8], path: Path) -> None:
    """Write a picture.

    Raises:
        VeldrainError: it cannot be written, or its name says no known format.
    """
    try:
        with whole_file(path) as part:
            Image.fromarray(pixels).save(part)
    except ValueError as error:
        raise VeldrainError(f"cannot be written ({error})", where=str(path), cure="name a .png file") from error


def _panel(
    stage: Stage, word: str, size: tuple[int, int], how: View, has_title: bool
) -> tuple[NDArray[np.uint8], list[str]]:
    """One picture and what it shows."""
    if word != "around" and word not in SIDES:
        return _through(stage, word, size, has_title)
    layers, (eye, at) = how.layers, (None if p is None else np.array(p) for p in (how.look_from, how.look_at))
    scene = engine_of(stage.simulation).scene
    for path in how.hide:
        if not _named(scene, path):
            tops = dict.fromkeys(name.split("/")[0] for name in scene.names)
            raise unknown("thing", path, [*tops, *scene.names], "look hide")
    scene = _left_over(scene, how.hide)
    painter = Painter(scene, _daylight(0.0), _looks(scene))
    trails = [*stage.trails().values()] if "trails" in layers else []
    beside = np.concatenate(trails) if trails else None
    view = looking(scene, painter, size, eye, at, None if word == "around" else word, beside)
    cut = stage.in_the_way(scene, view.eye) if how.cutaway else set()
    scene = scene.without(cut) if cut else scene
    painter = Painter(scene, _daylight(math.atan2(*view.axes[1::-1, 0]) + math.radians(140)), _looks(scene))
    pixels, grid, busy = _painted(painter, view, beside)
    span = float(np.linalg.norm(np.ptp(corners_of(scene, beside), axis=0)))
    if COLLISION in layers:
        pixels = _with_shells(_left_over(engine_of(stage.simulation).touchable, how.hide, cut), view, pixels)
    canvas = Canvas(view, scene)
    canvas.keep_free(busy, has_title)
    notes: Notes = [(SHELL, "collision shapes")] if COLLISION in layers else []
    mark = _mark_size(stage, span)
    for name, draw in LAYERS.items():
        if name in layers:
            notes += draw(stage, canvas, mark, "names" in layers)
    seen = _seen(scene)
    focus = (corners_of(scene).min(axis=0) + corners_of(scene).max(axis=0)) / 2 if at is None else at
    notes += [(None, f"cut away: {', '.join(sorted(cut))}")] if cut else []
    notes += [(None, f"left out: {', '.join(how.hide)}")] if how.hide else []
    canvas.notes(([(None, f"grid {_length(grid)}")] if grid else []) + notes, _bar(view, focus, size))
    if view.scale:
        canvas.directions()
    if has_title:
        canvas.title(word)
    x, y, z = view.eye
    from_where = f"from {word}, parallel" if view.scale else f"from ({x:.2f}, {y:.2f}, {z:.2f}) m"
    lines = [f"{word}: {seen}, {from_where}"] + [f"  {text}" for _, text in notes]
    return canvas.over(pixels), lines


def _shape(stage: Stage, word: str) -> float | None:
    """Width over height of a panel; None: any."""
    if word in ("around", *SIDES):
        return None
    wide, tall = _camera(stage, word).size
    return float(wide / tall)


def _camera(stage: Stage, stream: str) -> Camera:
    """The camera of a stream."""
    cameras = {
        name: samples.sensor for name, samples in stage.simulation.streams.items() if isinstance(samples.sensor, Camera)
    }
    if stream not in cameras:
        raise unknown("camera's stream", stream, cameras, "look through")
    return cameras[stream]


def _named(scene: Scene, path: str) -> set[str]:
    """The names of what a name path stands for in a scene."""
    return {name for name in scene.names if name == path or name.startswith(f"{path}/")}


def _left_over(scene: Scene, paths: Sequence[str], names: Set[str] = frozenset()) -> Scene:
    """A scene without what some name paths stand for, and without some names."""
    out = set(names).union(*(_named(scene, path) for path in paths))
    return scene.without(out) if out else scene


def _daylight(azimuth: float) -> Surroundings:
    """Light that shows shapes: a sun behind the eye's shoulder under a bright sky."""
    sun = Sun("48 deg", azimuth, lux=SUN, colour="#fffaf0")
    return Surroundings(sun, Sky(SKY, colour="#f2f6fa", horizon="#ffffff"), (), Air())


def _looks(scene: Any) -> list[Look]:
    """The looks of a scene; ground that has none of its own is light."""
    plain = scene.ground_look == Look()
    return [
        Look(FLOOR) if s.part is None and plain else look for s, look in zip(scene.sights, scene.looks, strict=True)
    ]


def _painted(
    painter: Painter, view: Viewpoint, beside: Array | None = None
) -> tuple[NDArray[np.uint8], float, NDArray[np.bool_]]:
    """The picture with a grid on the ground, the grid's spacing (0: no ground), and where there are things (h, w)."""
    scene, camera = painter.scene, view.camera
    columns, rows = camera.lens.size
    eyes, axes = np.tile(view.eye, (rows, 1)), np.tile(view.axes, (rows, 1, 1))
    light, distances, sights = camera.paint(painter, eyes, axes)
    white = (SUN + SKY) / math.pi * 1.02
    corners = corners_of(scene, beside)
    span = float(np.linalg.norm(np.ptp(corners, axis=0)))
    light[(sights < 0).reshape(rows, columns)] = PLAIN * white
    grid = 0.0
    ground = (sights >= 0) & (scene.view.sights["kind"][np.maximum(sights, 0)] == PLANE)
    if ground.any():
        grid = next((g for g in GRID if g >= span / 24), GRID[-1])
        ways = camera.lens.rays @ view.axes.T
        points = (view.eye + np.where(ground, distances, 0.0)[:, None] * ways).reshape(rows, columns, 3)
        mask = ground.reshape(rows, columns)
        light *= 1 - 0.30 * (_lines(points, mask, grid) * 0.5 + _lines(points, mask, 5 * grid) * 0.5)[..., None]
        middle = (corners.min(axis=0) + corners.max(axis=0)) / 2
        away = np.linalg.norm(points[..., :2] - middle[:2], axis=2)
        fades = np.where(mask, np.clip((away - 1.2 * span) / (3.0 * span), 0, 1), 0.0)[..., None].astype(np.float32)
        light = light * (1 - fades) + fades * (PLAIN * white).astype(np.float32)
    return developed(light, white), grid, (sights >= scene.view.planes).reshape(rows, columns)


def _lines(points: Array, mask: Array, gap: float) -> NDArray[np.float32]:
    """Share (h, w) of each pixel that grid lines a pixel wide cover; they fade where they would run together."""
    covered = np.zeros(mask.shape, np.float32)
    for axis in range(2):
        c = points[..., axis]
        step = np.abs(np.gradient(c, axis=0)) + np.abs(np.gradient(c, axis=1)) + 1e-12
        off = np.abs(c / gap - np.round(c / gap)) * gap
        here = np.clip(1.0 - off / step, 0, 1) * np.clip(1.5 - 4 * step / gap, 0, 1)
        covered = np.maximum(covered, here).astype(np.float32)
    return np.where(mask, covered, 0.0).astype(np.float32)


def _with_shells(scene: Scene, view: Viewpoint, pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """The picture with the collision shapes over it, half transparent."""
    scene.follow()
    looks = [Look(SHELL)] * len(scene.sights)
    camera = view.camera
    columns, rows = camera.lens.size
    painter = Painter(scene, _daylight(math.atan2(*view.axes[1::-1, 0]) + math.radians(140)), looks)
    eyes, axes = np.tile(view.eye, (rows, 1)), np.tile(view.axes, (rows, 1, 1))
    light, _, sights = camera.paint(painter, eyes, axes)
    shell = developed(light, (SUN + SKY) / math.pi * 1.02)
    here = (sights.reshape(rows, columns) >= scene.view.planes)[..., None]
    return np.where(here, (0.5 * pixels + 0.5 * shell).astype(np.uint8), pixels)


def _through(stage: Stage, stream: str, size: tuple[int, int], has_title: bool) -> tuple[NDArray[np.uint8], list[str]]:
    """What a camera sees, as large as there is room."""
    reading = stage.simulation.streams[stream].measured()
    picture = Image.fromarray(as_colours(reading.pixels)).convert("RGB")
    scale = min(size[0] / picture.width, size[1] / picture.height)
    kind = Image.Resampling.LANCZOS if scale < 1 else Image.Resampling.NEAREST
    picture = picture.resize((max(1, round(picture.width * scale)), max(1, round(picture.height * scale))), kind)
    whole = Image.new("RGB", size, PAPER)
    left, top = (size[0] - picture.width) // 2, (size[1] - picture.height) // 2
    whole.paste(picture, (left, top))
    if left > 1 or top > 1:  # what is beside the picture is none of it
        edge = (left - 1, top - 1, left + picture.width, top + picture.height)
        ImageDraw.Draw(whole).rectangle(edge, outline=INK)
    if has_title:
        ImageDraw.Draw(whole).text(
            (10, 7), stream, font=font(13, bold=True), fill="white", stroke_width=2, stroke_fill=INK
        )
    shape = reading.pixels.shape
    return np.asarray(whole), [f"{stream}: what it sees, {shape[1]} × {shape[0]} pixels"]


def _seen(scene: Any) -> str:
    names = sorted({name.split("/")[0] for name in scene.names if name != "ground"})
    shown = ", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")
    return shown or "nothing but the ground"


def _mark_size(stage: Stage, span: float) -> float:
    """How large axes and arrows are drawn, m: a fifth of the smallest robot, not too small for the picture."""
    scene = engine_of(stage.simulation).scene
    sizes = []
    for robot in stage.simulation.world.placed:
        rows = [k for k, n in enumerate(scene.names) if n.startswith(f"{robot}/")]
        if rows:
            sizes.append(float(np.linalg.norm(scene.view.high[rows].max(axis=0) - scene.view.low[rows].min(axis=0))))
    return min(max(0.2 * min(sizes, default=span), 0.02 * span), 0.1 * span)


def _bar(view: Viewpoint, focus: Array, size: tuple[int, int]) -> tuple[float, str]:
    """Length in pixels of a scale, and its words."""
    pixels = view.scale or view.size_at(focus)
    metres = max((g for g in GRID if g * pixels <= 0.22 * size[0]), default=GRID[0])
    return metres * pixels, _length(metres) + ("" if view.scale else " in the middle")


def _length(metres: float) -> str:
    return f"{metres:g} m" if metres >= 1 else f"{100 * metres:g} cm"


def movie(
    stage: Stage, view: View, path: Path, frames: float = 20.0, speed: float = 1.0, progress: Progress | None = None
) -> Picture:
    """A recording as an MP4 or GIF file; the last picture comes back with what was drawn.

    Raises:
        VeldrainError: not a recording, another kind of file, no encoder for MP4.
    """
    if path.suffix.lower() not in (".mp4", ".gif"):
        raise VeldrainError(f"a movie of kind '{path.suffix}'", where=str(path), cure="name a .mp4 or .gif file")
    if len(stage.times) < 2:
        raise VeldrainError("has no course to show", where=stage.name, cure="give a recording")
    if not (frames > 0 and speed > 0):
        raise VeldrainError(
            f"{frames:g} pictures a second at {speed:g} times the speed", where="movie", cure="give numbers above zero"
        )
    even = (view.size[0] // 2 * 2, view.size[1] // 2 * 2)
    times = np.arange(stage.times[0], stage.times[-1] + 1e-9, speed / frames)
    view = view.changed(size=even)
    if not (view.look_from or view.side or view.through or view.panels):
        stage.go_to(float(stage.times[-1]))
        view = view.changed(look_from=_standing_eye(stage, even))
    with whole_file(path) as part:
        writer = Mp4Writer(part, even, frames) if path.suffix.lower() == ".mp4" else _Gif(part, frames)
        for k, time in enumerate(times):
            stage.go_to(float(time))
            made = pictured(stage, view)
            writer.add(made.pixels)
            if progress:
                progress(k + 1, len(times), f"{time:.1f} s")
        writer.close()
    return made


def _standing_eye(stage: Stage, size: tuple[int, int]) -> list[float]:
    """One eye for all pictures, so that nothing jumps."""
    scene = engine_of(stage.simulation).scene
    return list(looking(scene, Painter(scene, _daylight(0.0), _looks(scene)), size).eye)


class _Gif:
    """An animated GIF; one palette a picture."""

    def __init__(self, path: Path, frames: float) -> None:
        self.path, self.frames = path, frames
        self.pictures: list[Image.Image] = []

    def add(self, pixels: NDArray[np.uint8]) -> None:
        self.pictures.append(Image.fromarray(pixels).quantize(128))

    def close(self) -> None:
        first, *more = self.pictures
        first.save(self.path, save_all=True, append_images=more, duration=round(1000 / self.frames), loop=0)
