"""What is led, above the kernels: its tables, and what it can be told by name."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.interpolate import CubicHermiteSpline, CubicSpline
from scipy.spatial.transform import Rotation

from veldrain.errors import VeldrainError, unknown
from veldrain.kernel import entry
from veldrain.model import Placed
from veldrain.model.leading import Course, Gap, Leader, PosePath
from veldrain.model.volumes import bounds_of
from veldrain.motion.curves import Curve
from veldrain.motion.routes import Route
from veldrain.physics import plant as p
from veldrain.physics.compiling import BLOCK
from veldrain.physics.leading import place_led
from veldrain.physics.scene import Scene
from veldrain.physics.spatial import triple
from veldrain.pose import Array

if TYPE_CHECKING:
    from veldrain.physics.engine import Engine

GROUND_STEP = 0.25  # m between the places where the ground below a route is looked at
COARSE = 1.0  # m between those that tell which of several grounds it is
STEP_UP = 1.0  # m: what is higher above the ground before is no ground: a bridge overhead
LOWEST = 1e4  # m that it is looked down
NO_MOVE = {"offset": 0.0, "rate": 0.0, "swing": 0.0, "wave": 0.0, "phase": 0.0, "base": 0.0, "gain": 1.0}


@entry
def place_all(a):
    """Both rows of all that follows a route: where it is."""
    for k in range(len(a.led)):
        tree = a.trees[a.led[k].tree]
        for row in (a.script[tree.script :], a.script[tree.script + tree.width :]):
            place_led(a.led[k], a.pieces, a.lifts, a.moves, triple(a.nodes[tree.first].centre), row)


class Actors:
    """All that is led in an engine.

    Attributes:
        numbers: of the rows of what follows a route, by name.
    """

    def __init__(self, engine: Engine, placed: Mapping[str, Placed]) -> None:
        self._engine = engine
        self._placed = {name: robot for name, robot in placed.items() if robot.is_led}
        self._leaders: dict[str, Leader] = {}  # of those that are asked for blocks
        self.numbers: dict[str, int] = {}
        self._block = -1  # the first step of the rows that leaders have given
        self._pieces: list[p.Records] = []
        self._lifts: list[Array] = []
        self._sizes: dict[str, tuple[Array, Array]] = {}
        rows: list[p.Records] = []
        moves: list[Any] = []
        minds: list[Any] = []
        for name, robot in self._placed.items():
            course = robot.course
            if course is not None and isinstance(course.leader, Route):
                self.numbers[name] = len(rows)
                rows.append(self._row(name, robot, course, course.leader, moves, minds))
            else:
                self._leaders[name] = PosePath(robot.path) if course is None else course.leader
        if self._placed:
            plant = engine.plant
            engine.plant = plant._replace(
                led=np.concatenate([plant.led, *rows]),
                moves=np.array(moves, p.MOVE),
                minds=np.array(minds, p.MIND),
                **self._tables(),
            )
            place_all(engine.plant)
            self.fill(0)
            self._begin()

    def _tables(self) -> dict[str, Any]:
        pieces = np.concatenate([np.zeros(0, p.PIECE), *self._pieces])
        return {"pieces": pieces, "lifts": np.concatenate([np.zeros((0, 3, 4)), *self._lifts])}

    def _tree(self, name: str) -> Any:
        engine = self._engine
        return engine.plant.trees[engine.plant.nodes["tree"][engine.compiled.robots[name].node]]

    def _row(
        self, name: str, robot: Placed, course: Course, route: Route, moves: list[Any], minds: list[Any]
    ) -> p.Records:
        engine = self._engine
        tree = engine.plant.nodes["tree"][engine.compiled.robots[name].node]
        low, high = self.bounds(name)
        row = np.zeros(1, p.LED)
        led = row[0]
        led["tree"], led["base"], led["upright"] = tree, -1, course.upright
        led["ahead"], led["wide"] = high[0], (high[1] - low[1]) / 2
        led["tall"] = -low[2] if route.stands else 0.0
        self._onto(row, name, route, (course.offset,))
        length = route.length
        if not 0.0 <= course.start <= length:
            raise VeldrainError(
                f"begins at {course.start:g} m of a route of {length:.4g} m", where=name, cure="give start= within it"
            )
        pieces = self._pieces[-1]
        at = int(np.searchsorted(pieces["s"], course.start, side="right")) - 1
        led["s"], led["piece"], led["way"][0], led["halt"] = course.start, led["first"] + at, course.offset, np.inf
        square = pieces["square"][at] + pieces["slope"][at] * (course.start - pieces["s"][at])
        speed = route.speed if isinstance(route.speed, float) else max(route.speed)
        led["goal"], led["up"], led["down"] = speed, route.acceleration, route.deceleration
        if course.begin > 0.0:
            led["begin"] = round(course.begin / engine.step)
        else:
            led["speed"] = min(speed, math.sqrt(max(square, 0.0)))
        led["first_move"] = len(moves)
        moves += self._moves(name, robot, course)
        led["end_move"] = len(moves)
        led["first_mind"] = led["end_mind"] = len(minds)
        if course.keeps is not None:
            minds += self.minds(name, course.keeps, row)
            led["end_mind"] = len(minds)
            led["gap_time"], led["gap_rest"] = course.keeps.time, course.keeps.standstill
        return row

    def _moves(self, name: str, robot: Placed, course: Course) -> Iterator[tuple[Any, ...]]:
        """What each joint does, in the order of the tree."""
        model, engine = robot.model, self._engine
        dofs = engine.compiled.robots[name].joints
        first = min(dofs.values(), default=0)
        positions = model.positions(robot.joints, name)
        for joint, dof in dofs.items():
            offset, gain, root = 0.0, 1.0, joint
            while model.joints[root].mimic and root not in course.moves:
                leader, ratio, more = model.joints[root].mimic  # type: ignore[misc]
                offset, gain, root = offset + gain * more, gain * ratio, leader
            move = course.moves.get(root)
            told = NO_MOVE | dict(move.moves() if move else {}) | {"gain": gain}
            told["offset"] = offset + gain * positions.get(root, 0.0)
            yield (dof - first, *told.values())

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

    def minds(self, name: str, keeps: Gap, row: p.Records) -> Iterator[tuple[Any, ...]]:
        """Rows of those whom something led keeps a gap to."""
        engine, led = self._engine, row[0]
        for other in keeps.to:
            if other not in engine.compiled.robots or engine.compiled.robots[other].node < 0 or other == name:
                movers = [n for n, r in engine.compiled.robots.items() if r.node >= 0 and n != name]
                raise unknown("actor, robot or body", other, movers, f"{name}: keeps")
            low, high = self.bounds(other)
            node = engine.compiled.robots[other].node
            pieces = engine.plant.pieces if not self._pieces else self._tables()["pieces"]
            own = pieces[led["first"] : led["end"]]
            at = engine.node_pose(node).position
            near = np.hypot(own["x"] - at[0], own["y"] - at[1]).argmin()
            yield node, int(near), -low[0], (high[1] - low[1]) / 2

    def _onto(self, row: p.Records, name: str, route: Route, offsets: Sequence[float]) -> None:
        """Put a route into the tables, and what leads along it into its row."""
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

    @staticmethod
    def _columns(route: Route, offsets: Sequence[float]) -> Array:
        low, high = min(offsets), max(offsets)
        if not route.stands or high == low:
            return np.array([low])
        return np.linspace(low, high, max(2, math.ceil((high - low) / 0.5) + 1))

    def _lift(self, name: str, route: Route, s: Array, side: float) -> Array:
        """Cubics (n, 3, 4) of height, pitch and roll over the pieces of a route, so far left of it."""
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

    def _begin(self) -> None:
        """Put all that is led where it begins, with the speed that it begins with."""
        plant, h = self._engine.plant, self._engine.step
        for name in self._placed:
            tree = self._tree(name)
            row = plant.script[tree["script"] : tree["script"] + tree["width"]]
            at = plant.nodes["coord"][tree["first"]]
            plant.q[at : at + 7] = row[:7]
            if tree["whole"]:
                for n in range(tree["first"] + 1, tree["end"]):
                    plant.q[plant.nodes["coord"][n]] = row[7 + plant.nodes["dof"][n] - tree["dof"] - 6]
        for name, number in self.numbers.items():
            led, tree = plant.led[number], self._tree(name)
            here = plant.script[tree["script"] : tree["script"] + tree["width"]].copy()
            ahead = led.copy()
            led["s"] += led["speed"] * h
            led["travel"] += led["speed"] * h
            place_all(plant)
            there = plant.script[tree["script"] : tree["script"] + tree["width"]].copy()
            plant.led[number] = ahead
            self._set_speeds(tree, here, there)
        place_all(plant)
        for name in self._leaders:
            tree = self._tree(name)
            at, width = tree["script"], tree["width"]
            self._set_speeds(tree, plant.script[at : at + width], plant.script[at + width : at + 2 * width])

    def _set_speeds(self, tree: Any, here: Array, there: Array) -> None:
        plant, h = self._engine.plant, self._engine.step
        turn = Rotation.from_quat(there[3:7]) * Rotation.from_quat(here[3:7]).inv()
        dof = tree["dof"]
        plant.speeds[p.NOW, dof : dof + 6] = [*(turn.as_rotvec() / h), *((there[:3] - here[:3]) / h)]
        plant.speeds[p.NOW, dof + 6 : dof + tree["dofs"]] = 0.0
        if tree["whole"]:
            plant.speeds[p.NOW, dof + 6 : dof + tree["dofs"]] = (there[7:] - here[7:]) / h

    def check(self, name: str) -> None:
        """See that something follows a route.

        Raises:
            VeldrainError: there is no such actor.
        """
        if name not in self.numbers:
            raise unknown("actor on a route", name, self.numbers, "scenario")

    def _led(self, name: str) -> Any:
        return self._engine.plant.led[self.numbers[name]]

    def _route(self, name: str) -> Route:
        course = self._placed[name].course
        assert course is not None and isinstance(course.leader, Route)
        return course.leader

    def go(self, name: str, speed: float | None, acceleration: float | None) -> None:
        """Let it reach a speed; None: its route's."""
        led, route = self._led(name), self._route(name)
        own = route.speed if isinstance(route.speed, float) else max(route.speed)
        led["goal"], led["up"] = own if speed is None else speed, acceleration or route.acceleration
        led["down"], led["halt"], led["begin"] = acceleration or route.deceleration, np.inf, 0

    def stop(self, name: str, deceleration: float | None, at: Sequence[float] | None) -> None:
        """Let it brake to a stand, or so that its front is beside a point."""
        led, route = self._led(name), self._route(name)
        led["down"] = deceleration or route.deceleration
        if at is None:
            led["goal"] = 0.0
        else:
            s = float(route.curve.to_st(np.array(at[0]), np.array(at[1]))[0])
            led["halt"] = s - led["ahead"]

    def widen(self, name: str, offset: float) -> None:
        """Look at the ground for an offset too."""
        led = self._led(name)
        low, high = led["side"], led["side"] + led["spread"] * (led["columns"] - 1)
        if self._route(name).stands and not low <= offset <= high:
            row = self._engine.plant.led[self.numbers[name] : self.numbers[name] + 1]
            at, free = led["piece"] - led["first"], led["free"]
            self._onto(row, name, self._route(name), (min(low, offset), max(high, offset)))
            led["piece"], led["free"] = led["first"] + at, free
            self._engine.plant = self._engine.plant._replace(**self._tables())

    def shift(self, name: str, offset: float, within: float) -> None:
        """Let it move to an offset, in a time at the speed it has."""
        led = self._led(name)
        d, slope, bend = self._offset(led)
        self._aim(led, (d, slope, bend), offset, max(float(led["speed"]), 0.5) * within)

    @staticmethod
    def _offset(led: Any) -> tuple[float, float, float]:
        """Its offset, and its first and second change along the way."""
        w = np.polynomial.Polynomial(led["way"])
        u = min(float(led["shifted"]), float(led["span"]))
        if led["shifted"] >= led["span"]:
            return float(w(u)), 0.0, 0.0
        return float(w(u)), float(w.deriv()(u)), float(w.deriv(2)(u))

    @staticmethod
    def _aim(led: Any, now: tuple[float, float, float], offset: float, span: float) -> None:
        """The quintic from an offset with its changes to another at rest."""
        d, slope, bend = now
        rest = offset - d - slope * span - bend * span**2 / 2
        first, second = -(slope + bend * span), -bend
        a = np.array([[1, 1, 1], [3, 4, 5], [6, 12, 20]], float)
        high = np.linalg.solve(a, [rest, first * span, second * span**2])
        led["way"] = [d, slope, bend / 2, *(high / span ** np.arange(3, 6))]
        led["shifted"], led["span"] = 0.0, span

    def add_minds(self, name: str, gap: Gap) -> tuple[int, int]:
        """Rows for a gap that is kept later."""
        plant = self._engine.plant
        number = self.numbers[name]
        rows = np.array(list(self.minds(name, gap, plant.led[number : number + 1])), p.MIND)
        first = len(plant.minds)
        self._engine.plant = plant._replace(minds=np.concatenate([plant.minds, rows]))
        return first, first + len(rows)

    def keep(self, name: str, gap: Gap, rows: tuple[int, int]) -> None:
        """Let it keep a gap."""
        led = self._led(name)
        led["first_mind"], led["end_mind"] = rows
        led["gap_time"], led["gap_rest"] = gap.time, gap.standstill

    def prepare(self, name: str, route: Route) -> p.Records:
        """A row of something led as it is on another route."""
        row = np.zeros(1, p.LED)
        self._onto(row, name, route, (-2.0, 2.0))
        self._engine.plant = self._engine.plant._replace(**self._tables())
        return row

    def take(self, name: str, route: Route, row: p.Records, over: float) -> None:
        """Put it onto another route where that is nearest, and let it come onto its line."""
        led, (x, y, heading, _) = self._led(name), self._now(name)
        d, slope, _ = self._offset(led)
        x, y, heading = x - d * math.sin(heading), y + d * math.cos(heading), heading + math.asin(slope)
        s, t = (float(v) for v in route.curve.to_st(np.array(x), np.array(y)))
        turn = math.remainder(heading - float(route.curve.at(np.array([s]))[2][0]), 2 * math.pi)
        if abs(math.sin(turn)) > 0.5 or math.cos(turn) < 0:
            self._engine.notice(
                f"take {name}", f"{name}: turns by {math.degrees(turn):.0f}° at once onto its route, at {s:.3g} m of it"
            )
        for word in ("first", "end", "lift", "columns", "side", "spread", "length", "closed", "stops", "turns", "turn"):
            led[word] = row[0][word]
        pieces = self._engine.plant.pieces["s"][led["first"] : led["end"]]
        led["s"], led["piece"] = s, led["first"] + max(0, int(np.searchsorted(pieces, s, side="right")) - 1)
        led["free"], led["halt"] = 0, np.inf
        led["goal"] = route.speed if isinstance(route.speed, float) else max(route.speed)
        led["up"], led["down"] = route.acceleration, route.deceleration
        led["first_mind"] = led["end_mind"]  # whom it minds is told for its own route
        self._aim(led, (t, max(-0.5, min(0.5, math.sin(turn))), 0.0), 0.0, over)

    def leave(self, name: str, over: float) -> None:
        """Let it go straight on."""
        led, (x, y, heading, k) = self._led(name), self._now(name)
        d, slope, _ = self._offset(led)
        row = self._tree(name)
        turn = Rotation.from_quat(self._engine.plant.script[row["script"] + row["width"] :][3:7])
        _, pitch, roll = turn.as_euler("ZYX")
        at = self._engine.node_pose(self._engine.compiled.robots[name].node)
        z = float(at.position[2] - turn.apply((0, 0, led["tall"]))[2])
        x, y, heading = x - d * math.sin(heading), y + d * math.cos(heading), heading + math.asin(slope)
        led["own"] = [x, y, heading, k / (1 - k * d), -k / (1 - k * d) / over, over, z, pitch, roll]
        led["s"], led["free"], led["halt"] = 0.0, 1, np.inf
        led["way"], led["shifted"], led["span"] = 0.0, 0.0, 0.0

    def _now(self, name: str) -> tuple[float, float, float, float]:
        """x, y, heading and curvature of its route where it is."""
        led = self._led(name)
        s = float(led["s"])
        if led["free"]:
            x, y, heading, k, c, length = (float(v) for v in led["own"][:6])
        else:
            piece = self._engine.plant.pieces[led["piece"]]
            x, y, heading, k, c, length = (float(piece[w]) for w in ("x", "y", "heading", "k", "c", "length"))
            s -= float(piece["s"])
        found = Curve.of([(length, k, k + c * length)], (x, y, heading)).at(np.array([s]))
        x, y, heading, k = (float(v[0]) for v in found)
        return x, y, heading, k

    def forget(self) -> None:
        """Ask leaders anew: the state was changed from outside."""
        self._block = -1

    def room(self, steps: int, now: int) -> int:
        """How many steps can be taken at once."""
        return min(steps, BLOCK - now % BLOCK) if self._leaders else steps

    def fill(self, now: int) -> None:
        """Ask leaders for the block around a step."""
        base = now - now % BLOCK
        if base == self._block:
            return
        self._block = base
        for name, leader in self._leaders.items():
            tree = self._tree(name)
            times = np.asarray((base + np.arange(BLOCK + 1)) * self._engine.step, float)
            places, turns = leader.at(times)
            node = self._engine.plant.nodes[tree["first"]]
            table = np.empty((BLOCK + 1, int(tree["width"])))
            table[:, :3], table[:, 3:7] = places + Rotation.from_quat(turns).apply(node["centre"]), turns
            if tree["whole"]:
                table[:, 7:] = self._joint_rows(name, leader, times)
            if not np.isfinite(table).all():
                raise VeldrainError("leads to no place (nan)", where=name, cure="look at its at(times)")
            at = tree["script"]
            self._engine.plant.script[at : at + table.size] = table.ravel()
            self._engine.plant.trees["base"][self._engine.plant.nodes["tree"][tree["first"]]] = base

    def _joint_rows(self, name: str, leader: Leader, times: Array) -> Array:
        robot = self._placed[name]
        positions = robot.model.positions(robot.joints, name)
        dofs = self._engine.compiled.robots[name].joints
        table = np.tile([positions.get(joint, 0.0) for joint in dofs], (len(times), 1))
        for k, joint in enumerate(leader.joints):
            if joint not in dofs:
                raise unknown("joint", joint, dofs, name)
            table[:, list(dofs).index(joint)] = leader.joints_at(times)[:, k]
        return table
