"""Routes as the tables that kernels follow: pieces of curve, and height, pitch and roll of what is on the ground."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import cached_property
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError
from veldrain.model.volumes import bounds_of
from veldrain.motion.routes import Route
from veldrain.physics import plant as p
from veldrain.physics.host import Engine
from veldrain.physics.scene import Scene
from veldrain.pose import Array

GROUND_STEP = 0.25  # m between the places where the ground below a route is looked at
COARSE = 1.0  # m between those that tell which of several grounds it is
STEP_UP = 1.0  # m: what is higher above the ground before is no ground: a bridge overhead
LOWEST = 1e4  # m that it is looked down


class Ways:
    """The tables of all routes in an engine; each that is added stays."""

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._pieces: list[p.Records] = []
        self._lifts: list[Array] = []
        self._sizes: dict[str, tuple[Array, Array]] = {}

    def tables(self) -> dict[str, Any]:
        pieces = np.concatenate([np.zeros(0, p.PIECE), *self._pieces])
        return {"pieces": pieces, "lifts": np.concatenate([np.zeros((0, 3, 4)), *self._lifts])}

    def bounds(self, name: str) -> tuple[Array, Array]:
        """The low and high corner of what can be touched or seen of it, in its root, at the start."""
        if name not in self._sizes:
            engine = self._engine
            root = engine.node_pose(engine.compiled.robots[name].node).inverse()
            shapes = [
                (sight.shape, root @ engine.node_pose(sight.node) @ sight.pose)
                for sight in engine.compiled.sights
                if sight.shape is not None and (sight.name == name or sight.name.startswith(f"{name}/"))
            ]
            self._sizes[name] = bounds_of(shapes) if shapes else (np.zeros(3), np.zeros(3))
        return self._sizes[name]

    def onto(self, row: p.Records, name: str, route: Route, offsets: Sequence[float]) -> p.Records:
        """Put a route into the tables, and what leads along it into its row; gives its pieces."""
        is_even = isinstance(route.speed, float) and route.sideways == math.inf and not route.stands
        curve = route.curve.split(5.0 if is_even else GROUND_STEP)
        if route.length < 1e-3:
            raise VeldrainError("a route without length", where=name, cure="give points that are apart")
        ends = np.append(curve.s[1:], curve.length)
        squares = route.speeds(np.append(curve.s, curve.length)) ** 2
        pieces = np.zeros(len(curve.s), p.PIECE)
        for word in ("s", "x", "y", "heading", "k", "c"):
            pieces[word] = getattr(curve, word)
        pieces["cosine"], pieces["sine"] = np.cos(curve.heading), np.sin(curve.heading)
        pieces["length"], pieces["square"] = ends - curve.s, squares[:-1]
        pieces["slope"] = np.diff(squares) / pieces["length"]
        columns = self._columns(route, offsets)
        lifts = np.stack([self._lift(name, route, curve.s, side) for side in columns], axis=1)
        led = row[0]
        led["first"] = sum(map(len, self._pieces))
        led["end"], led["piece"] = led["first"] + len(pieces), led["first"]
        led["lift"], led["columns"] = sum(map(len, self._lifts)), len(columns)
        led["side"] = columns[0]
        led["spread"] = columns[1] - columns[0] if len(columns) > 1 else 1.0
        led["length"], led["closed"], led["stops"] = curve.length, route.closed, route.at_the_end == "stop"
        led["turns"], led["turn"] = route.heading is None, route.heading or 0.0
        self._pieces.append(pieces)
        self._lifts.append(lifts.reshape(-1, 3, 4))
        return pieces

    @staticmethod
    def _columns(route: Route, offsets: Sequence[float]) -> Array:
        low, high = min(offsets), max(offsets)
        if not route.stands or high == low:
            return np.array([low])
        return np.linspace(low, high, max(2, math.ceil((high - low) / 0.5) + 1))

    def _lift(self, name: str, route: Route, s: Array, side: float) -> Array:
        """Cubics (n, 3, 4) of height, pitch and roll over the pieces of a route, so far left of it."""
        from scipy.interpolate import CubicHermiteSpline, CubicSpline

        knots = np.append(s, route.length)
        x, y = route.curve.to_xy(knots, np.full(len(knots), side))
        if not route.follows_ground:
            z, rolls = route.heights(knots)
            z = z + side * np.tan(rolls)
            pitch = (
                -np.arctan(np.gradient(z, knots)) if len(knots) > 2 else np.full(2, -math.atan2(z[1] - z[0], knots[1]))
            )
            table = np.stack([z, pitch, rolls], axis=1)
        else:
            table = self._ground(name, x, y, route.curve.at(knots)[2] if route.heading is None else route.heading)
        closed = route.closed
        if closed:
            table[-1] = table[0]
        if len(knots) == 2:
            change = (table[1:] - table[:-1])[:, :, None]
            return np.concatenate([table[:1, :, None], change, np.zeros((1, 3, 2))], axis=2)
        if route.follows_ground:  # monotone between what was looked at: a kerb is not smoothed into a wave
            slopes = np.gradient(table, knots, axis=0)
            spline: Any = CubicHermiteSpline(knots, table, slopes)
        else:
            spline = CubicSpline(knots, table, bc_type="periodic" if closed else "not-a-knot")
        lengths = np.diff(knots)
        return np.stack([spline.c[3 - k] * lengths[:, None] ** k for k in range(4)], axis=2)

    def _ground(self, name: str, x: Array, y: Array, heading: Any) -> Array:
        """Height, pitch and roll (n, 3) of something that stands on the ground with four wheels."""
        low, high = self.bounds(name)
        along, across = 0.35 * (high[0] - low[0]), 0.4 * (high[1] - low[1])
        middle = (low[0] + high[0]) / 2
        c, s = np.cos(heading), np.sin(heading)
        guess = self.ground(name, x, y)
        found = []
        for a, b in ((along, across), (along, -across), (-along, across), (-along, -across)):
            a = a + middle
            found.append(self._heights(x + a * c - b * s, y + a * s + b * c, guess))
        front_left, front_right, rear_left, rear_right = (np.where(np.isnan(z), guess, z) for z in found)
        front, rear = (front_left + front_right) / 2, (rear_left + rear_right) / 2
        left, right = (front_left + rear_left) / 2, (front_right + rear_right) / 2
        slope = (front - rear) / max(2 * along, 1e-6)
        z = (front + rear) / 2 - slope * middle
        return np.stack([z, -np.arctan(slope), np.arctan((left - right) / max(2 * across, 1e-6))], axis=1)

    def ground(self, name: str, x: Array, y: Array) -> Array:
        """Heights of the ground along a line: from one place to the next it climbs no more than a step."""
        way = np.concatenate([[0.0], np.cumsum(np.hypot(np.diff(x), np.diff(y)))])
        z, from_above = np.full(len(x), np.nan), self._top
        each = max(1, round(COARSE / max(way[-1] / max(len(x) - 1, 1), 1e-9)))
        for first in range(0, len(x), each):
            part = slice(first, first + each)
            z[part] = self._cast(x[part], y[part], np.full(len(x[part]), from_above))
            if np.isnan(z[part]).any():
                at = first + int(np.isnan(z[part]).argmax())
                raise VeldrainError(
                    f"has no ground below its route at {way[at]:.3g} m of it, at ({x[at]:.4g}, {y[at]:.4g})",
                    where=name,
                    cure="lay ground there, or give its points a height, [x, y, z]",
                )
            from_above = float(z[part][-1]) + STEP_UP
        return z

    def _heights(self, x: Array, y: Array, near: Array) -> Array:
        return self._cast(x, y, near + STEP_UP)

    def _cast(self, x: Array, y: Array, z: Array) -> Array:
        """Heights (n,) of what is fixed below points; nan: nothing."""
        starts = np.ascontiguousarray(np.stack([x, y, z], axis=1))
        far, _, _ = self.still.cast(starts, np.tile((0.0, 0.0, -1.0), (len(x), 1)), LOWEST)
        return np.where(np.isfinite(far), z - far, np.nan)

    @cached_property
    def _top(self) -> float:
        """A height above all that is fixed: rays that start much higher meet thin things less exactly."""
        geoms = self._engine.plant.geoms
        fixed = geoms["box"][(geoms["node"] < 0) & (geoms["kind"] != p.PLANE), 5]
        planes = geoms["pos"][(geoms["node"] < 0) & (geoms["kind"] == p.PLANE), 2]
        return float(max([0.0, *fixed, *planes])) + STEP_UP

    @cached_property
    def still(self) -> Scene:
        """What is fixed and can be touched, for rays."""
        sights = [s for s in self._engine.compiled.sights if s.is_touched and s.node < 0]
        return Scene(sights, self._engine.plant.nodes, None, {})
