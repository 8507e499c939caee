"""All sensors on one robot: recorded, read back by another reader, the same bytes every time, and looked over by the check."""

from __future__ import annotations

import os
import tempfile
import unittest
from dataclasses import replace
from io import BytesIO
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import pandas as pd
from mcap.reader import make_reader
from mcap_ros2.decoder import DecoderFactory
from PIL import Image as Pillow

import veldrain as vd
from tests.check_cases import boom, cart, on_ground
from veldrain.recording import Recorder, Sink
from veldrain.recording.batches import Sample
from veldrain.recording.kept import Kept
from veldrain.scenario.carrying import carried_out

WHEELS = {"left": ["fl", "rl"], "right": ["fr", "rr"]}
SENSORS: dict[str, Any] = {
    "scan": vd.Lidar(beams=16, noise="1 cm", divergence="1 deg"),
    "cloud": vd.SpinningLidar(channels=3, azimuths=20, noise="1 cm", dropouts=0.1),
    "rgb": vd.Camera(size=(24, 18), full_well=5000.0, read_noise=8.0),
    "png": vd.Camera(size=(24, 18), output="grey", encoding="png"),
    "depth": vd.Camera(size=(24, 18), output="depth", depth_noise=0.01),
    "labels": vd.Camera(size=(24, 18), output="labels"),
    "radar": vd.Radar(max_range=20, false_detections=1.0, range_noise="5 cm"),
    "sonar": vd.Ultrasonic(noise="5 mm"),
    "infrared": vd.Infrared(calibration=[("10 cm", 2.5), ("80 cm", 0.4)], raw_noise=0.05),
    "imu": vd.Imu(gyro_noise_density=0.001, accel_noise_density=0.01),
    "fix": vd.Gnss(noise="30 cm", drift="1 m"),
    "compass": vd.Magnetometer(noise="0.3 uT"),
    "air": vd.Barometer(noise=2.0),
    "pitot": vd.Airspeed(noise=1.0, bias=0.5),
    "flow": vd.OpticalFlow(noise=0.02, distance_noise="1 cm"),
    "ticks": vd.Encoders(counts_per_revolution=512),
    "way": vd.Odometer(**WHEELS, wheel_radius="10 cm", track="40 cm", counts_per_revolution=512),
    "amps": vd.MotorCurrent(torque_constant=0.2, noise="10 mA"),
    "skin": vd.Touch(noise="0.1 N"),
    "truth": vd.TruePose(),
    "reach": vd.TrueRelative("hull", to="wall"),
    "frames": vd.TrueFrames(),
    "gap": vd.TrueClearance("wall"),
    "slip": vd.TrueSlip(radius="10 cm"),
}


def fitted(**changes: Any) -> vd.World:
    """The cart with every sensor, before a wall."""
    m = cart()
    for name, sensor in (SENSORS | changes).items():
        m.mount(name, sensor, on="hull", pose=vd.Pose((0.32, 0, 0.1)))
    return on_ground(m).obstacle("wall", vd.Box((0.2, 4, 1)), pose=vd.Pose((1.4, 0, 0.5)))


def recorded(world: vd.World, seed: int = 1) -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "run.mcap"
        vd.run(vd.Scenario(world, 0.3, step=1e-3), seed=seed, record=path)
        return path.read_bytes()


class OneByOne(Recorder):
    """Encodes each message by itself."""

    def take(self, sample: Sample) -> None:
        Sink.take(self, sample)


class Meddles(vd.Controller):
    """Changes what it is given in place."""

    period = 0.01

    def update(self, now: float, senses: Any, motors: Any) -> None:
        for name in ("imu", "truth", "ticks"):
            if senses[name] is not None:
                for values in vars(senses[name].data).values():
                    if isinstance(values, np.ndarray):
                        values[:] = 77.0


