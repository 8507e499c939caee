"""What roads, traffic and many fixed things cost: called by run.py."""

from __future__ import annotations

import statistics
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

import veldrain as vd
from veldrain.demo import roads as demo
from veldrain.motion.roads.road import Repeat, Thing

Figure = tuple[str, float, str, str]  # name, value, unit, target


def timed(act: Callable[[], object], repeats: int) -> float:
    """Median seconds of a call."""
    found = []
    for _ in range(repeats):
        start = time.perf_counter()
        act()
        found.append(time.perf_counter() - start)
    return statistics.median(found)


def per_step(world: vd.World, repeats: int) -> float:
    """Microseconds of a step of a world."""
    sim = vd.Simulation(world)
    sim.advance(0.1)
    return 1e3 * timed(lambda: sim.advance(1.0), repeats)


def posts(count: int, way: str) -> vd.World:
    """A ball on the ground, and fixed posts in a row along x or y, or in a grid."""
    world = vd.World().ground().body("ball", vd.Sphere(0.1), mass=1, pose=vd.Pose((0, 0, 0.1)))
    for k in range(count):
        at = {"x": (3 + 0.5 * k, 0, 1), "y": (3, 0.5 * k, 1), "grid": (3 + k % 45, k // 45, 1)}[way]
        world.obstacle(f"post{k}", vd.Box((0.1, 0.1, 2)), pose=vd.Pose(at))
    return world


def circling(count: int, keeps: bool = False) -> vd.World:
    """Cars on a circle of 200 m."""
    turn = np.linspace(0, 2 * np.pi, 40, endpoint=False)
    route = vd.Route(np.column_stack([200 * np.cos(turn), 200 * np.sin(turn)]), speed=10, closed=True)
    world = vd.World().ground()
    for k in range(count):
        gap = vd.Gap("2 s", to=f"car{k - 1}") if keeps and k else None
        world.actor(f"car{k}", vd.Box((4, 1.8, 1.4)), route=route, start=0.99 * route.length * k / count, keeps=gap)
    return world


def ruled(count: int, lit: bool, gives: bool) -> vd.World:
    """Cars on two roads that cross: with a light on the one, and a line on the other at which all give way to all."""
    roads = vd.Roads("net").road("west", [(-800, 0), (800, 0)]).road("south", [(0, -800), (0, 800)])
    if lit:
        roads.light("light", "west", at=794, cycle=[("green", 60), ("red", 20)])
    if gives:
        roads.give_way("line", "south", at=794)
    world = vd.World().ground(height=-0.2).roads(roads)
    for k in range(count):
        route = roads.lane("west" if k % 2 else "south").route(speed=10)
        world.actor(f"car{k}", vd.Box((4, 1.8, 1.4)), route=route, start=790 - 15 * (k // 2 + 1))
    return world


def street(things: int = 200) -> vd.Scenario:
    """A kilometre of road with things beside it: the service car with lidar, radar and truth behind other cars."""
    scenario = demo.traffic(count=6)
    row = Repeat(0, 1000, 1000 / things, (-11.0, -11.0), (0, 0), (4, 4), (0, 0))
    roads = demo.long_straight(1000.0)
    roads.roads["straight"].things = [Thing("poplars", "pole", 0, -11.0, height=4, radius=0.15, repeats=(row,))]
    world = demo.flat(roads)
    for name, placed in scenario.world.placed.items():
        world.placed[name] = placed
    lidar = vd.SpinningLidar(period="10 Hz", channels=16, azimuths=450, max_range=60)
    world.placed["car"].model.mount("lidar", lidar, on="body", pose=vd.Pose((1.1, 0, 1.6)))
    scenario.world, scenario.duration = world, 10.0
    return scenario


def town(crossings: int = 15) -> vd.Roads:
    """A town on a grid, some 57 km of road with 210 crossings."""
    roads, block = vd.Roads("town"), 55.0
    ends: dict[tuple[int, int], list[str]] = {}
    for i in range(crossings):
        for j in range(crossings - 1):
            for name, di, dj in ((f"h{i}_{j}", 1, 0), (f"v{i}_{j}", 0, 1)):
                if i + di < crossings and j + dj < crossings - 1:
                    a, b = np.array((i, j)) * block, np.array((i + di, j + dj)) * block
                    way = np.array((di, dj)) * 12.0
                    roads.road(name, [tuple(a + way), tuple(b - way)])
                    ends.setdefault((i, j), []).append(f"{name}:start")
                    ends.setdefault((i + di, j + dj), []).append(f"{name}:end")
    for (i, j), arms in ends.items():
        roads.crossing(f"c{i}_{j}", arms)
    return roads


def roads(repeats: int) -> Iterator[Figure]:
    """All of it."""
    alone = per_step(posts(0, "x"), repeats)
    for way in ("x", "y", "grid"):
        more = per_step(posts(2000, way), repeats) - alone
        yield f"2,000 fixed posts, {way}: more a step", more, "us", "20"
    empty = per_step(vd.World().ground(), repeats)
    yield "thirty led cars: more a step", per_step(circling(30), repeats) - empty, "us", "10"
    yield "thirty that keep their gap: more a step", per_step(circling(30, keeps=True), repeats) - empty, "us", ""
    free = per_step(ruled(30, False, False), repeats)
    yield "thirty that meet a light: more a step", per_step(ruled(30, True, False), repeats) - free, "us", ""
    yield "fifteen that give way to fifteen: more a step", per_step(ruled(30, False, True), repeats) - free, "us", ""
    scenario = street()
    vd.run(scenario)
    yield (
        "1 km of road, 200 things, lidar, radar, truth",
        10.0 / timed(lambda: vd.run(scenario), 3),
        "x real time",
        "10",
    )
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "town.xodr"
        vd.save_roads(town(), path)
        yield "57 km of road, 210 crossings: load", timed(lambda: vd.load_roads(path), 3), "s", "3"
        text = ["veldrain: world/1", "ground: {}", "obstacles:"]
        for k in range(5000):
            at = f"[{3 + k % 70} m, {k // 70} m, 1 m]"
            text.append(f"  post{k}: {{box: [10 cm, 10 cm, 2 m], pose: {{xyz: {at}}}}}")
        file = Path(folder) / "posts.world.yaml"
        file.write_text("\n".join(text) + "\n")
        yield "5,000 things from YAML: load", timed(lambda: vd.load_world(file), 3), "s", "4"
        world = vd.load_world(file)
        yield "5,000 things: check", timed(lambda: vd.check(world), 3), "s", "4"
