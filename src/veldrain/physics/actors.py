"""What is led, above the kernels: its tables, and what it can be told by name."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np

from veldrain.errors import VeldrainError, unknown
from veldrain.kernel import entry
from veldrain.model import Placed
from veldrain.model.leading import Course, Gap, Laid, Leader, PosePath
from veldrain.motion.curves import Curve
from veldrain.motion.roads.lights import COLOURS
from veldrain.motion.routes import Route
from veldrain.physics import plant as p
from veldrain.physics.host import Engine, tree_of
from veldrain.physics.leading import SIDEWAYS, place_led
from veldrain.physics.robots import BLOCK
from veldrain.physics.spatial import triple
from veldrain.physics.waiting import Going, Lines
from veldrain.physics.ways import Ways
from veldrain.pose import Array

STEEPEST = 15 / 8  # of a quintic from rest to rest: its largest change, times its length over its height
BESIDE = 20.0  # m: a point that is farther from a route is not beside it
SHORT = 0.05  # m: who stands no farther on than that stands where told
# What a row has of its route.
TAKEN = "first", "end", "lift", "columns", "side", "spread", "length", "closed", "stops", "turns", "turn"
TAKEN_LINES = "first_line", "end_line"
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

    def __init__(self, engine: Engine, placed: Mapping[str, Placed], networks: Mapping[str, Laid]) -> None:
        self._engine = engine
        self.lines = Lines(networks)
        self._placed = {name: robot for name, robot in placed.items() if robot.is_led}
        self._leaders: dict[str, Leader] = {}  # of those that are asked for blocks
        self.numbers: dict[str, int] = {}
        self._block = -1  # the first step of the rows that leaders have given
        self.ways = Ways(engine)
        self._lines: dict[int, Route] = {}  # by where their pieces begin: which one something follows is in its row
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
                lights=self.lines.rows(),
                **self.ways.tables(),
            )
            if self.lines.any:
                ways = {name: self._way(name) for name in self.numbers}
                for name in self.numbers:
                    self._line_up(self._led(name), ways[name], [way for other, way in ways.items() if other != name])
            place_all(engine.plant)
            self.fill(0)
            self._begin()

    def _row(
        self, name: str, robot: Placed, course: Course, route: Route, moves: list[Any], minds: list[Any]
    ) -> p.Records:
        engine = self._engine
        tree = engine.plant.nodes["tree"][engine.compiled.robots[name].node]
        low, high = self.ways.bounds(name)
        row = np.zeros(1, p.LED)
        led = row[0]
        led["tree"], led["base"], led["upright"] = tree, -1, course.upright
        led["ahead"], led["wide"] = high[0], (high[1] - low[1]) / 2
        led["tall"] = -low[2] if route.stands else 0.0
        pieces = self._lay(row, name, route, (course.offset,))
        length = route.length
        if not 0.0 <= course.start <= length:
            raise VeldrainError(
                f"begins at {course.start:g} m of a route of {length:.4g} m", where=name, cure="give start= within it"
            )
        at = int(np.searchsorted(pieces["s"], course.start, side="right")) - 1
        led["s"], led["piece"], led["way"][0], led["halt"] = course.start, led["first"] + at, course.offset, np.inf
        square = pieces["square"][at] + pieces["slope"][at] * (course.start - pieces["s"][at])
        speed = route.top_speed
        led["goal"], led["up"], led["down"] = speed, route.acceleration, route.deceleration
        led["gap_up"], led["gap_down"] = route.acceleration, route.deceleration
        if course.begin > 0.0:
            led["begin"] = round(course.begin / engine.step)
        else:
            begins = speed if course.start_speed is None else course.start_speed
            led["speed"] = min(begins, math.sqrt(max(square, 0.0)))
        led["first_move"] = len(moves)
        moves += self._moves(name, robot, course)
        led["end_move"] = len(moves)
        led["first_mind"] = led["end_mind"] = len(minds)
        if course.keeps is not None:
            minds += self._minds(name, course.keeps, pieces)
            led["end_mind"] = len(minds)
            led["gap_time"], led["gap_rest"] = course.keeps.time, course.keeps.standstill
        return row

    def _way(self, name: str, led: Any = None, route: Route | None = None) -> Going:
        """How it goes along the route that it follows; or on the line of another, along which a row leads."""
        own = self._led(name)
        offset = self._offset(own)[0] if route is None else 0.0
        led, route = own if led is None else led, route or self._route(name)
        rear, ahead, wide = -float(self.ways.bounds(name)[0][0]), float(own["ahead"]), float(own["wide"])
        meets = self.lines.met(route, offset)
        return Going(self.numbers[name], route, offset, ahead, rear, wide, int(led["first"]), meets)

    def _line_up(self, led: Any, way: Going, others: Sequence[Going]) -> None:
        """Write the lines that something meets on its way into the tables, and which they are into its row."""
        rows = self.lines.of(way, others)
        plant = self._engine.plant
        led["first_line"], led["end_line"] = len(plant.lines), len(plant.lines) + len(rows)
        self._engine.plant = plant._replace(lines=np.concatenate([plant.lines, rows]))

    def shown(self, light: str) -> str:
        """The colour of a light.

        Raises:
            VeldrainError: there is none of this name.
        """
        switched = self.switched(light)
        return switched or self.lines.lights[light].shows(self._engine.steps * self._engine.step)

    def switched(self, light: str) -> str:
        """The colour that a light shows whatever its cycle says; "": none."""
        row = self._engine.plant.lights[self.lines.number(light)]
        number = row["forced"] if row["forced"] >= 0 else row["kept"]
        return COLOURS[number] if number >= 0 else ""

    def switch(self, light: str, colour: str | None, for_a_while: bool) -> None:
        """Let a light show a colour for a while, or from now on wherever it does not; None: no longer."""
        row = self._engine.plant.lights[self.lines.number(light)]
        row["forced" if for_a_while else "kept"] = -1 if colour is None else COLOURS.index(colour)

    def _lay(self, row: p.Records, name: str, route: Route, offsets: tuple[float, ...]) -> p.Records:
        """Put a route into the tables, and where it is into a row; gives its pieces."""
        pieces = self.ways.onto(row, name, route, offsets)
        self._lines[int(row[0]["first"])] = route
        return pieces

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

    def _minds(self, name: str, keeps: Gap, pieces: p.Records) -> Iterator[tuple[Any, ...]]:
        """Rows of those whom something led, whose route has these pieces, keeps a gap to."""
        engine = self._engine
        for other in keeps.to:
            if other not in engine.compiled.robots or engine.compiled.robots[other].node < 0 or other == name:
                movers = [n for n, r in engine.compiled.robots.items() if r.node >= 0 and n != name]
                raise unknown("actor, robot or body", other, movers, f"{name}: keeps")
            low, high = self.ways.bounds(other)
            node = engine.compiled.robots[other].node
            at = engine.node_pose(node).position
            near = np.hypot(pieces["x"] - at[0], pieces["y"] - at[1]).argmin()
            yield node, int(near), -low[0], (high[1] - low[1]) / 2

    def _begin(self) -> None:
        """Put all that is led where it begins, with the speed that it begins with."""
        plant, h = self._engine.plant, self._engine.step
        for name in self._placed:
            tree = tree_of(self._engine, name)
            row = plant.script[tree["script"] : tree["script"] + tree["width"]]
            at = plant.nodes["coord"][tree["first"]]
            plant.q[at : at + 7] = row[:7]
            if tree["whole"]:
                for n in range(tree["first"] + 1, tree["end"]):
                    plant.q[plant.nodes["coord"][n]] = row[7 + plant.nodes["dof"][n] - tree["dof"] - 6]
        first = plant.led.copy()
        for word in ("s", "travel"):  # of what follows a route: the second row is where it is a step later
            plant.led[word] += first["speed"] * h
        here = plant.script.copy()
        place_all(plant)
        for name in self._placed:
            tree = tree_of(self._engine, name)
            at, width = tree["script"], tree["width"]
            self._set_speeds(tree, here[at : at + width], plant.script[at + width : at + 2 * width])
        plant.led[:] = first
        place_all(plant)

    def _set_speeds(self, tree: Any, here: Array, there: Array) -> None:
        from scipy.spatial.transform import Rotation

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
        """The route that it follows now, or followed last."""
        return self._lines[int(self._led(name)["first"])]

    def go(self, name: str, speed: float | None, acceleration: float | None) -> None:
        """Let it reach a speed; None: its route's."""
        led, route = self._led(name), self._route(name)
        led["goal"], led["up"] = route.top_speed if speed is None else speed, acceleration or route.acceleration
        led["down"], led["halt"], led["begin"] = acceleration or route.deceleration, np.inf, 0

    def stop(self, name: str, deceleration: float | None, at: Sequence[float] | None) -> None:
        """Let it brake to a stand, or so that its front is beside a point."""
        led, route = self._led(name), self._route(name)
        led["down"] = deceleration or route.deceleration
        if at is not None and led["free"]:
            self._engine.notice(f"stop {name}", f"{name}: has left its route, and stops where it can, not at a point")
        if at is None or led["free"]:
            led["goal"] = 0.0
        else:
            s, left, ahead, _ = route.curve.foot(*at)
            if math.hypot(left, ahead) > BESIDE:
                self._engine.notice(
                    f"aside {name} {s}",
                    f"{name}: is told to stop at a point that lies {math.hypot(left, ahead):.3g} m from its route",
                )
            led["halt"] = s - led["ahead"]
            beyond = float(led["s"] + led["speed"] ** 2 / (2.0 * led["down"]) - led["halt"])
            if beyond > 0.0 and route.closed:
                led["halt"] += route.length  # once round
            elif beyond > SHORT:
                self._engine.notice(
                    f"stop {name}",
                    f"{name}: told at {led['speed']:.3g} m/s to stop so near that it stands {beyond:.3g} m too far on",
                )

    def widen(self, name: str, offset: float) -> None:
        """Look at the ground for an offset too."""
        led = self._led(name)
        low, high = led["side"], led["side"] + led["spread"] * (led["columns"] - 1)
        if self._route(name).stands and not low <= offset <= high:
            row = self._engine.plant.led[self.numbers[name] : self.numbers[name] + 1]
            at, free = led["piece"] - led["first"], led["free"]
            self._lay(row, name, self._route(name), (min(low, offset), max(high, offset)))
            led["piece"], led["free"] = led["first"] + at, free
            self._engine.plant = self._engine.plant._replace(**self.ways.tables())

    def shift(self, name: str, offset: float, within: float) -> None:
        """Let it move to an offset, in a time at the speed it has."""
        led = self._led(name)
        self._aim(name, self._offset(led), offset, max(float(led["speed"]), 0.5) * within)

    @staticmethod
    def _offset(led: Any) -> tuple[float, float, float]:
        """Its offset, and its first and second change along the way."""
        w = np.polynomial.Polynomial(led["way"])
        u = min(float(led["shifted"]), float(led["span"]))
        if led["shifted"] >= led["span"]:
            return float(w(u)), 0.0, 0.0
        return float(w(u)), float(w.deriv()(u)), float(w.deriv(2)(u))

    def _aim(self, name: str, now: tuple[float, float, float], offset: float, span: float) -> None:
        """The quintic from an offset with its changes to another at rest: no steeper than wheels can steer."""
        led, (d, slope, bend) = self._led(name), now
        least = STEEPEST * abs(offset - d) / SIDEWAYS
        if span < least:
            self._engine.notice(
                f"aside {name}",
                f"{name}: moves {abs(offset - d):.3g} m aside over {least:.3g} m of way, not over {span:.3g} m: "
                "it would slide sideways",
            )
            span = least
        rest = offset - d - slope * span - bend * span**2 / 2
        first, second = -(slope + bend * span), -bend
        a = np.array([[1, 1, 1], [3, 4, 5], [6, 12, 20]], float)
        high = np.linalg.solve(a, [rest, first * span, second * span**2])
        led["way"] = [d, slope, bend / 2, *(high / span ** np.arange(3, 6))]
        led["shifted"], led["span"] = 0.0, span

    def add_minds(self, name: str, gap: Gap) -> tuple[int, int]:
        """Rows for a gap that is kept later."""
        plant = self._engine.plant
        led = self._led(name)
        own = plant.pieces[led["first"] : led["end"]]
        rows = np.array(list(self._minds(name, gap, own)), p.MIND)
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
        self._lay(row, name, route, (-2.0, 2.0))
        self._engine.plant = self._engine.plant._replace(**self.ways.tables())
        if self.lines.any:
            others = [self._way(other) for other in self.numbers if other != name]
            self._line_up(row[0], self._way(name, row[0], route), others)
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
        for word in (*TAKEN, *TAKEN_LINES):
            led[word] = row[0][word]
        pieces = self._engine.plant.pieces["s"][led["first"] : led["end"]]
        led["s"], led["piece"] = s, led["first"] + max(0, int(np.searchsorted(pieces, s, side="right")) - 1)
        led["free"], led["halt"] = 0, np.inf
        led["goal"], led["up"], led["down"] = route.top_speed, route.acceleration, route.deceleration
        led["gap_up"], led["gap_down"] = route.acceleration, route.deceleration
        led["first_mind"] = led["end_mind"]  # whom it minds is told for its own route
        self._aim(name, (t, max(-SIDEWAYS, min(SIDEWAYS, math.sin(turn))), 0.0), 0.0, over)

    def leave(self, name: str, over: float) -> None:
        """Let it go straight on."""
        from scipy.spatial.transform import Rotation

        led, (x, y, heading, k) = self._led(name), self._now(name)
        d, slope, _ = self._offset(led)
        row = tree_of(self._engine, name)
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

    @property
    def asked(self) -> tuple[str, ...]:
        """Names of what is led by an object of Python, block by block, and not along a route."""
        return tuple(self._leaders)

    def room(self, steps: int, now: int) -> int:
        """How many steps can be taken at once."""
        return min(steps, BLOCK - now % BLOCK) if self._leaders else steps

    def fill(self, now: int) -> None:
        """Ask leaders for the block around a step."""
        base = now - now % BLOCK
        if base == self._block:
            return
        self._block = base
        if not self._leaders:
            return
        from scipy.spatial.transform import Rotation

        for name, leader in self._leaders.items():
            tree = tree_of(self._engine, name)
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