class EverySensor(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.data = recorded(fitted())
        cls.recording = vd.Recording(cls.data)

    def test_encoded_together_they_are_what_each_is_alone(self) -> None:
        """All streams, over chunks; with failures, late readings and a controller that writes into what it is given."""
        world = fitted(imu=vd.Imu("1 ms", gyro_noise=0.1), skin=vd.Touch(noise="0.1 N"))
        scenario = vd.Scenario(world, 2.2, controllers={"cart": Meddles()}, truth=["cart"])
        scenario.log("speed", vd.speed("cart/hull"))
        scenario.at("0.5 s").fail("cart/way", "stuck", lasting="0.2 s")
        scenario.at("1.1 s").fail("cart/sonar", "dropped", fraction=0.5)
        alone = OneByOne()
        together = vd.run(scenario, seed=3, sinks=[alone], warn=False)
        other = vd.Recording(alone.data)
        self.assertEqual(set(together.messages), set(other.messages))
        for stream in together.messages:
            with self.subTest(stream):
                self.assertEqual(together.raw(stream), other.raw(stream))
        self.assertLess(together["cart/imu"]["linear_acceleration.x"].max(), 70.0)
        self.assertLess(together["cart/truth"]["x"].max(), 70.0)

    def test_another_reader_opens_all_of_it(self) -> None:
        """Each message decodes by the definition in the file, has the stamp and frame of its sensor, and fits ours."""
        reader = make_reader(BytesIO(self.data), decoder_factories=[DecoderFactory()])
        found: dict[str, list[Any]] = {}
        for _, channel, message, decoded in reader.iter_decoded_messages():
            found.setdefault(channel.topic, []).append((message.log_time, decoded))
        for name, sensor in SENSORS.items():
            with self.subTest(name):
                messages = found[f"cart/{name}"]
                expected = int((0.3 - sensor.first_sample) / sensor.period + 1e-9) + 1
                self.assertEqual(len(messages), expected)
                self.assertEqual(self.recording.streams[f"cart/{name}"].count, expected)
                self.assertEqual(self.recording.messages[f"cart/{name}"], sensor.message)
                time, last = messages[-1]
                if hasattr(last, "header"):
                    stamp = last.header.stamp.sec * 10**9 + last.header.stamp.nanosec
                    self.assertEqual(time - stamp, round(sensor.age(None) * 1e9))
                    frame = {"truth": "world", "reach": "wall", "way": "cart/way/start"}.get(name, f"cart/{name}")
                    self.assertEqual(last.header.frame_id, f"{frame}/optical" if hasattr(sensor, "lens") else frame)
        relative = self.recording["cart/reach"]
        self.assertEqual(list(relative.columns[1:8]), ["x", "y", "z", "qx", "qy", "qz", "qw"])
        self.assertIn("yaw", relative.columns)
        cloud = found["cart/cloud"][-1][1]
        self.assertEqual((cloud.height, cloud.width, len(cloud.data)), (3, 20, 60 * cloud.point_step))
        image = found["cart/rgb"][-1][1]
        self.assertEqual((image.encoding, len(image.data)), ("rgb8", 24 * 18 * 3))
        with Pillow.open(BytesIO(bytes(found["cart/png"][-1][1].data))) as picture:
            self.assertEqual((picture.mode, picture.size), ("L", (24, 18)))
        names = [t.child_frame_id for t in found["cart/frames"][-1][1].transforms]
        self.assertEqual(len(names), len(set(names)))
        self.assertTrue({"cart/hull", "cart/fl_wheel", "cart/rgb/optical", "wall"} <= set(names))

    def test_kept_in_memory_they_are_the_same(self) -> None:
        """What a study's metrics read while a trial runs is what its recording says, to the byte."""
        kept = Kept()
        carried_out(vd.Trial, vd.Scenario(fitted(), 0.3, step=1e-3), 1, [kept.sink])
        for name in self.recording:
            with self.subTest(name):
                pd.testing.assert_frame_equal(kept[name], self.recording[name])
                self.assertEqual(
                    *([raw for _, many in log.batches(name) for raw in many] for log in (kept, self.recording))
                )

    def test_the_same_bytes_with_any_number_of_threads(self) -> None:
        for threads in ("1", "3"):
            with self.subTest(threads), mock.patch.dict(os.environ, VELDRAIN_THREADS=threads):
                self.assertEqual(recorded(fitted()), self.data)
        self.assertNotEqual(recorded(fitted(), seed=2), self.data)

    def test_one_sensor_changes_nothing_of_the_others(self) -> None:
        """Another data sheet, or one that fails, leaves the noise of all others as it was."""
        changes = {
            "rgb": vd.Camera(size=(12, 9)),
            "cloud": vd.SpinningLidar(channels=2, azimuths=9, noise="5 cm"),
            "fix": vd.Gnss(noise="2 m"),
        }
        world = fitted(**changes)
        mounted = world.placed["cart"].model.sensors
        mounted["fix"] = replace(mounted["fix"], failures=(vd.Failure("dropped", fraction=0.5),))
        other = vd.Recording(recorded(world))
        for name in SENSORS:
            if name in changes or name == "frames":
                continue
            with self.subTest(name):
                one, two = (r[f"cart/{name}"] for r in (self.recording, other))
                self.assertEqual(one.to_json(), two.to_json())

    def test_a_sheet_changed_on_the_way_measures_as_one_from_the_start(self) -> None:
        """Where no draw came before: each sensor begins at 0.1 s or later, and its sheet changes at 20 ms, in part over a time."""
        cases = {
            "scan": {"noise": "4 cm", "max_range": "0.8 m", "field_of_view": "90 deg", "relative_noise": 0.1},
            "cloud": {"noise": "5 cm", "dropouts": 0.4},
            "rgb": {"read_noise": 60.0},
            "radar": {
                "range_noise": "20 cm",
                "false_detections": 3.0,
                "max_range": "9 m",
                "detection_probability": 0.5,
            },
            "sonar": {"noise": "3 cm", "field_of_view": "10 deg"},
            "infrared": {"raw_noise": 0.2},
            "imu": {"gyro_bias": "2 deg/s", "accel_noise_density": 0.05, "accel_resolution": 0.1},
            "fix": {"noise": "2 m", "drift": "3 m", "correlation_time": "30 s"},
            "compass": {"noise": "2 uT", "bias_random_walk": 1e-5},
            "air": {"noise": 20.0, "bias_random_walk": 3.0},
            "way": {"wheel_radius": "12 cm", "track": "50 cm"},
            "amps": {"noise": "0.5 A"},
            "skin": {"noise": "2 N"},
        }
        late = {name: SENSORS[name].changed(first="0.2 s") for name in cases}

        def readings(scenario: vd.Scenario, name: str) -> list[Any]:
            if scenario not in ran:
                ran[scenario] = vd.run(scenario, seed=5)
            kept = ran[scenario]
            return [kept.raw(stream) for stream in kept.streams if stream.startswith(f"cart/{name}")]

        ran: dict[vd.Scenario, vd.Recording] = {}
        plain = vd.Scenario(fitted(**late), 0.6)
        for k in range(max(map(len, cases.values()))):
            told = {name: list(words.items())[k] for name, words in cases.items() if len(words) > k}
            turned = vd.Scenario(fitted(**late), 0.6)
            for name, (field, value) in told.items():
                turned.at("20 ms").change(f"cart/{name}.{field}", value, over="10 ms")
            sheets = {name: late[name].changed(**{field: value}) for name, (field, value) in told.items()}
            asked = vd.Scenario(fitted(**late | sheets), 0.6)
            for name, (field, _) in told.items():
                with self.subTest(f"{name}.{field}"):
                    self.assertEqual(readings(turned, name), readings(asked, name))
                    self.assertNotEqual(readings(turned, name), readings(plain, name))
            trial = vd.Trial(turned, seed=5)  # a snapshot on the way goes on to the same, from before and from after
            for at in ("25 ms", "275 ms"):
                trial.advance(at)
                middle, before = trial.snapshot(), {n: trial.simulation.streams[f"cart/{n}"].sensor for n in told}
                ends = []
                for _ in range(2):
                    trial.advance("200 ms")
                    ends.append([str(vars(trial.simulation["cart"].read(name).data)) for name in told])  # type: ignore[union-attr]
                    trial.restore(middle)
                self.assertEqual(ends[0], ends[1])
                self.assertEqual({n: trial.simulation.streams[f"cart/{n}"].sensor for n in told}, before)

    def test_what_of_a_sheet_stays(self) -> None:
        for path, value, pattern in (
            ("cart/scan.period", "50 ms", "its timing cannot be changed"),
            ("cart/imu.bandwidth", "20 Hz", "at every step of the engine cannot be changed"),
            ("cart/scan.x", "1 m", "cannot be changed in mid-trial"),
            ("cart/scan.noise", "-1 cm", "-0.01"),
        ):
            with self.subTest(path), self.assertRaisesRegex(vd.VeldrainError, pattern):
                vd.Trial(vd.Scenario(fitted(), 0.3).at(0.1).change(path, value))

    def test_exact_is_exact(self) -> None:
        """Without errors of their own two seeds give the same readings of every sensor."""
        sims = [vd.Simulation(fitted(), seed=seed, exact=True) for seed in (1, 2)]
        for sim in sims:
            sim.advance("0.3 s")
        for name in SENSORS:
            with self.subTest(name):
                one, two = (vars(sim["cart"].read(name).data) for sim in sims)  # type: ignore[union-attr]
                for field, value in one.items():
                    np.testing.assert_equal(value, two[field])


class Beyond(unittest.TestCase):
    def test_ranges_that_end_too_soon(self) -> None:
        """What a range has to hold at rest, for each kind of sensor that clips."""
        for told, sensor, on in (
            ("the earth's field is 4.9e-05 T", vd.Magnetometer(full_scale="20 uT"), "boom"),
            ("the weight that hangs on it is 19.6 N", vd.ForceTorque(force_full_scale="10 N"), "boom"),
            ("its share of the weight is 108 N", vd.FootForce(full_scale="50 N"), "post"),
            (
                "the current at the motors' limit is 40 A",
                vd.MotorCurrent(torque_constant=0.5, full_scale="10 A"),
                "post",
            ),
        ):
            with self.subTest(told):
                found = vd.check(boom(mode="position", stiffness=500, damping=20, limit=20).mount("eye", sensor, on=on))
                self.assertIn(told, " ".join(f.problem for f in found if f.rule == "clips-at-rest"))

    def test_a_texture_from_a_file(self) -> None:
        """An OBJ file's texture coordinates lay a picture where they say; one without them cannot have a picture."""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "sign.obj"
            corners = "v 0 -1 -1\nv 0 1 -1\nv 0 1 1\nv 0 -1 1\n"
            path.write_text(corners + "vt 1 0\nvt 0 0\nvt 0 1\nvt 1 1\nf 1/1 3/3 2/2\nf 1/1 4/4 3/3\n")
            halves = np.zeros((8, 8, 3), np.uint8)
            halves[:, :4] = (255, 0, 0)  # the left half red, as a camera sees it from −x
            look = vd.Look(image=halves)
            mesh = vd.Mesh(path, collide="triangles")
            self.assertEqual(mesh.uv.shape, (2, 3, 2))
            w = vd.World().obstacle("sign", vd.Part(mesh, look=look), pose=vd.Pose((2, 0, 0)))
            m = (
                vd.Model("rig")
                .link("box", mass=1)
                .mount("eye", vd.Camera(size=(20, 20), field_of_view="40 deg"), on="box")
            )
            pixels = vd.Simulation(w.place(m, fixed=True))["rig"].read("eye").pixels  # type: ignore[union-attr]
            self.assertTrue(pixels[10, 4, 0] > 100 > pixels[10, 15, 0])
            sign = vd.Model("sign").link(
                "board", vd.Part(vd.Box((0.1, 1, 1)), look=vd.Look("red", reflectance=0.9)), mass=1
            )
            with self.assertLogs("veldrain", "WARNING") as logged:
                vd.save_robot(sign, Path(folder) / "sign.urdf")
            self.assertIn("of the look of board its colour is kept alone", logged.output[0])
            again = vd.load_robot(Path(folder) / "sign.urdf").links["board"].parts[0]
            self.assertEqual((again.colour, again.look), ("red", None))
            bare = vd.Mesh.of(mesh.corners, mesh.triangles, collide="triangles")
            with self.assertRaisesRegex(vd.VeldrainError, "a picture on a Mesh without texture coordinates"):
                vd.Part(bare, look=look)
            with self.assertRaisesRegex(vd.VeldrainError, "texture coordinates"):
                vd.Mesh.of(mesh.corners, mesh.triangles, uv=np.zeros((5, 3, 2)))
