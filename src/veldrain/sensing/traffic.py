"""The truth about others on the way: gaps and times to those ahead, and boxes around them."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from veldrain.model.sensor import Fields, Message, Mount
from veldrain.pose import Array
from veldrain.sensing.clouds import cloud_message
from veldrain.sensing.truth import Truth
from veldrain.sheet import Names, Number

MEASURES = {"gap": "m", "time_gap": "s", "time_to_collision": "s", "needed_deceleration": "m/s²", "lane_offset": "m"}
SLOWEST = 0.1  # m/s: below, nothing is said of times
STILL = 1e-3  # m/s: what closes in slower does not
_EDGE = np.linspace(-0.45, 0.45, 3)  # along each edge of a box of 1 m
POINTS = np.stack(np.meshgrid(_EDGE, _EDGE, _EDGE), axis=-1).reshape(-1, 3)  # of such a box that are looked for
Box = tuple[Array, Array]
Motion = tuple[Array, Array, Array, Array]


@dataclass(frozen=True)
class Ahead:
    """Of the nearest one ahead: the gap from front to rear (m), that over the own speed (s), the gap over the speed at
    which it shrinks (s; inf: it does not), and the deceleration that keeps it above 0 (m/s²; inf: none does); and
    the own offset to the left of the middle of the lane (m; nan: on no lane). inf where none is ahead."""

    gap: float
    time_gap: float
    time_to_collision: float
    needed_deceleration: float
    lane_offset: float


class TrueTraffic(Truth):
    """The true gap to the nearest of some others ahead, and what follows from it.

    Ahead is what lies on the way that the robot takes if it keeps its curvature, within the widths of both. Its
    measures are streams of their own as well: ``gap``, ``time_gap``, ``time_to_collision``, ``needed_deceleration``
    (v²/(2·gap) of the closing speed v; inf beyond ``hardest_braking``, so that every crash reads the same wherever its
    last sample falls) and ``lane_offset``.

    >>> TrueTraffic(["lorry"]).message
    'sensor_msgs/msg/Range'
    """

    message = "sensor_msgs/msg/Range"
    stacks = True

    others: Names = Names(kw_only=False, doc="names of robots, bodies and actors")
    hardest_braking: Number = Number("acceleration", default=20.0, above=0.0, doc="needed is more: inf, none brakes so")
    period: Number = Number("period", default=0.02, above=0.0, doc="time between samples, or their rate")

    @property
    def companions(self) -> tuple[str, ...]:
        return tuple(MEASURES)

    def unit(self, companion: str = "") -> str:
        return MEASURES.get(companion, "")

    def start(self, mount: Mount, random: np.random.Generator) -> TrafficAtWork:
        for name in (mount.robot, *self.others):
            mount.box_of(name)  # an unknown one is told before the start
        return TrafficAtWork(self.others, self.hardest_braking)

    def messages(self, reading: Ahead) -> dict[str, Message]:
        fields = Fields(radiation_type=1, field_of_view=0.0, min_range=0.0, max_range=math.inf, range=reading.gap)
        own = {"": Message(self.message, fields)}
        return own | {word: Message("std_msgs/msg/Float64", Fields(data=getattr(reading, word))) for word in MEASURES}


@dataclass
class TrafficAtWork:
    """Looks at each of the others."""

    others: tuple[str, ...]
    hardest: float

    def measure(self, mount: Mount) -> Ahead:
        own, motion = mount.box_of(mount.robot), mount.motion_of(mount.robot)
        speed = float(motion[1][:, 0] @ motion[2])
        best = Ahead(math.inf, math.inf, math.inf, 0.0, mount.lane_offset())
        for name in self.others:
            found = on_the_way(own, motion, mount.box_of(name), mount.motion_of(name))
            if found is None or found[0] >= best.gap:
                continue
            gap, closing = found
            times = time_over(gap, speed), time_to(gap, closing)
            best = Ahead(gap, *times, _brake(closing, gap, self.hardest), best.lane_offset)
        return best


def on_the_way(own: Box, motion: Motion, other: Box, others: Motion, beside: float = 0.0) -> tuple[float, float] | None:
    """The gap (m) to another ahead and the speed at which it shrinks (m/s); None where it is not on the own way.

    The way is the arc that is gone on if the curvature is kept, as wide as both are.

    Args:
        own: low and high corner (3,) of the own box, in its own axes.
        motion: own position (3,), axes (3, 3), velocity and spin (3,), world axes.
        other: those of the other.
        others: its motion.
        beside: how much wider the way is, m.
    """
    (low, high), (at, axes, v, spin), (o_low, o_high), (o_at, _, o_v, _) = own, motion, other, others
    speed = float(axes[:, 0] @ v)
    bend = float(axes[:, 2] @ spin) / speed if abs(speed) > 0.5 else 0.0
    x, y, _ = (axes.T @ (o_at - at)).tolist()
    along, across, turn = _on_arc(x, y, bend)
    wide = (high[1] - low[1] + o_high[1] - o_low[1]) / 2 + beside
    if along <= 0 or abs(across) > wide:
        return None
    way = axes @ (math.cos(turn), math.sin(turn), 0.0)
    return float(along - high[0] + o_low[0]), speed - float(way @ o_v)


def time_over(gap: float, speed: float) -> float:
    """A gap over the own speed, s; inf where that is next to none."""
    return gap / speed if speed > SLOWEST else math.inf


def time_to(gap: float, closing: float) -> float:
    """A gap over the speed at which it shrinks, s; inf where it does not."""
    return max(gap, 0.0) / closing if closing > STILL else math.inf


def _brake(closing: float, gap: float, hardest: float) -> float:
    """The deceleration that keeps a gap; inf where none does, or none can brake so."""
    if closing <= 0.0:
        return 0.0
    return closing**2 / (2.0 * gap) if closing**2 <= 2.0 * gap * hardest else math.inf


def _on_arc(x: float, y: float, bend: float) -> tuple[float, float, float]:
    """How far along and left of an arc from the origin along +x a point is, and the arc's turn there."""
    if abs(bend) < 1e-6:
        return x, y, 0.0
    radius = 1.0 / bend
    turn = math.atan2(x * math.copysign(1.0, radius), (radius - y) * math.copysign(1.0, radius))
    return abs(radius) * turn, radius - math.copysign(math.hypot(x, radius - y), radius), math.copysign(turn, radius)


