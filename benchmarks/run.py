"""What the product costs: medians of repeated runs, printed as a table and written as JSON.

Run with ``make bench``. Engine and sensors run on one core; targets stand beside the figures. The first
demo compiles the kernels into an empty cache folder, as on a machine that has never seen them.
"""

from __future__ import annotations

import argparse
import json
import math
import os
import platform
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import trimesh
from motion import motion
from pages import pages
from roads import roads
from scipy.spatial.transform import Rotation
from streams import streams
from studies import studies

import veldrain as vd
import veldrain.demo
from veldrain.physics.preparing import prepare
from veldrain.scenario.trial import Trial
from veldrain.simulation import engine_of

DEMO = Path(veldrain.demo.__path__[0])
Figure = tuple[str, float, str, str]  # name, value, unit, target


def seconds(act: Callable[[], object]) -> float:
    """How long one call takes."""
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def trials(repeats: int) -> Iterator[Figure]:
    """The demo's trial, with and without its recording, in turn, so that both meet the same machine."""
    scenario = vd.load_scenario(DEMO / "culvert.scenario.yaml")
    scenario.duration = 10.0
    bare, whole = [], []
    for _ in range(repeats + 1):
        bare.append(seconds(Trial(scenario, 1).run))
        whole.append(seconds(lambda: vd.run(scenario, seed=1)))
    bare, whole = bare[1:], whole[1:]  # the first of each warms up
    yield "real-time factor, sensors, no recording", 10.0 / statistics.median(bare), "×", "≥ 30"
    yield "real-time factor, sensors and recording", 10.0 / statistics.median(whole), "×", ""
    share = statistics.median(1 - b / w for b, w in zip(bare, whole, strict=True))
    yield "recording's share of the trial", 100 * share, "%", "≤ 15"


def engine(repeats: int) -> Iterator[Figure]:
    """Steps of the engine alone, counted whole."""
    for name, sim, target in (
        ("crawler standing", culvert(0.0), "≤ 20"),
        ("crawler driving straight", culvert(5.0), "≤ 20"),
        ("crawler turning in place", culvert(5.0, turning=True), "≤ 20"),
        ("seven-joint arm in free motion", arm(7), "≤ 4, aim 2"),
        ("six-legged walker, six feet down", walker(), "≤ 60"),
        ("stack of ten boxes", stack(10), "≤ 80"),
    ):
        sim.advance(0.3)
        snapshot = sim.snapshot()
        found = []
        for _ in range(repeats):
            sim.restore(snapshot)
            found.append(seconds(lambda sim=sim: engine_of(sim).advance(2000)) / 2000)  # type: ignore[misc]
        yield f"step: {name}", 1e6 * statistics.median(found), "µs", target
    sim.restore(snapshot)
    robot = culvert(0.0)["crawler"]
    for name, act in (
        ("pose", lambda: robot.pose("mast")),
        ("velocity", lambda: robot.velocity("mast")),
        ("push", lambda: robot.push((0.0, 1.0, 0.0))),
        ("poses of six links", lambda: robot.poses()),
    ):
        act()
        yield f"a handle's {name}", 1e6 * seconds(lambda act=act: [act() for _ in range(2000)]) / 2000, "µs", "≤ 5"  # type: ignore[misc]
    calls = seconds(lambda: [engine_of(sim).advance(0) for _ in range(2000)]) / 2000
    yield "call of advance, no steps", 1e6 * calls, "µs", "≤ 25"


