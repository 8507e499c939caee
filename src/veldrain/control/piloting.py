"""Pilots: they tell a drive where to go, from what sensors measure."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any, NamedTuple

import numpy as np

from veldrain.control.base import SheetController
from veldrain.control.contract import Body, MotorHandle
from veldrain.control.gap_keeping import NEVER, eased, nearest_ahead
from veldrain.errors import VeldrainError
from veldrain.motion import Route
from veldrain.motion.routes import is_on_roads
from veldrain.pose import Array
from veldrain.sampling import Reading
from veldrain.sheet import Choice, Made, Maybe, Number, Text
from veldrain.units import Quantity, quantity


class Planar(NamedTuple):
    """Where a vehicle is on the ground: m, m, rad."""

    x: float
    y: float
    yaw: float


def planar(reading: Reading, sensor: str) -> Planar:
    """The place and heading of a reading that has them: an odometer's, a pose's."""
    data = reading.data
    if hasattr(data, "yaw"):
        return Planar(float(data.x), float(data.y), float(data.yaw))
    if hasattr(data, "orientation") and hasattr(data, "position"):
        x, y, z, w = (float(v) for v in data.orientation)
        yaw = math.atan2(2 * (w * z + x * y), 1 - 2 * (y * y + z * z))
        return Planar(float(data.position[0]), float(data.position[1]), yaw)
    raise VeldrainError(
        f"{type(data).__name__} has no place and heading", where=sensor, cure="name an Odometer, or a sensor of a pose"
    )


def _points(value: Any, where: str) -> Any:
    if is_on_roads(value):
        return dict(value)  # a lane of the world's roads: known when it starts
    if isinstance(value, Route):
        return value
    try:
        rows = np.array([[quantity(v, "length", where) for v in point] for point in value])
    except TypeError as error:
        raise VeldrainError(f"{value!r} is no route", where=where, cure="give points (x, y)") from error
    if rows.ndim != 2 or rows.shape[1] != 2 or len(rows) < 2:
        raise VeldrainError(f"a route of shape {rows.shape}", where=where, cure="give two points (x, y) or more")
    if (np.linalg.norm(np.diff(rows, axis=0), axis=1) == 0).any():
        raise VeldrainError("two points of it are the same", where=where, cure="leave one out")
    return rows


def _samples(route: Route) -> Array:
    """Points (n, 2) of a route, a metre apart."""
    s = np.linspace(0.0, route.length, max(2, math.ceil(route.length) + 1))
    x, y, _, _ = route.curve.at(s)
    return np.column_stack([x, y])


def _place(value: Any, where: str) -> tuple[float, float]:
    row = np.array([quantity(v, "length", where) for v in value])
    if row.shape != (2,):
        raise VeldrainError(f"{value!r} is no place", where=where, cure="give x and y")
    return float(row[0]), float(row[1])


class Pilot(SheetController):
    """What pilots share: the drive that they tell."""

    to: Text = Text(default="drive", doc="name of the drive among the robot's controllers")

    def start(self, body: Body, random: Any, log: Any) -> None:
        self._body, self._log = body, log

    def _tell(self, forward: float, turning: float) -> None:
        self._body.tell(self.to, forward=forward, turning=turning)


class FollowRoute(Pilot):
    """Drives along a route: it steers onto the circle that leads to a point of it some way ahead.

    The curvature is 2·y/l², y how far that point lies to the side in the vehicle's axes and l how far away it is
    (R. C. Coulter, "Implementation of the Pure Pursuit Path Tracking Algorithm", CMU-RI-TR-92-01, 1992). It slows down
    for curves and comes to rest at the end; a closed ``Route`` is followed round after round. Its own stream
    ``off_route`` has the distance to the route, m.

    >>> FollowRoute([(0, 0), (5, 0), (5, 5)], speed="0.8 m/s").lookahead
    0.6
    """

    route: Made[Any, Any] = Made(
        _points,
        kw_only=False,
        doc="points (x, y) in the frame of the pose; a ``Route``, whose line counts; or road, lane and via of roads",
    )
    speed: Number = Number("speed", default=0.5, above=0.0, doc="largest")
    lookahead: Number = Number("length", default=0.6, above=0.0, doc="how far ahead on the route it steers to")
    lookahead_time: Number = Number("time", default=0.0, least=0.0, doc="more of it, for each m/s")
    radar: Maybe[str, str] = Maybe(Text(), default=None, doc="sensor by which it keeps a gap; None: it minds nobody")
    time_gap: Number = Number("time", default=1.8, above=0.0, doc="gap over speed that it keeps")
    standstill: Number = Number("length", default=3.0, above=0.0, doc="gap at rest")
    corridor: Number = Number("length", default=1.3, above=0.0, doc="half the width of the way that has to be free")
    pose: Text = Text(default="odometry", doc="sensor of its place and heading, such as an ``Odometer``")
    acceleration: Number = Number("acceleration", default=0.5, above=0.0, doc="with which it comes to rest")
    lateral_acceleration: Number = Number("acceleration", default=1.0, above=0.0, doc="largest in curves")

    def start(self, body: Body, random: Any, log: Any) -> None:
        super().start(body, random, log)
        found = body.route_on(**self.route) if isinstance(self.route, dict) else self.route
        self._round = math.inf  # m after which it begins anew
        if isinstance(found, Route):
            self._round, is_closed, found = found.length if found.closed else math.inf, found.closed, _samples(found)
            found = np.concatenate([found, found[1:]]) if is_closed else found  # what is ahead may be of the next round
        self._route: Array = found
        self._speed: float | None = None  # that it has told, and the curve
        self._curve = 0.0
        steps = np.diff(found, axis=0)
        self._lengths = np.linalg.norm(steps, axis=1)
        self._ways, self._far = steps / self._lengths[:, None], np.concatenate([[0.0], np.cumsum(self._lengths)])
        self._at = 0.0  # how far along the route it has come

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Mapping[str, MotorHandle]) -> None:
        reading = senses[self.pose]
        if reading is None:
            return
        here = planar(reading, self.pose)
        if self._speed is None:  # it may be on its way already
            measured = getattr(reading.data, "linear_velocity", None)
            self._speed = float(measured[0]) if measured is not None else 0.0
            self._at = self._begin_at(here)
        away = self._come_along(here)
        left = math.inf if math.isfinite(self._round) else float(self._far[-1]) - self._at
        goal = self._point(self._at + self.lookahead + self.lookahead_time * self._speed)
        dx, dy = goal[0] - here.x, goal[1] - here.y
        ahead, side = (
            math.cos(here.yaw) * dx + math.sin(here.yaw) * dy,
            -math.sin(here.yaw) * dx + math.cos(here.yaw) * dy,
        )
        distance = max(math.hypot(ahead, side), 1e-6)
        curve = 2.0 * side / distance**2
        speed = min(self.speed, math.sqrt(2.0 * self.acceleration * max(left, 0.0)))
        if curve:
            speed = min(speed, math.sqrt(self.lateral_acceleration / abs(curve)))
        if self.radar is not None:
            speed = self._behind_others(senses[self.radar], speed)
        self._curve = curve
        if ahead < 0.0 and left > 0.05:  # behind it: turn first
            self._tell(0.0, math.copysign(0.8, side))
        else:
            speed = 0.0 if left < 0.02 else max(speed, 0.05 if self.radar is None else 0.0)
            self._speed = speed
            self._tell(speed, speed * curve)
        self._log("off_route", away)

    def _behind_others(self, reading: Reading | None, wanted: float) -> float:
        """A speed that keeps the gap to what the radar detects ahead."""
        gap, closing, own = NEVER, 0.0, self._speed or 0.0
        if reading is not None:
            gap, away = nearest_ahead(reading.data, self._curve, self.corridor)
            closing = -away
        self._log("gap", gap)
        change = eased(
            own, wanted, gap, closing, self.time_gap, self.standstill, self.acceleration, 2 * self.acceleration
        )
        return min(wanted, max(0.0, own + change * self.period))

    def _beside(self, here: Planar, part: slice) -> tuple[Array, Array]:
        """Of some steps of the route: how far along it their nearest points are, and how far away."""
        p, starts, ways = np.array((here.x, here.y)), self._route[:-1][part], self._ways[part]
        along = np.clip(np.einsum("ij,ij->i", p - starts, ways), 0.0, self._lengths[part])
        x, y = (starts + along[:, None] * ways - p).T
        return self._far[:-1][part] + along, np.hypot(x, y)

    def _begin_at(self, here: Planar) -> float:
        """Where on the route it begins: the first place that is about as near as any, as a route may end there too."""
        place, away = self._beside(here, slice(None))
        return float(place[np.argmax(away <= away.min() + self.lookahead)])

    def _come_along(self, here: Planar) -> float:
        """Go on along the route to the point of it that is nearest; gives how far that is."""
        # Only what is near to where it was: a route may cross itself.
        low, high = self._at - 0.5, self._at + 2.0 * self.lookahead + 0.5
        first, end = np.searchsorted(self._far, (low, high)).tolist()
        place, away = self._beside(here, slice(max(first - 1, 0), end))
        near = (place >= low) & (place <= high)
        if not near.any():
            return float(self._beside(here, slice(None))[1].min())
        k = int(np.argmin(np.where(near, away, np.inf)))
        self._at = max(self._at, float(place[k]))
        if self._at > self._round:
            self._at -= self._round
        return float(away[k])

    def _point(self, far: float) -> Array:
        """A point of the route; beyond its end straight on, so that the end is driven through straight."""
        k = min(int(np.searchsorted(self._far, far, side="right")) - 1, len(self._lengths) - 1)
        return np.asarray(self._route[k] + (far - self._far[k]) * self._ways[k])


class GoTo(Pilot):
    """Drives to a place and heading, from wherever it is, and rests there.

    With the distance ρ to the goal, α the direction to it and β the heading that is left, v = k_ρ·ρ and
    ω = k_α·α + k_β·β come to it smoothly for k_ρ > 0, k_β < 0, k_α > k_ρ (R. Siegwart, I. R. Nourbakhsh, "Introduction
    to Autonomous Mobile Robots", 2004, section 3.6.2).

    >>> GoTo((2, 1), heading="90 deg").speed
    0.5
    """

    goal: Made[Any, tuple[float, float]] = Made(_place, kw_only=False, doc="x and y")
    heading: Maybe[Quantity, float] = Maybe(Number("angle"), default=None, doc="to end with; None: any")
    speed: Number = Number("speed", default=0.5, above=0.0, doc="largest")
    turning: Number = Number("angular speed", default=1.0, above=0.0, doc="largest")
    pose: Text = Text(default="odometry", doc="sensor of its place and heading")
    close: Number = Number("length", default=0.01, above=0.0, doc="where it has arrived")

    def start(self, body: Body, random: Any, log: Any) -> None:
        super().start(body, random, log)
        self._is_there = False

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Mapping[str, MotorHandle]) -> None:
        reading = senses[self.pose]
        if reading is None:
            return
        here = planar(reading, self.pose)
        dx, dy = self.goal[0] - here.x, self.goal[1] - here.y
        rho = math.hypot(dx, dy)
        self._log("to_go", rho)
        self._is_there = self._is_there or rho < self.close
        if self._is_there:
            off = 0.0 if self.heading is None else math.remainder(self.heading - here.yaw, 2 * math.pi)
            self._tell(0.0, min(max(1.5 * off, -self.turning), self.turning))
            return
        alpha = math.remainder(math.atan2(dy, dx) - here.yaw, 2 * math.pi)
        beta = 0.0 if self.heading is None else math.remainder(self.heading - here.yaw - alpha, 2 * math.pi)
        turning = 2.5 * alpha - 0.8 * beta
        forward = min(rho, self.speed) * max(math.cos(alpha), 0.0)
        self._tell(forward, min(max(turning, -self.turning), self.turning))


class WallFollower(Pilot):
    """Drives along a wall at a distance, by a lidar; it turns away from what is in front.

    Two beams, straight to the side and 45 degrees ahead of it, give the direction of the wall and the distance that it
    will have a little farther on.

    >>> WallFollower("right", distance="60 cm").distance
    0.6
    """

    side: Choice = Choice("left", "right", default="right", kw_only=False, doc="where the wall is")
    distance: Number = Number("length", default=0.5, above=0.0, doc="to keep to it")
    speed: Number = Number("speed", default=0.4, above=0.0, doc="largest")
    gain: Number = Number("ratio", default=4.0, above=0.0, doc="curvature (1/m) for each metre too near or far")
    turning: Number = Number("angular speed", default=1.2, above=0.0, doc="largest")
    scan: Text = Text(default="scan", doc="name of the lidar")

    def update(self, now: float, senses: Mapping[str, Reading | None], motors: Mapping[str, MotorHandle]) -> None:
        scan = senses[self.scan]
        if scan is None:
            return
        s = -1.0 if self.side == "right" else 1.0
        beside, ahead, front = (_range(scan, s * angle) for angle in (math.pi / 2, math.pi / 4, 0.0))
        # Where the wall ends it is followed round, closely: what is in front then is passed in the curve.
        ends = beside > 1.7 * self.distance
        if front < (0.8 if ends else 1.6) * self.distance:  # a corner: turn away from the wall
            self._tell(0.3 * self.speed * max(front / self.distance - 0.8, 0.0), -s * self.turning)
            return
        if ends or not math.isfinite(ahead):
            turning = min(self.speed / (0.9 * self.distance), self.turning)
            self._tell(self.speed, turning * s)
            return
        # The wall's direction against ours: 0 where it runs beside us.
        angle = math.atan2(ahead * math.cos(math.pi / 4) - beside, ahead * math.sin(math.pi / 4))
        soon = beside * math.cos(angle) + 0.6 * self.distance * math.sin(angle)
        turning = s * self.gain * (soon - self.distance) * self.speed
        self._tell(self.speed, min(max(turning, -self.turning), self.turning))
        self._log("to_wall", beside * math.cos(angle))


def _range(scan: Reading, angle: float, width: float = 0.09) -> float:
    """The shortest range near a direction, m; inf where nothing is seen."""
    near = np.abs(np.asarray(scan.angles) - angle) <= width
    seen = np.asarray(scan.ranges)[near]
    seen = seen[np.isfinite(seen)]
    return float(seen.min()) if len(seen) else math.inf