@dataclass(frozen=True)
class Boxes:
    """Boxes in the mount's axes: names (n,), centres, sizes and velocities (n, 3), yaws (n,), and the share of each
    (n,) that can be seen from the mount."""

    names: tuple[str, ...]
    centres: Array
    sizes: Array
    yaws: Array
    velocities: Array
    visible: Array


class TrueBoxes(Truth):
    """The true boxes around others, as its mount would see them: their names are in the stream ``names``.

    A row has x, y, z of the centre, length, width and height, yaw, vx, vy, vz relative to the mount, ``visible``, the
    share of the box that nothing hides, and ``id``, the place of its name.

    >>> TrueBoxes(["lorry"], max_range="80 m").max_range
    80.0
    """

    message = "sensor_msgs/msg/PointCloud2"

    others: Names = Names(kw_only=False, doc="names of robots, bodies and actors")
    max_range: Number = Number("length", default=150.0, above=0.0, doc="what is farther is left out")
    period: Number = Number("period", default=0.1, above=0.0, doc="time between samples, or their rate")

    @property
    def companions(self) -> tuple[str, ...]:
        return ("names",)

    def start(self, mount: Mount, random: np.random.Generator) -> BoxesAtWork:
        for name in self.others:
            mount.box_of(name)
        return BoxesAtWork(self)

    def messages(self, reading: Boxes) -> dict[str, Message]:
        length, width, height = reading.sizes.T
        vx, vy, vz = reading.velocities.T
        columns = {"length": length, "width": width, "height": height, "yaw": reading.yaws}
        columns |= {"vx": vx, "vy": vy, "vz": vz, "visible": reading.visible}
        numbers = np.array([self.others.index(name) for name in reading.names], np.uint16)
        names = Message("std_msgs/msg/String", Fields(data=" ".join(self.others)))
        return {"": Message(self.message, cloud_message(reading.centres, **columns, id=numbers)), "names": names}


@dataclass
class BoxesAtWork:
    """Has no state."""

    sheet: TrueBoxes

    def measure(self, mount: Mount) -> Boxes:
        origin, base, own = mount.position(), mount.axes(), mount.motion()[0]
        names, rows, grids = [], [], []
        for name in self.sheet.others:
            low, high = mount.box_of(name)
            at, axes, v, _ = mount.motion_of(name)
            centre, size = at + axes @ ((low + high) / 2), high - low
            if np.linalg.norm(centre - origin) <= self.sheet.max_range:
                turned = base.T @ axes
                yaw = math.atan2(turned[1, 0], turned[0, 0])
                names.append(name)
                rows.append((*(base.T @ (centre - origin)), *size, yaw, *(base.T @ (v - own))))
                grids.append(centre + (POINTS * size) @ axes.T)
        table = np.array(rows, float).reshape(-1, 10)
        seen = self._visible(mount, names, origin, np.array(grids), table[:, 3:6].max(axis=1, initial=0.0))
        return Boxes(tuple(names), table[:, :3], table[:, 3:6], table[:, 6], table[:, 7:], seen)

    @staticmethod
    def _visible(mount: Mount, names: list[str], origin: Array, grids: Array, sizes: Array) -> Array:
        """The shares (n,) of points over boxes (n, m, 3), as the mount sees them, at which a ray meets the thing itself
        first.

        Rays that would pass the thing beside its shape say nothing, and are not counted.
        """
        if not names:
            return np.zeros(0)
        ways = (grids - origin).reshape(-1, 3)
        far = np.linalg.norm(ways, axis=1)
        met = mount.strike(np.tile(origin, (len(ways), 1)), ways / far[:, None], float(far.max() + sizes.max()))
        found, shares = mount.scene().names, np.zeros(len(names))
        sights, distances = met.sights.reshape(len(names), -1), met.distances.reshape(len(names), -1)
        far = far.reshape(len(names), -1)
        for k, name in enumerate(names):
            others = {
                g: g >= 0 and (found[g] == name or found[g].startswith(f"{name}/")) for g in set(sights[k].tolist())
            }
            own = np.array([others[g] for g in sights[k].tolist()])
            before = ~own & (distances[k] < far[k] - sizes[k])
            shares[k] = own.sum() / max((own | before).sum(), 1)
        return shares
