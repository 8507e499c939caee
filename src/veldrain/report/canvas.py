"""Lines, dots and words over a picture, drawn twice as large and made smaller, so that their edges are smooth."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import cache
from pathlib import Path

import matplotlib
import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

from veldrain.physics.scene import Scene
from veldrain.pose import Array
from veldrain.report.viewpoint import Viewpoint

FINE = 2
SMALL = 480  # pixels across: below that there is no room for what only helps
NEAR = 1e-3  # m before the eye: lines are cut there
INK, PAPER = "#1d2733", "#ffffff"
AXES = RED, GREEN, BLUE = "#c8323c", "#2c8a3c", "#2b5fb8"  # x, y, z


@cache
def font(size: int, bold: bool = False) -> ImageFont.FreeTypeFont:
    """A font at a size in pixels of the canvas."""
    name = "DejaVuSans-Bold.ttf" if bold else "DejaVuSans.ttf"
    return ImageFont.truetype(str(Path(matplotlib.get_data_path()) / "fonts" / "ttf" / name), size)


class Canvas:
    """What is drawn over the picture of a scene from a viewpoint."""

    def __init__(self, view: Viewpoint, scene: Scene) -> None:
        self.view, self.scene, self.size = view, scene, view.camera.lens.size
        self._image = Image.new("RGBA", (FINE * self.size[0], FINE * self.size[1]), (255, 255, 255, 0))
        self._draw = ImageDraw.Draw(self._image, "RGBA")
        self._zoom = min(max(self.size[0] / 1280, 0.72), 1.5)
        self._corner = (0, 1)
        self._taken: list[tuple[float, float, float, float]] = []

    def _pixels(self, points: Array) -> list[tuple[float, float]]:
        return [(FINE * (u + 0.5), FINE * (v + 0.5)) for u, v in self.view.project(points).tolist()]

    def _before_eye(self, points: Array) -> list[Array]:
        """A line of points (n, 3) as pieces that lie before the eye."""
        depth = (points - self.view.eye) @ self.view.axes[:, 0]
        pieces: list[Array] = []
        for k in range(len(points) - 1):
            a, b, p, q = depth[k], depth[k + 1], points[k], points[k + 1]
            if max(a, b) <= NEAR:
                continue
            if a < NEAR:
                p = p + (q - p) * (NEAR - a) / (b - a)
            elif b < NEAR:
                q = q + (p - q) * (NEAR - b) / (a - b)
            pieces.append(np.stack([p, q]))
        return pieces

    def line(self, points: Sequence[Array] | Array, colour: str, width: float = 1.5) -> None:
        """A line through points (n, 3) of the world."""
        for piece in self._before_eye(np.asarray(points, float)):
            flat = np.clip(self._pixels(piece), -1e5, 1e5)
            self._draw.line([tuple(p) for p in flat.tolist()], fill=colour, width=round(FINE * width))

    def arrow(self, start: Array, end: Array, colour: str, width: float = 2.0, head: float = 9.0) -> None:
        """An arrow between points of the world."""
        self.line([start, end], colour, width)
        (a, b) = np.array(self._pixels(np.stack([start, end])))
        way = b - a
        length = float(np.linalg.norm(way))
        if not np.isfinite(length) or length < 1e-6:
            return
        way, head = way / length, min(FINE * head, 0.6 * length)
        side = np.array((-way[1], way[0])) * 0.4 * head
        tip = [tuple(b), tuple(b - head * way + side), tuple(b - head * way - side)]
        self._draw.polygon(tip, fill=colour)

    def dots(self, points: Array, colour: str, radius: float = 2.0) -> None:
        """Dots at points (n, 3) of the world."""
        r = FINE * radius
        for u, v in self._pixels(points):
            if np.isfinite(u) and abs(u) < 1e5 and abs(v) < 1e5:
                self._draw.ellipse((u - r, v - r, u + r, v + r), fill=colour)

    def mass_mark(self, point: Array, radius: float) -> None:
        """The sign of a centre of mass: a disc of four quarters."""
        ((u, v),) = self._pixels(point[None])
        if np.isfinite(u):
            r = FINE * radius
            box = (u - r, v - r, u + r, v + r)
            self._draw.ellipse(box, fill=PAPER, outline=INK, width=FINE)
            for start in (0, 180):
                self._draw.pieslice(box, start, start + 90, fill=INK)

    def label(self, point: Array, text: str, colour: str = INK, size: int = 13) -> None:
        """A name beside a point of the world, moved where there is room, with a line to its point."""
        ((u, v),) = self._pixels(point[None])
        wide, tall = self.size[0] * FINE, self.size[1] * FINE
        if not (np.isfinite(u) and 0 <= u < wide and 0 <= v < tall):
            return
        kind = font(round(FINE * size * self._zoom))
        left, top, right, bottom = self._draw.textbbox((0, 0), text, font=kind, stroke_width=FINE)
        w, h = right - left, bottom - top
        gap = 8 * FINE
        for ring in range(1, 7):
            for du, dv in ((1, -1), (-1, -1), (1, 1), (-1, 1), (0, -1.6), (0, 1.6)):
                x = u + du * gap * ring + (0 if du > 0 else -w if du < 0 else -w / 2)
                y = v + dv * gap * ring - h / 2
                box = (x - 2, y - 2, x + w + 2, y + h + 2)
                inside = box[0] >= 0 and box[1] >= 0 and box[2] < wide and box[3] < tall
                if inside and not any(_overlap(box, other) for other in self._taken):
                    self._taken.append(box)
                    near = (min(max(u, box[0]), box[2]), min(max(v, box[1]), box[3]))
                    self._draw.line([(u, v), near], fill=colour + "b0", width=FINE)
                    self._draw.text(
                        (x - left, y - top), text, font=kind, fill=colour, stroke_width=FINE + 1, stroke_fill=PAPER
                    )
                    return

    def keep_free(self, busy: NDArray[np.bool_], has_title: bool) -> None:
        """Choose the corner for notes in which the least is to be seen, and keep names out of it."""
        wide, tall = round(0.26 * self.size[0]), round(0.24 * self.size[1])
        corners = [(0, 1), (1, 1), (1, 0), *([] if has_title else [(0, 0)])]  # right, low

        def seen(corner: tuple[int, int]) -> int:
            columns = slice(-wide, None) if corner[0] else slice(0, wide)
            return int(busy[slice(-tall, None) if corner[1] else slice(0, tall), columns].sum())

        self._corner = min(corners, key=seen)
        x, y = self._corner[0] * (self.size[0] - wide), self._corner[1] * (self.size[1] - tall)
        self._taken.append((FINE * x, FINE * y, FINE * (x + wide), FINE * (y + tall)))

    def notes(self, rows: Sequence[tuple[str | None, str]], bar: tuple[float, str] | None) -> None:
        """A box in a corner with rows of colour and words, and a scale: its length in pixels and what it is."""
        z = self._zoom
        kind, pad, line = font(round(FINE * 12 * z)), round(8 * FINE * z), round(18 * FINE * z)
        widths = [self._draw.textlength(text, font=kind) + (24 * FINE if colour else 0) for colour, text in rows]
        if bar:
            widths.append(max(FINE * bar[0], self._draw.textlength(bar[1], font=kind)))
        height = line * len(rows) + (line * 1.6 if bar else 0) + pad
        x: float = 10 * FINE
        bottom = 10 * FINE + height
        if self._corner[0]:
            x = self.size[0] * FINE - 10 * FINE - max(widths) - 2 * pad
        if self._corner[1]:
            bottom = self.size[1] * FINE - 10 * FINE
        top = bottom - height
        self._draw.rounded_rectangle((x, top, x + max(widths) + 2 * pad, bottom), 5 * FINE, fill=PAPER + "d8")
        y = top + pad / 2
        if bar:
            self._draw.text((x + pad, y), bar[1], font=kind, fill=INK)
            at = y + line * 1.25
            self._draw.line([(x + pad, at), (x + pad + FINE * bar[0], at)], fill=INK, width=2 * FINE)
            for end in (x + pad, x + pad + FINE * bar[0]):
                self._draw.line([(end, at - 4 * FINE), (end, at + 4 * FINE)], fill=INK, width=2 * FINE)
            y += line * 1.6
        for colour, text in rows:
            if colour:
                mark = [(x + pad, y + line / 2), (x + pad + 16 * FINE, y + line / 2)]
                self._draw.line(mark, fill=colour, width=3 * FINE)
            self._draw.text((x + pad + (24 * FINE if colour else 0), y + FINE), text, font=kind, fill=INK)
            y += line

    def directions(self) -> None:
        """The axes of the world that lie in the picture of a parallel view, in the upper right."""
        if self.size[0] < SMALL:
            return
        kind, length = font(round(FINE * 12 * self._zoom)), 34 * FINE * self._zoom
        x, y = FINE * self.size[0] - 2.0 * length, 1.9 * length
        for axis, name, colour in zip(np.eye(3), "xyz", AXES, strict=True):
            right, up = float(-axis @ self.view.axes[:, 1]), float(axis @ self.view.axes[:, 2])
            if math.hypot(right, up) < 0.5:
                continue
            tip = (x + length * right, y - length * up)
            self._draw.line([(x, y), tip], fill=colour, width=2 * FINE)
            at = (x + 1.35 * length * right, y - 1.35 * length * up)
            self._draw.text(at, name, font=kind, fill=colour, anchor="mm", stroke_width=FINE, stroke_fill=PAPER)

    def title(self, text: str) -> None:
        """Words in the upper left."""
        kind = font(FINE * 14, bold=True)
        self._draw.text((12 * FINE, 9 * FINE), text, font=kind, fill=INK, stroke_width=FINE + 1, stroke_fill=PAPER)

    def over(self, pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
        """A picture (h, w, 3) with all of it on top."""
        small = self._image.resize(self.size, Image.Resampling.BOX)
        under = Image.fromarray(pixels).convert("RGBA")
        return np.asarray(Image.alpha_composite(under, small).convert("RGB"))


def _overlap(a: tuple[float, float, float, float], b: tuple[float, float, float, float]) -> bool:
    return a[0] < b[2] and b[0] < a[2] and a[1] < b[3] and b[1] < a[3]