def piles(repeats: int) -> Iterator[Figure]:
    """Boxes that fall into a pile: the mean step over 2 s, and how it grows."""
    sizes, costs = (50, 100, 200, 400), []
    for size in sizes:
        sim = pile(size)
        start = sim.snapshot()
        found = []
        for _ in range(max(1, repeats // 2)):
            sim.restore(start)
            found.append(seconds(lambda sim=sim: engine_of(sim).advance(2000)) / 2000)  # type: ignore[misc]
        costs.append(statistics.median(found))
        yield f"step: pile of {size} boxes", 1e3 * costs[-1], "ms", "≤ 6" if size == 200 else ""
    exponent = float(np.polyfit(np.log(sizes), np.log(costs), 1)[0])
    yield "growth of the pile's step, exponent of n", exponent, "", "≤ 1.3"
    yield "the same from 200 to 400", math.log2(costs[3] / costs[2]), "", ""


def culvert(speed: float, turning: bool = False) -> vd.Simulation:
    sim = vd.Simulation(vd.load_world(DEMO / "culvert.world.yaml"))
    for joint in sim["crawler"].joints:
        sim["crawler"].command(joint, velocity=-speed if turning and joint.endswith("right") else speed)
    return sim


def arm(joints: int) -> vd.Simulation:
    m = vd.Model("arm").link("link0", mass=5)
    for k in range(joints):
        m.link(f"link{k + 1}", vd.Part(vd.Box((0.05, 0.05, 0.3)), role="visual"), mass=2)
        axis = ((1, 0, 0), (0, 1, 0), (0, 0, 1))[k % 3]
        m.joint(f"joint{k}", f"link{k}", f"link{k + 1}", kind="revolute", pose=vd.Pose((0, 0, 0.3)), axis=axis)
    return vd.Simulation(vd.World().place(m, fixed=True))


def walker(rows: tuple[float, ...] = (0.25, 0.0, -0.25)) -> vd.Simulation:
    """A hull on legs of three position motors each, two in a row; it holds its stance."""
    world, start = walking(rows)
    sim = vd.Simulation(world)
    for joint, angle in start.items():
        sim["walker"].command(joint, position=angle)
    return sim


def walking(rows: tuple[float, ...]) -> tuple[vd.World, dict[str, float]]:
    """The walker's world, and its stance."""
    m = vd.Model("walker").link("hull", vd.Box((0.6, 0.3, 0.1)), mass=12)
    for k, (x, side) in enumerate((x, s) for x in rows for s in (1, -1)):
        hip = vd.Pose((x, 0.15 * side, 0), yaw=math.copysign(math.pi / 2, side))
        for name, length in (("hip", 0.05), ("thigh", 0.15), ("shin", 0.2)):
            m.link(
                f"{name}{k}",
                vd.Part(vd.Capsule(0.02, length), vd.Pose((length / 2, 0, 0), rpy=(0, math.pi / 2, 0))),
                mass=0.3,
            )
        m.link(f"foot{k}", vd.Sphere(0.025), mass=0.05)
        m.joint(f"turn{k}", "hull", f"hip{k}", "revolute", hip)
        m.joint(f"lift{k}", f"hip{k}", f"thigh{k}", "revolute", vd.Pose((0.05, 0, 0)), axis=(0, 1, 0))
        m.joint(f"bend{k}", f"thigh{k}", f"shin{k}", "revolute", vd.Pose((0.15, 0, 0)), axis=(0, 1, 0))
        m.joint(f"ankle{k}", f"shin{k}", f"foot{k}", "fixed", vd.Pose((0.2, 0, 0)))
        for joint in ("turn", "lift", "bend"):
            m.motor(f"{joint}{k}", "position", stiffness=300, damping=6, limit=20)
    start = {f"{j}{k}": a for k in range(2 * len(rows)) for j, a in (("lift", -0.4), ("bend", 1.6))}
    return vd.World().ground().place(m, pose=vd.Pose((0, 0, 0.155)), joints=start), start


def copies(repeats: int) -> Iterator[Figure]:
    """Robot steps a second of many copies, on all cores, 20 steps between two commands."""
    m = vd.Model("cart").link("rail").link("cart", vd.Box((0.3, 0.2, 0.12)), mass=1.0)
    m.link("pole", vd.Part(vd.Capsule(0.02, 0.9), pose=vd.Pose((0, 0, 0.5))), mass=0.2)
    m.joint("slide", "rail", "cart", "prismatic", axis=(1, 0, 0), limits=(-2, 2), damping=0.1)
    m.joint("swing", "cart", "pole", "continuous", vd.Pose((0, 0, 0.08)), axis=(0, 1, 0))
    cart = vd.World().place(m.motor("slide", "effort", limit="30 N").no_contact("cart", "pole"), fixed=True)
    for name, world, target in (("carts with poles", cart, "≥ 1500"), ("four legs", walking((0.25, -0.25))[0], "≥ 60")):
        many = vd.Copies(world, 256, period="20 ms")
        many.step()
        took = statistics.median(seconds(many.step) for _ in range(4 * repeats))
        yield f"256 copies of {name}, thousand steps a second", 256 * 20 / took / 1e3, "", target


def pile(boxes: int) -> vd.Simulation:
    """Boxes in a loose grid above the ground, each turned its own way."""
    random, side = np.random.default_rng(3), math.ceil(boxes ** (1 / 3))
    w = vd.World().ground()
    for k in range(boxes):
        cell = np.array((k % side, k // side % side, k // side**2))
        place = 0.3 * cell + (0, 0, 0.3) + np.append(random.normal(0, 0.02, 2), 0)
        w.body(
            f"box{k}",
            vd.Box((0.2, 0.2, 0.2)),
            mass=1,
            pose=vd.Pose(place, rotation=Rotation.random(random_state=random)),
        )
    return vd.Simulation(w)


def stack(boxes: int) -> vd.Simulation:
    w = vd.World().ground()
    for k in range(boxes):
        w.body(f"box{k}", vd.Box((0.2, 0.2, 0.2)), mass=1, pose=vd.Pose((0, 0, 0.1 + 0.2 * k)))
    return vd.Simulation(w)


def balls(subdivisions: int) -> vd.Simulation:
    """Three balls in a row that touch, each the hull of a mesh."""
    ball = trimesh.creation.icosphere(subdivisions, radius=0.05)
    shape = vd.Mesh.of(np.asarray(ball.vertices), np.asarray(ball.faces), collide="hull")
    w = vd.World().ground()
    for k in range(3):
        w.body(f"ball{k}", shape, mass=1, pose=vd.Pose((0.0995 * k, 0, 0.0499)))
    return vd.Simulation(w)


def hulls(repeats: int) -> Iterator[Figure]:
    """What the corners of a hull cost: few and many, in turn."""
    few, many = balls(1), balls(4)
    took: list[list[float]] = [[], []]
    for _ in range(repeats + 1):
        for found, sim in zip(took, (few, many), strict=True):
            found.append(seconds(lambda sim=sim: engine_of(sim).advance(500)) / 500)  # type: ignore[misc]
    yield "step: three hulls of 42 corners", 1e6 * statistics.median(took[0][1:]), "µs", ""
    ratio = statistics.median(b / a for a, b in zip(*took, strict=True))
    yield "the same of 2,562 corners, against those", ratio, "×", "≤ 2"


def robots(repeats: int) -> Iterator[Figure]:
    """A robot file of 50 links with 20 meshes of some 20 000 triangles each: loaded, loaded again, checked."""
    before = os.environ.get("XDG_CACHE_HOME")
    with tempfile.TemporaryDirectory() as folder:
        path = many_links(Path(folder))
        first, second, checked = [], [], []
        for k in range(repeats):
            os.environ["XDG_CACHE_HOME"] = f"{folder}/cache{k}"  # empty, as for meshes never read before
            first.append(seconds(lambda: vd.load_robot(path)))
            made = []
            second.append(seconds(lambda made=made: made.append(vd.load_robot(path))))  # type: ignore[misc]
            checked.append(seconds(lambda made=made: vd.check(made[0])))  # type: ignore[misc]
    os.environ.pop("XDG_CACHE_HOME") if before is None else os.environ.update(XDG_CACHE_HOME=before)
    yield "robot file, 50 links, 20 meshes: first load", statistics.median(first), "s", "< 3"
    yield "the same, second load", statistics.median(second), "s", "< 0.5"
    yield "check of it", statistics.median(checked), "s", "< 5"


def many_links(folder: Path) -> Path:
    """A chain of 50 links, each with one of 20 bumpy meshes of 20 000 triangles."""
    for k in range(20):
        mesh = trimesh.creation.uv_sphere(radius=0.1, count=[100, 101])
        mesh.vertices *= (1 + 0.1 * np.sin(70 * mesh.vertices[:, [0]] + k)) * (1, 1, 1.5)
        mesh.export(folder / f"bump{k}.stl")
    body = '<inertial><mass value="8"/><inertia ixx="0.05" iyy="0.05" izz="0.04"/></inertial>'
    text = ['<robot name="chain">']
    for k in range(50):
        shape = f'<geometry><mesh filename="bump{k % 20}.stl"/></geometry>'
        text.append(f'<link name="l{k}">{body}<visual>{shape}</visual><collision>{shape}</collision></link>')
    for k in range(1, 50):
        ends = f'<parent link="l{k - 1}"/><child link="l{k}"/><origin xyz="0 0 0.35"/><axis xyz="0 1 0"/>'
        text.append(
            f'<joint name="j{k}" type="revolute">{ends}<limit lower="-1" upper="1" effort="9" velocity="2"/></joint>'
        )
    path = folder / "chain.urdf"
    path.write_text("".join([*text, "</robot>"]), encoding="utf-8")
    return path


def rays(repeats: int) -> Iterator[Figure]:
    """Rays on one thread: on a mesh against Embree, in turn, and in a world of fifty primitives.

    Both give distance, what was met, and its normal.
    """
    from embreex.mesh_construction import TriangleMesh
    from embreex.rtcore_scene import EmbreeScene

    os.environ["VELDRAIN_THREADS"] = "1"
    bumpy = trimesh.creation.uv_sphere(radius=1, count=[71, 72])
    bumpy.vertices *= (1 + 0.1 * np.sin(7 * bumpy.vertices[:, [0]])) * (1, 1, 1.5)
    sim = vd.Simulation(vd.World().obstacle("bumpy", vd.Mesh.of(bumpy.vertices, bumpy.faces, collide="triangles")))
    other = EmbreeScene()
    TriangleMesh(other, np.ascontiguousarray(bumpy.triangles.astype(np.float32)))
    for name, (origins, ways) in (("a picture of", looking_at()), ("random rays on", scattered())):
        single = origins.astype(np.float32), ways.astype(np.float32)
        ours, theirs = [], []
        for _ in range(3 * repeats):
            ours.append(seconds(lambda o=origins, d=ways: engine_of(sim).scene.cast(o, d, 100.0)))  # type: ignore[misc]
            theirs.append(seconds(lambda one=single: other.run(*one, output=True)))  # type: ignore[misc]
        yield f"{name} {len(bumpy.faces)} triangles", len(ways) / statistics.median(ours) / 1e6, "M/s", ""
        share = statistics.median(b / a for a, b in zip(ours, theirs, strict=True))
        yield "the same, share of Embree's rays per second", share, "×", "≥ 0.5"
    sim = vd.Simulation(primitives(50))
    for name, (origins, ways) in (("a picture of", looking_at(9.0)), ("random rays in", inside())):
        found = [seconds(lambda o=origins, d=ways: engine_of(sim).scene.cast(o, d, 100.0)) for _ in range(3 * repeats)]  # type: ignore[misc]
        yield f"{name} 50 primitives, one core", len(ways) / statistics.median(found) / 1e6, "M/s", "≥ 3"
    del os.environ["VELDRAIN_THREADS"]


def looking_at(away: float = 4.0) -> tuple[np.ndarray, np.ndarray]:
    """Rays of a picture of 400 × 400 pixels."""
    across = np.linspace(-0.5, 0.5, 400)
    y, z = np.meshgrid(across, across)
    ways = np.stack([np.ones_like(y), y, z], axis=-1).reshape(-1, 3)
    return np.tile((-away, 0.0, 0.0), (len(ways), 1)), ways / np.linalg.norm(ways, axis=1, keepdims=True)


def scattered() -> tuple[np.ndarray, np.ndarray]:
    """Rays from all around to all over."""
    random = np.random.default_rng(0)
    origins = random.normal(size=(160000, 3))
    origins *= 4 / np.linalg.norm(origins, axis=1, keepdims=True)
    ways = random.uniform(-1, 1, origins.shape) - origins
    return origins, ways / np.linalg.norm(ways, axis=1, keepdims=True)


def inside() -> tuple[np.ndarray, np.ndarray]:
    """Rays from the middle to everywhere."""
    ways = np.random.default_rng(1).normal(size=(160000, 3))
    return np.zeros(ways.shape), ways / np.linalg.norm(ways, axis=1, keepdims=True)


def primitives(count: int) -> vd.World:
    """Shapes of five kinds, scattered in a cube of 8 m over a ground."""
    random, w = np.random.default_rng(0), vd.World().ground(height=-5)
    kinds = (vd.Box((0.5, 0.4, 0.3)), vd.Sphere(0.3), vd.Cylinder(0.2, 0.6), vd.Capsule(0.2, 0.4), vd.Cone(0.3, 0.5))
    for k in range(count):
        w.obstacle(f"thing{k}", kinds[k % 5], pose=vd.Pose(random.uniform(-4, 4, 3), rpy=random.uniform(-3, 3, 3)))
    return w


def sensors(repeats: int) -> Iterator[Figure]:
    """A camera in the demo's yard, and what a lidar of many beams adds to the demo's trial."""
    m = vd.Model("rig").link("box", vd.Part(vd.Box((0.1, 0.1, 0.1)), role="collision"), mass=1)
    m.mount("eye", vd.Camera(size=(640, 480), field_of_view="80 deg"), on="box")
    yard = vd.load_world(DEMO / "worlds" / "yard.world.yaml")
    sim = vd.Simulation(yard.place(m, pose=vd.Pose((-7, -5, 1.6), rpy=(0, 0.12, 0.6)), fixed=True))
    eye = sim.streams["rig/eye"]
    found = [seconds(eye.measured) for _ in range(3 * repeats)]
    yield "camera 640 × 480 in the yard, two cores", 1 / statistics.median(found), "fps", "≥ 15"
    plain, more = [], []
    for _ in range(repeats + 1):
        for times, has_cloud in ((plain, False), (more, True)):
            scenario = vd.load_scenario(DEMO / "culvert.scenario.yaml")
            scenario.duration = 10.0
            if has_cloud:
                cloud = vd.SpinningLidar(period="100 ms", channels=16, azimuths=900, max_range=30)
                scenario.world.placed["crawler"].model.mount("cloud", cloud, on="mast", pose=vd.Pose((0, 0, 0.12)))
            times.append(seconds(lambda s=scenario: vd.run(s, seed=1)))  # type: ignore[misc]
    share = statistics.median(b / a - 1 for a, b in zip(plain[1:], more[1:], strict=True))
    yield "16 × 900 beams at 10 Hz add to the demo's trial", 100 * share, "%", "< 25"


def compiling(repeats: int) -> Iterator[Figure]:
    """All kernels compiled into an empty cache, in a process of its own."""
    with tempfile.TemporaryDirectory() as folder:
        words = [sys.executable, "-c", "from veldrain.physics.preparing import prepare; prepare()"]
        env = {**os.environ, "XDG_CACHE_HOME": folder}
        for name, target in (("compiling all kernels, once a machine", "≤ 60"), ("loading them from the cache", "")):
            yield name, seconds(lambda: subprocess.run(words, check=True, env=env)), "s", target


def commands(repeats: int) -> Iterator[Figure]:
    """The command line as a process."""

    def veldrain(*words: str, **env: str) -> float:
        command = [sys.executable, "-m", "veldrain", *words]
        return seconds(lambda: subprocess.run(command, check=True, capture_output=True, env={**os.environ, **env}))

    yield "veldrain --help", statistics.median(veldrain("--help") for _ in range(repeats)), "s", "< 0.5"
    with tempfile.TemporaryDirectory() as folder:
        cache = {"XDG_CACHE_HOME": f"{folder}/cache"}
        yield "first demo, kernels compiled", veldrain("demo", "--out", f"{folder}/first", **cache), "s", "< 90"
        later = [veldrain("demo", "--out", f"{folder}/{k}", **cache) for k in range(max(1, repeats // 2))]
        yield "demo after that", statistics.median(later), "s", "< 25"


def main() -> None:
    """Run everything, print the table, write the JSON."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--repeats", type=int, default=5)
    parser.add_argument("--only", help="families of figures by name, such as rays,sensors")
    parser.add_argument("--out", type=Path, default=Path(__file__).parent / "latest.json")
    options = parser.parse_args()
    prepare()
    found = []
    for family in (
        engine,
        copies,
        piles,
        hulls,
        rays,
        sensors,
        robots,
        motion,
        streams,
        studies,
        roads,
        pages,
        compiling,
        trials,
        commands,
    ):
        if options.only and family.__name__ not in options.only.split(","):
            continue
        for name, value, unit, target in family(options.repeats):
            print(f"{name:<50}{value:>10.3g} {unit:<3} {target}", flush=True)
            found.append({"name": name, "value": value, "unit": unit, "target": target})
    machine = {"python": platform.python_version(), "machine": platform.machine(), "cores": os.cpu_count()}
    options.out.write_text(json.dumps({"machine": machine, "repeats": options.repeats, "figures": found}, indent=1))


if __name__ == "__main__":
    main()
