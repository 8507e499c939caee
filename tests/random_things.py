"""Random data sheets, models, worlds and scenarios: what any of them has to do, all of them do."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np

import veldrain as vd
from veldrain.sheet import Choice, Flag, Number, Sheet

NAMES = ("heron", "otter", "stork", "teal", "vole", "eel", "newt", "swan", "coot", "ruff", "pike", "tench")


def sheet(random: np.random.Generator, kind: type[Sheet], **fixed: Any) -> Any:
    """A data sheet with about half of its fields drawn, within their bounds; those of a time are left as they are."""
    while True:
        told = dict(fixed)
        for name, field in kind.fields().items():
            if name in told or random.random() < 0.5:
                continue
            if isinstance(field, Flag):
                told[name] = bool(random.random() < 0.5)
            elif isinstance(field, Choice):
                told[name] = str(random.choice(list(field.choices)))
            elif isinstance(field, Number) and field.kind not in ("period", "time"):
                told[name] = number(random, field)
        try:
            return kind(**told)
        except vd.VeldrainError:  # numbers that do not go together: others are drawn
            continue


def number(random: np.random.Generator, field: Number) -> float:
    """A number within the bounds of a field."""
    low = max(field.least if field.least is not None else -1.0, field.above if field.above is not None else -1.0)
    high = field.most if field.most is not None and math.isfinite(field.most) else low + 2.0
    return float(low + (high - low) * random.uniform(0.05, 0.95))


def pose(random: np.random.Generator, far: float = 1.0) -> vd.Pose:
    return vd.Pose(random.uniform(-far, far, 3), rpy=random.uniform(-1.5, 1.5, 3))


def shape(random: np.random.Generator) -> Any:
    a, b, c = random.uniform(0.05, 0.3, 3).tolist()
    made: list[Callable[[], Any]] = [
        lambda: vd.Box((a, b, c)),
        lambda: vd.Sphere(a),
        lambda: vd.Cylinder(a, b),
        lambda: vd.Capsule(a, b),
        lambda: vd.Cone(a, b),
        lambda: vd.Ellipsoid((a, b, c)),
    ]
    return made[random.integers(len(made))]()


def part(random: np.random.Generator, role: str | None = None) -> vd.Part:
    colour = random.choice(["firebrick", "steelblue", "#3a5f0b"])
    roles = ["both", "visual", "collision"]
    return vd.Part(
        shape(random),
        pose(random, 0.2),
        role=role or str(random.choice(roles)),  # type: ignore[arg-type]
        colour=str(colour),
        surface=surface(random) if random.random() < 0.3 else None,
    )


def surface(random: np.random.Generator) -> vd.Surface:
    return vd.Surface(
        friction=float(random.uniform(0, 1)),
        restitution=float(random.uniform(0, 0.5)),
        rolling=float(random.uniform(0, 0.01)),
        torsional=float(random.uniform(0, 0.01)),
    )


SIMPLE = ("fixed", "revolute", "continuous", "prismatic")


def model(
    random: np.random.Generator,
    links: int = 6,
    name: str = "machine",
    kinds: tuple[str, ...] = (*SIMPLE, "planar", "ball"),
) -> vd.Model:
    """A tree of links with all kinds of joints, motors, frames, postures and some sensors; nothing of it touches."""
    m = vd.Model(name)
    for k in range(links):
        m.link(f"{NAMES[k]}_link", part(random, "both"), part(random, "visual"), mass=float(random.uniform(0.5, 3)))
    for k in range(1, links):
        kind = str(random.choice(kinds))
        more: dict[str, Any] = {"damping": float(random.uniform(0, 1))}
        if kind in ("revolute", "prismatic"):
            more |= {"limits": (-1.0, float(random.uniform(0.5, 1.5))), "friction": float(random.uniform(0, 0.3))}
        if kind in ("fixed", "ball"):
            more = {}
        axis = random.standard_normal(3)
        parent = f"{NAMES[int(random.integers(k))]}_link"
        m.joint(NAMES[k], parent, f"{NAMES[k]}_link", kind, pose(random), axis=axis.tolist(), **more)  # type: ignore[arg-type]
        if kind in ("revolute", "continuous", "prismatic") and random.random() < 0.7:
            mode = str(random.choice(["effort", "velocity", "position"]))
            m.motor(NAMES[k], mode, stiffness=50.0, damping=4.0, limit=float(random.uniform(5, 50)))  # type: ignore[arg-type]
    for one in list(m.links):
        for other in list(m.links):
            if one < other:
                m.no_contact(one, other)
    m.frame("tip", on=f"{NAMES[links - 1]}_link", pose=pose(random))
    limited = [j.name for j in m.joints.values() if j.limits is not None]
    if limited:
        m.posture("bent", {joint: float(random.uniform(-0.4, 0.4)) for joint in limited})
    on = f"{NAMES[0]}_link"
    m.mount("imu", sheet(random, vd.Imu), on=on, pose=pose(random))
    m.mount("scan", sheet(random, vd.Lidar, beams=8), on=on, pose=pose(random))
    m.mount("truth", vd.TruePose(), on=on)
    return m


def free_model(random: np.random.Generator, links: int = 6, **how: Any) -> vd.Model:
    """The same with nothing that takes or gives energy: no motors, damping, friction or limits."""
    m = model(random, links, **how)
    for joint in list(m.motors):
        m.remove_motor(joint)
    for joint, held in list(m.joints.items()):
        if held.kind not in ("fixed", "ball"):
            m.change_joint(joint, damping=0.0, friction=0.0)
        if held.limits is not None:
            m.change_joint(joint, limits=None)
    return m


def world(random: np.random.Generator) -> vd.World:
    """Ground, obstacles, bodies, patches, light, weather, frames and two robots, each somewhere of its own."""
    w = vd.World(gravity=(0, 0, float(random.uniform(-10, -1)))).ground(surface(random), height=-3.0)
    w.light(vd.Sun(float(random.uniform(0.2, 1.2)), float(random.uniform(-3, 3))))
    w.weather(sheet(random, vd.Air, pressure=101325.0, temperature=288.0))
    for k in range(3):
        at = vd.Pose((6.0 + 2 * k, 5.0, 0), rpy=random.uniform(-1, 1, 3))
        w.obstacle(f"post/{k}", part(random, "both"), pose=at, surface=surface(random))
        at = vd.Pose((6.0 + 2 * k, -5.0, 0.5), rpy=random.uniform(-1, 1, 3))
        w.body(f"stone{k}", shape(random), mass=float(random.uniform(0.2, 2)), pose=at, surface=surface(random))
    w.patch("mud", (2, 2, 1), pose=pose(random), surface=surface(random))
    w.frame("mark", pose(random, 3.0))
    w.place(model(random), "one", pose=vd.Pose((0, 0, 3)), fixed=bool(random.random() < 0.5))
    w.place(model(random, 4, "other"), "two", pose=vd.Pose((-6, 0, 3)))
    route = vd.Route([(-20, 12), (0, 12), (8, 14)], speed=float(random.uniform(0.5, 2)), radius=3)
    return w.actor("barge", part(random, "both"), route=route, offset=float(random.uniform(-0.5, 0.5)))


def condition(random: np.random.Generator, depth: int = 1) -> Any:
    """A condition on the things of ``world``; some joined, turned round, or held for a while."""
    if depth and random.random() < 0.4:
        a, b = condition(random, depth - 1), condition(random, depth - 1)
        return [a & b, a | b, ~a][random.integers(3)]
    things = ["one", "two", "stone0", "stone1", "barge"]
    a, b = random.choice(things, 2, replace=False).tolist()
    measures = [
        vd.distance(a, b),
        vd.clearance(a, b),
        vd.speed(a),
        vd.closing(a, b),
        vd.speed_difference(a, b),
        vd.height(a),
        vd.tilt(a),
        vd.time_to_collision(a, b),
        vd.time_gap(a, b),
        vd.time_gap(a, b, beside=True),
        vd.reading("one/imu", "angular_velocity[2]"),
    ]
    measure, bound = measures[random.integers(len(measures))], float(random.uniform(0.1, 8))
    made: list[Callable[[], Any]] = [
        lambda: measure < bound,
        lambda: measure > bound,
        lambda: vd.touching(a, "ground"),
        lambda: vd.inside(a, [(-2, -2, -4), (2, 2, 4)]),
    ]
    return made[random.integers(len(made))]()


def scenario(random: np.random.Generator, duration: float = 1.0) -> vd.Scenario:
    """Actions of all kinds at all kinds of moments in a world, and expectations."""
    w = world(random)
    s = vd.Scenario(w, duration, truth=["one"])
    w.placed["one"].model.change_link(f"{NAMES[0]}_link", vd.Box((0.2, 0.2, 0.2)))
    acts: list[Callable[[Any], Any]] = [
        lambda m: m.push("stone0", force=random.uniform(-20, 20, 3).tolist(), lasting=0.05),
        lambda m: m.change(f"one/{NAMES[0]}_link.friction", float(random.uniform(0.1, 0.9))),
        lambda m: m.change("stone0.friction", float(random.uniform(0.1, 0.9)), over=0.1),
        lambda m: m.change("air.wind_x", float(random.uniform(-5, 5)), over=0.05),
        lambda m: m.weather(rain=float(random.uniform(0, 1e-5)), wind_y=2.0),
        lambda m: m.fail("one/scan", str(random.choice(["stuck", "dead"])), lasting=0.1),
        lambda m: m.fail("one/imu", "dropped", lasting=0.1, fraction=0.5),
        lambda m: m.put("stone1", vd.Pose(random.uniform(2, 4, 3)), velocity=(1, 0, 0)),
        lambda m: m.remove("stone2"),
        lambda m: m.stop("barge", deceleration=float(random.uniform(0.5, 3))),
        lambda m: m.go("barge", speed=float(random.uniform(0.5, 3)), acceleration=1.0),
        lambda m: m.shift("barge", offset=float(random.uniform(-1, 1)), within=0.4),
        lambda m: m.say(f"note {random.integers(1000)}"),
    ]
    for n in range(8):
        act = acts[random.integers(len(acts))]
        time = 0.01 * int(random.integers(1, 60))
        which = random.integers(4)
        if which == 0 or n == 0:
            act(s.at(time, name=f"event {n}"))
        elif which == 1:
            act(s.when(condition(random), after=0.01 * int(random.integers(3)), name=f"event {n}"))
        elif which == 2:
            act(s.every(0.1 * int(random.integers(2, 5)), name=f"event {n}"))
        else:
            act(s.after("event 0", 0.01 * int(random.integers(30)), name=f"event {n}"))
    for n, word in enumerate(("never", "always", "eventually", "at_the_end")):
        s.expect(f"rule {n}", **{word: condition(random)})  # type: ignore[arg-type]
    return s


def roads(random: np.random.Generator) -> vd.Roads:
    """A crossing of three or four roads that wind away from it, with lanes, shoulders, sidewalks, heights and banks."""
    found, ends = vd.Roads("net"), []
    count = int(random.integers(3, 5))
    for k in range(count):
        turn = 2 * math.pi * k / count + float(random.uniform(-0.2, 0.2))
        along = np.cumsum([18.0, *random.uniform(30, 60, 3)])
        turns = turn + np.concatenate([[0.0, 0.0], random.uniform(-0.15, 0.15, 2)])
        points = np.column_stack([along * np.cos(turns), along * np.sin(turns), random.uniform(0, 1.5) * along / 100])
        sidewalk = float(random.uniform(0, 2)) if random.random() < 0.5 else 0.0
        found.road(
            NAMES[k],
            points.tolist(),
            radius=float(random.uniform(20, 60)) if random.random() < 0.5 else None,
            lanes=(1, int(random.integers(1, 3))),
            width=float(random.uniform(2.7, 3.6)),
            shoulder=float(random.uniform(0, 1)) if random.random() < 0.5 else 0.0,
            sidewalk=sidewalk,
            speed=float(random.uniform(8, 30)),
            bank=float(random.uniform(-0.04, 0.04)),
        )
        ends.append(f"{NAMES[k]}:start")
    return found.crossing("x", ends)
