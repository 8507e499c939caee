"""Recordings, exports, programs and live links: what they cost. Called by run.py."""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from types import SimpleNamespace as Fields

import numpy as np

import veldrain as vd
import veldrain.demo
from veldrain.model import Message
from veldrain.recording import Recorder
from veldrain.scenario.trial import Trial

DEMO = Path(veldrain.demo.__path__[0])
Figure = tuple[str, float, str, str]  # name, value, unit, target
ROWS = 90_000


def seconds(act: Callable[[], object]) -> float:
    """How long one call takes."""
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def streams(repeats: int) -> Iterator[Figure]:
    """All of it."""
    with tempfile.TemporaryDirectory() as folder:
        yield from reading(Path(folder))
        yield from points(Path(folder), repeats)
    yield from mapping(repeats)
    yield from cloud(repeats)
    yield from programs(repeats)
    yield from live()


def imu(stamp: int, k: int) -> Message:
    """A message of an IMU."""
    header = Fields(stamp=Fields(sec=stamp // 10**9, nanosec=stamp % 10**9), frame_id="imu")
    rate = Fields(x=0.001 * k, y=0.0, z=1.0)
    turn = Fields(x=0.0, y=0.0, z=0.0, w=1.0)
    zero = np.zeros(9)
    fields = Fields(header=header, orientation=turn, angular_velocity=rate, linear_acceleration=rate)
    fields.orientation_covariance = fields.angular_velocity_covariance = fields.linear_acceleration_covariance = zero
    return Message("sensor_msgs/msg/Imu", fields)


def reading(folder: Path) -> Iterator[Figure]:
    """One stream of 90,000 rows, alone in its file and beside pictures of a gigabyte."""
    noise = np.random.default_rng(0).integers(0, 255, (8, 640 * 480 * 3), np.uint8)
    for name, pictures in (("alone", 0), ("beside 1 GB of pictures", 1200)):
        path = folder / f"{pictures}.mcap"
        recorder = Recorder(path)
        recorder.begin({})
        for k in range(ROWS):
            recorder.write("imu", k * 10**7, imu(k * 10**7, k))
            if pictures and k % (ROWS // pictures) == 0:
                header = imu(k * 10**7, k).fields.header
                size = {"height": 480, "width": 640, "encoding": "rgb8", "is_bigendian": 0, "step": 1920}
                recorder.write(
                    "eye", k * 10**7, Message("sensor_msgs/msg/Image", Fields(header=header, **size, data=noise[k % 8]))
                )
        recorder.end({})
        found = statistics.median(seconds(lambda path=path: vd.Recording(path)["imu"]) for _ in range(3))  # type: ignore[misc]
        yield f"90,000 rows of one stream, {name} ({path.stat().st_size / 1e6:.0f} MB)", found, "s", "≤ 2"


def points(folder: Path, repeats: int) -> Iterator[Figure]:
    """Clouds to PLY."""
    model = vd.Model("mast").link("base", vd.Box((0.2, 0.2, 0.2)), mass=5)
    model.mount(
        "cloud", vd.SpinningLidar(channels=64, azimuths=1800, period="0.1 s"), on="base", pose=vd.Pose((0, 0, 1))
    )
    world = vd.World().ground().obstacle("wall", vd.Box((1, 60, 20)), pose=vd.Pose((10, 0, 0))).place(model, fixed=True)
    recording = vd.run(vd.Scenario(world, "1 s"), record=folder / "cloud.mcap")
    count = len(recording["mast/cloud"])
    costs = [seconds(lambda k=k: recording.write(folder / f"ply{k}", ["ply"])) for k in range(repeats)]  # type: ignore[misc]
    yield "points to PLY", count / statistics.median(costs) / 1e6, "million/s", "≥ 1"


def mapping(repeats: int) -> Iterator[Figure]:
    """A map out of the scans of a trial."""
    recording = vd.run(vd.load_scenario(DEMO / "culvert.scenario.yaml"), seed=1)
    scans = len(recording.stamps("crawler/scan"))
    recording.frames  # noqa: B018  unpacked before
    found = [seconds(lambda: vd.occupancy(recording, "crawler/scan")) / scans for _ in range(repeats + 1)]
    yield "a scan of the demo's lidar into a map", 1e3 * statistics.median(found[1:]), "ms", ""


def cloud(repeats: int) -> Iterator[Figure]:
    """What 16 × 900 beams at 10 Hz add to the demo's trial, with its recording."""
    costs: dict[bool, list[float]] = {False: [], True: []}
    for _ in range(repeats + 1):
        for has_cloud, found in costs.items():
            scenario = vd.load_scenario(DEMO / "culvert.scenario.yaml")
            scenario.duration = 10.0
            if has_cloud:
                sensor = vd.SpinningLidar(channels=16, azimuths=900, period="0.1 s")
                scenario.world.placed["crawler"].model.mount("cloud", sensor, on="mast")
            found.append(seconds(lambda scenario=scenario: vd.run(scenario, seed=1)))  # type: ignore[misc]
    more = statistics.median(b / a - 1 for a, b in zip(costs[False][1:], costs[True][1:], strict=True))
    yield "16 × 900 beams at 10 Hz add to a recorded trial", 100 * more, "%", "≤ 25"


class Idle:
    """Commands the same again and again."""

    period = 0.01

    def update(self, now: float, senses: object, motors: object) -> None:
        motors["drive"].velocity = 1.0  # type: ignore[index]


PROGRAM = """import sys
input(); print('{"veldrain": "program/1"}', flush=True)
for line in sys.stdin:
    sys.stdout.write('{"motors": {"drive": {"velocity": 1.0}}}\\n'); sys.stdout.flush()
"""


def wheel() -> vd.Model:
    """A wheel with its encoder."""
    model = vd.Model("wheel").link("base").link("rim", vd.Cylinder(0.1, 0.05), mass=1)
    model.joint("drive", "base", "rim", kind="continuous").motor("drive", mode="velocity", damping=1)
    return model.mount("encoders", vd.Encoders(period="10 ms"), on="base")


def programs(repeats: int) -> Iterator[Figure]:
    """A tick of a program over that of the same controller in process."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "idle.py"
        path.write_text(PROGRAM)
        scenario = vd.Scenario(vd.World().place(wheel(), fixed=True), "20 s")
        program = vd.Program(f"{sys.executable} {path}", period="10 ms")
        costs = []
        for _ in range(repeats):
            mine = seconds(Trial(scenario.driven_by({"wheel": Idle()}), 1).run)
            trial = Trial(scenario.driven_by({"wheel": program}), 1)
            trial.advance("0.1 s")  # the program is up
            costs.append((seconds(trial.run) - mine) / 2000)
            trial.close()
        yield "a program's tick, over one in process", 1e6 * statistics.median(costs), "µs", "≤ 100"


def live() -> Iterator[Figure]:
    """Thirty topics at 1 kHz steps: the share of the clock that it takes."""
    world = vd.World().ground()
    for k in range(10):
        world.place(wheel(), f"wheel{k}", pose=vd.Pose((k, 0, 1)), fixed=True)
    link = vd.Link(191, speed=None)
    cost = seconds(lambda: vd.run(link.listening(vd.Scenario(world, "10 s")), sinks=[link]))
    yield "live with 30 topics, times real time", 10.0 / cost, "×", "≥ 1"
