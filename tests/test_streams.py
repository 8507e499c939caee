"""Streams as tables, in files of other kinds, from elsewhere, chosen, compared and plotted."""

from __future__ import annotations

import csv
import json
import math
import sqlite3
import tempfile
import tracemalloc
import unittest
from pathlib import Path
from types import SimpleNamespace as Fields
from typing import Any

import av
import numpy as np
import pyarrow.parquet as pq
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from rosbags.highlevel import AnyReader
from rosbags.interfaces import Nodetype

import veldrain as vd
from tests.helpers import Hold, called, cart, cart_scenario
from veldrain.model import Message
from veldrain.recording import Recorder
from veldrain.recording.decoding import NOTHING, SIZES, fields_of
from veldrain.recording.messages import to_bytes, typestore
from veldrain.recording.tables import to_table

TYPES = (
    "sensor_msgs/msg/Imu", "sensor_msgs/msg/JointState", "sensor_msgs/msg/LaserScan", "nav_msgs/msg/Odometry",
    "tf2_msgs/msg/TFMessage", "trajectory_msgs/msg/JointTrajectory", "diagnostic_msgs/msg/DiagnosticArray",
    "geometry_msgs/msg/Twist", "sensor_msgs/msg/NavSatFix", "std_msgs/msg/Empty", "std_msgs/msg/Bool",
    "sensor_msgs/msg/BatteryState", "nav_msgs/msg/Path", "veldrain_msgs/msg/Contacts", "std_msgs/msg/Float64MultiArray",
)  # fmt: skip
TEXT = st.text(st.characters(codec="utf-8", exclude_characters="\0"), max_size=9)


def values(kind: Any, draw: Any) -> Any:
    """A value of a field."""
    node, inner = kind
    if node == Nodetype.NAME:
        return message_of(inner, draw)
    if node == Nodetype.BASE:
        if inner[0] == "string":
            return draw(TEXT)
        code = SIZES[inner[0]]
        if code[0] == "f":
            return draw(st.floats(-1e6, 1e6, width=8 * int(code[1])))
        return draw(st.booleans()) if code == "b1" else draw(st.integers(0, 100))
    count = inner[1] if node == Nodetype.ARRAY else draw(st.integers(0, 3))
    items = [values(inner[0], draw) for _ in range(count)]
    is_number = inner[0][0] == Nodetype.BASE and inner[0][1][0] in SIZES
    return np.array(items, SIZES[inner[0][1][0]]) if is_number else items


def message_of(kind: str, draw: Any) -> Fields:
    return Fields(**{name: 0 if name == NOTHING else values(of, draw) for name, of in fields_of(typestore(), kind)})


def sensed() -> vd.Scenario:
    """The cart with a camera, a depth camera and a spinning lidar, 0.4 s long."""
    m = cart()
    m.mount("eye", vd.Camera(size=(32, 24), period="0.1 s"), on="car", pose=vd.Pose((0, 0, 0.2)))
    m.mount("depth", vd.Camera(size=(16, 12), output="depth", period="0.1 s"), on="car", pose=vd.Pose((0, 0, 0.2)))
    m.mount("cloud", vd.SpinningLidar(channels=4, azimuths=30, period="0.1 s"), on="car", pose=vd.Pose((0, 0, 0.3)))
    w = vd.World().ground(height=-1).obstacle("post", vd.Box((0.1, 3, 3)), pose=vd.Pose((3, 0, 0)))
    return vd.Scenario(w.place(m, fixed=True), 0.4, controllers={"cart": Hold()})


class Tables(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.data(), st.sampled_from(TYPES))
    def test_bytes_and_columns_as_another_library_has_them(self, data: Any, kind: str) -> None:
        made = [message_of(kind, data.draw) for _ in range(data.draw(st.integers(1, 4)))]
        raw = [to_bytes(kind, m) for m in made]
        for m, ours in zip(made, raw, strict=True):
            self.assertEqual(ours, bytes(typestore().serialize_cdr(m, kind)))
        table = to_table(typestore(), kind, np.arange(len(raw)), raw)
        theirs = [typestore().deserialize_cdr(r, kind) for r in raw]
        if kind == "nav_msgs/msg/Path":
            expected = [p.pose.position.x for m in theirs for p in m.poses]  # type: ignore[attr-defined]
            self.assertEqual(table.get("x", table.get("pose.position.x")).tolist() if expected else [], expected)
        for column in ("angular_velocity.x", "altitude", "x", "data", "percentage", "range_min"):
            if column in table and kind in (
                "sensor_msgs/msg/Imu",
                "sensor_msgs/msg/NavSatFix",
                "sensor_msgs/msg/LaserScan",
            ):
                for value, m in zip(table[column], theirs, strict=True):
                    for part in column.split("."):
                        m = getattr(m, part)
                    self.assertEqual(value, m)

    def test_rows_of_messages_may_be_empty(self) -> None:
        point = {"accelerations": [], "effort": [], "time_from_start": Fields(sec=0, nanosec=0)}
        points = [Fields(positions=np.zeros(0), velocities=np.zeros(0), **point)]
        empty = Fields(header=Fields(stamp=Fields(sec=0, nanosec=0), frame_id=""), joint_names=["a"], points=points)
        raw = to_bytes("trajectory_msgs/msg/JointTrajectory", empty)
        table = to_table(typestore(), "trajectory_msgs/msg/JointTrajectory", np.arange(1), [raw])
        self.assertEqual([list(row) for row in table["positions"]], [[]])

    def test_clouds_pictures_and_frames(self) -> None:
        recording = vd.run(sensed())
        table = recording["cart/cloud"]
        self.assertEqual((list(table.columns[:4]), len(table)), (["time", "x", "y", "z"], 4 * 30 * 4))
        car = recording["tf"].query("child_frame_id == 'cart/car'")
        for time, cloud in recording.clouds("cart/cloud", frame="world", deskew=False):
            at = np.interp(time, car["time"], car["x"])
            post = cloud["xyz"][(cloud["xyz"][:, 0] > 2) & (cloud["xyz"][:, 2] > -0.5)]
            np.testing.assert_allclose(post[:, 0], 2.95, atol=0.06)  # its face, seen from wherever the car is
            own = next(c["xyz"] for t, c in recording.clouds("cart/cloud") if t == time)
            np.testing.assert_allclose(cloud["xyz"], own + [at, 0, 0.3], atol=0.02)
        beams = recording.points("cart/cloud")  # its points have a time of their own, too
        self.assertEqual(beams["time"].unique().tolist(), table["time"].unique().tolist())
        self.assertTrue((beams["beam_time"] >= 0).all() and 0.05 < beams["beam_time"].max() < 0.1)
        points = recording.points("cart/scan", frame="world", start="0.25 s")
        self.assertGreaterEqual(points["time"].min(), 0.25)
        self.assertEqual(recording.image("cart/eye").shape, (24, 32, 3))
        depth = recording.image("cart/depth", 0)
        self.assertEqual((depth.dtype, depth.shape), (np.float32, (12, 16)))
        self.assertAlmostEqual(float(depth[6, 8]), 2.95, delta=0.1)
        for wrong, pattern in (
            (lambda: recording.image("cart/imu"), "is no picture"),
            (lambda: recording.image("cart/eye", 99), "has 5 pictures, no 99"),
            (lambda: recording.points("cart/cloud", frame="wrold"), "did you mean 'world'"),
            (lambda: recording.points("cart/imu"), "has no points"),
            (lambda: recording.table("cart/im"), "did you mean 'cart/imu'"),
            (lambda: recording.column("cart/imu.x"), "no column 'x'"),
        ):
            with self.subTest(pattern), self.assertRaisesRegex(vd.VeldrainError, pattern):
                wrong()

    def test_one_stream_without_the_others(self) -> None:
        """A small stream beside a large one is read in a few of its bytes, and little memory."""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "r.mcap"
            recorder = Recorder(path)
            recorder.begin({})
            noise = np.random.default_rng(0).integers(0, 255, 500_000, np.uint8)
            for k in range(100):
                stamp = k * 10**8
                recorder.write("small", stamp, Message("std_msgs/msg/Float64", Fields(data=float(k))))
                layout = Fields(dim=[], data_offset=0)
                recorder.write(
                    "large", stamp, Message("std_msgs/msg/UInt8MultiArray", Fields(layout=layout, data=noise))
                )
            recorder.end({})
            self.assertGreater(path.stat().st_size, 15e6)
            recording = vd.Recording(path)
            recording.messages  # noqa: B018
            tracemalloc.start()
            table = recording.table("small", start="2 s", end="4 s")
            most = tracemalloc.get_traced_memory()[1]
            tracemalloc.stop()
            self.assertEqual(table["data"].tolist(), list(range(20, 41)))
            self.assertLess(most, 2e6)

    def test_what_is_recorded(self) -> None:
        scenario = cart_scenario()
        for given_words, there, not_there in (
            ({"only": ["cart/imu"]}, {"cart/imu", "tf_static", "cart/robot_description"}, {"cart/scan", "tf"}),
            ({"without": ["cart/s*", "tf"]}, {"cart/imu", "cart/encoders"}, {"cart/scan", "tf"}),
        ):
            with self.subTest(given_words):
                recording = vd.run(scenario, **given_words)
                self.assertLessEqual(there, set(recording))
                self.assertFalse(not_there & set(recording))
        whole, fewer = vd.run(scenario), vd.run(scenario, every={"cart/imu": "0.5 s"})
        self.assertEqual(fewer["cart/imu"]["time"].tolist(), [0.01, 0.51, 1.01])
        self.assertEqual(fewer.raw("cart/scan"), whole.raw("cart/scan"))
        for words, pattern in (
            ({"only": ["cart/imv"]}, "no stream 'cart/imv'; did you mean 'cart/imu'"),
            ({"every": {"cart/imu": "0 s"}}, "above zero"),
        ):
            scenario.controllers = {}
            with self.subTest(pattern), self.assertRaisesRegex(vd.VeldrainError, pattern):
                vd.run(scenario, **words)


class Swept(unittest.TestCase):
    """Scans and clouds of a lidar that turns and drives on while it sweeps."""

    def test_each_beam_is_placed_by_its_own_time(self) -> None:
        m, above = vd.Model("drone").link("hull", vd.Box((0.2, 0.2, 0.1)), mass=1), vd.Pose((0, 0, 0.2))
        m.mount(
            "scan", vd.Lidar(max_range=12, period="10 Hz", beams=181, field_of_view="360 deg"), on="hull", pose=above
        )
        m.mount("cloud", vd.SpinningLidar(channels=2, azimuths=90, max_range=12, period="10 Hz"), on="hull", pose=above)
        room = vd.Wall([(-3, -2), (4, -2), (4, 3), (-3, 3)], height=2, thickness=0.1, closed=True)
        world = vd.World(gravity=(0, 0, 0)).build("room", room).place(m, pose=vd.Pose((0, 0, 1)))
        scenario = vd.Scenario(world, "2 s")
        scenario.at(0).put("drone", vd.Pose((-1, 0, 1)), velocity=(0.5, 0.2, 0), spin=(0, 0, 1.5))
        recording = vd.run(scenario)
        for stream in ("drone/scan", "drone/cloud"):
            errors = []
            for deskew in (True, False):
                points = recording.points(stream, frame="world", start=0.25, deskew=deskew)
                x, y = points["x"].to_numpy(), points["y"].to_numpy()
                off = np.min([abs(x + 2.95), abs(x - 3.95), abs(y + 1.95), abs(y - 2.95)], axis=0)
                errors.append(float(np.sqrt((off**2).mean())))
            with self.subTest(stream):
                self.assertLess(errors[0], 2e-3)
                self.assertGreater(errors[1], 0.1)
                when = points["stamp"] + points["beam_time"]
                self.assertTrue((when > points["time"] - 0.1001).all() and (when <= points["time"] + 1e-9).all())
                self.assertEqual(set(recording[stream]["stamp"]), set(recording.points(stream)["stamp"]))


class Files(unittest.TestCase):
    """Every export, read back by a reader that is not ours."""

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        cls.recording = vd.run(sensed(), record=cls.folder / "r.mcap")

    def written(self, kind: str, **choices: Any) -> Path:
        out = self.folder / f"{kind}{len(list(self.folder.iterdir()))}"
        self.recording.write(out, [kind], **choices)
        self.assertFalse(out.with_name(f"{out.name}.part").exists())
        return out

    def test_tables(self) -> None:
        out = self.written("csv", streams=["cart/imu", "cart/scan", "tf"])
        with (out / "cart.scan.csv").open() as file:
            rows = list(csv.DictReader(file))
        self.assertAlmostEqual(
            float(rows[-1]["ranges[3]"]), float(self.recording["cart/scan"]["ranges"].iloc[-1][3]), 5
        )
        table = pq.read_table(self.written("parquet", streams=["cart/imu"]) / "cart.imu.parquet")
        self.assertEqual(table.num_rows, len(self.recording["cart/imu"]))
        self.assertEqual(table.schema.field("angular_velocity.z").metadata[b"unit"], b"rad/s")
        out = self.written("npz", streams=["cart/imu", "cart/eye", "cart/scan"])
        with np.load(out / "cart.eye.npz") as kept:
            np.testing.assert_array_equal(kept["pictures"][2], self.recording.image("cart/eye", 2))
        with np.load(out / "cart.scan.npz") as kept:
            self.assertEqual(kept["ranges"].shape, (len(kept["time"]), 8))

    def test_pictures(self) -> None:
        out = self.written("png")
        with Image.open(out / "cart.eye" / "000001.png") as picture:
            np.testing.assert_array_equal(np.asarray(picture), self.recording.image("cart/eye", 1))
        with Image.open(out / "cart.depth" / "000000.png") as picture:
            self.assertAlmostEqual(float(np.asarray(picture)[6, 8]) / 1000, 2.95, delta=0.1)
        self.assertEqual(len((out / "cart.eye" / "times.csv").read_text().splitlines()), 6)
        out = self.written("jpeg", streams=["cart/eye"])
        with Image.open(out / "cart.eye" / "000003.jpg") as picture:
            self.assertEqual(picture.size, (32, 24))
        with av.open(str(self.written("mp4", streams=["cart/eye"]) / "cart.eye.mp4")) as movie:
            self.assertEqual(sum(1 for _ in movie.decode(video=0)), 5)

    def test_points(self) -> None:
        expected = next(iter(self.recording.clouds("cart/cloud")))[1]["xyz"]
        read: Any = trimesh.load(self.written("ply") / "cart.cloud" / "000000.ply")
        np.testing.assert_allclose(read.vertices, expected, atol=1e-6)
        whole: Any = trimesh.load(self.written("ply", streams=["cart/cloud"], frame="world") / "cart.cloud.ply")
        self.assertEqual(len(whole.vertices), len(self.recording.points("cart/cloud", frame="world")))
        head, _, data = (self.written("pcd") / "cart.cloud" / "000000.pcd").read_bytes().partition(b"DATA binary\n")
        words = dict(line.split(" ", 1) for line in head.decode().splitlines())
        step = sum(map(int, words["SIZE"].split()))
        self.assertEqual((int(words["POINTS"]), len(data)), (len(expected), len(expected) * step))
        np.testing.assert_allclose(np.frombuffer(data[:12], "<f4"), expected[0], atol=1e-6)

    def test_scene(self) -> None:
        data = (self.written("glb") / "scene.glb").read_bytes()
        scene: Any = trimesh.load(trimesh.util.wrap_as_stream(data), file_type="glb")
        self.assertIn("cart/car", scene.graph.nodes)
        size = int.from_bytes(data[12:16], "little")
        document, body = json.loads(data[20 : 20 + size]), data[28 + size :]
        (motion,) = document["animations"]
        channel = next(c for c in motion["channels"] if c["target"]["path"] == "translation")
        accessor = document["accessors"][motion["samplers"][channel["sampler"]]["output"]]
        view = document["bufferViews"][accessor["bufferView"]]
        moved = np.frombuffer(body, "<f4", 3 * accessor["count"], view["byteOffset"]).reshape(-1, 3)
        x = self.recording.frames.path("cart/car")[:, 0]
        np.testing.assert_allclose(moved[:, 0] - moved[0, 0], x - x[0], atol=1e-6)

    def test_bags(self) -> None:
        for kind in ("bag", "bag-mcap"):
            with self.subTest(kind):
                out = self.written(kind) / kind
                with AnyReader([out]) as bag:
                    links = [link for link in bag.connections if link.topic == "/cart/imu"]
                    read = [(stamp, raw) for _, stamp, raw in bag.messages(links)]
                    self.assertEqual(read, self.recording.raw("cart/imu"))
                log = vd.open_log(out)
                self.assertEqual(log.raw("/cart/imu"), self.recording.raw("cart/imu"))
                self.assertEqual(log["/cart/imu"].to_json(), self.recording["cart/imu"].to_json())
                self.assertIn("cart/car", log.frames.names)
                compared = vd.compare_logs(self.recording, log)
                self.assertEqual((len(compared.table), compared.different, compared.only["a"]), (0, {}, []))

    def test_refused(self) -> None:
        for act, pattern in (
            (lambda out: self.recording.write(out, ["cvs"]), "no kind of export 'cvs'; did you mean 'csv'"),
            (
                lambda out: self.recording.write(out, ["png"], streams=["cart/imu"]),
                "no stream of it can be written as png",
            ),
            (lambda out: self.recording.write(out, streams=["nothing"]), "no stream 'nothing'"),
            (lambda out: self.recording.write(self.folder, ["csv"]), "holds something already"),
            (lambda out: self.recording.write(out, ["jpeg"], streams=["cart/depth"]), "more than 8 bits"),
        ):
            with self.subTest(pattern):
                with self.assertRaisesRegex(vd.VeldrainError, pattern):
                    act(self.folder / "never")
                self.assertFalse((self.folder / "never").exists() or (self.folder / "never.part").exists())

    def test_at_the_command_line(self) -> None:
        done = called(
            "export", self.folder / "r.mcap", "--to", self.folder / "cli", "--kind", "csv", "--stream", "cart/*"
        )
        self.assertIn("cart.imu.csv", done.stdout, done.stderr)
        done = called("compare", self.folder / "r.mcap", self.folder / "r.mcap")
        self.assertIn("the same, to the byte: cart/cloud", done.stdout, done.stderr)
        png = self.folder / "p.png"
        done = called(
            "plot",
            self.folder / "r.mcap",
            "--column",
            "cart/truth.x",
            "--column",
            "cart/imu.linear_acceleration.x",
            "--out",
            png,
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        with Image.open(png) as picture:
            self.assertGreater(picture.size[0], 1000)
        done = called("plot", self.folder / "r.mcap", "--column", "cart/truth.q")
        self.assertEqual((done.returncode, done.stderr.count("\n")), (2, 1))


class Elsewhere(unittest.TestCase):
    def test_csv_by_our_clock(self) -> None:
        """A log whose clock is 7.3 s off and 200 ppm slow is lined up by its gyro."""
        rng = np.random.default_rng(2)
        walk = np.cumsum(rng.standard_normal(6000)) * 0.05
        smooth = np.convolve(walk, np.hanning(40), "same")
        t = np.arange(6000) * 0.01
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "walk.csv"
            theirs = (t - 7.3) / (1 + 2e-4)
            lines = [f"{1000 * u:.4f},{math.degrees(w):.9f}" for u, w in zip(theirs, smooth, strict=True)]
            path.write_text("t,gz\n" + "\n".join(lines))
            log = vd.open_log(path, time=("t", "ms"), columns={"imu.angular_velocity.z": ("gz", "deg/s")})
            np.testing.assert_allclose(log["imu"]["angular_velocity.z"], smooth, atol=1e-9)
            here = Path(folder) / "ours.csv"
            here.write_text(
                "time,w\n" + "\n".join(f"{a!r},{float(b)!r}" for a, b in zip(t.tolist(), smooth, strict=True))
            )
            ours = vd.open_log(here)
            found: Any = log.aligned(ours, "imu.angular_velocity.z", "ours.w")
            self.assertAlmostEqual(found.offset, 7.3, delta=2e-3)
            self.assertAlmostEqual(found.drift, 2e-4, delta=2e-5)
            self.assertLess(abs(found.drift - 2e-4), 4 * found.drift_error)
            self.assertLess(found.drift_error, 1e-5)
            self.assertTrue(math.isnan(log.aligned(ours, "imu.angular_velocity.z", "ours.w", drift=False).drift_error))
            for column, unit, expected in (
                ("linear_acceleration.z", "g", 9.80665),
                ("position.lift", "mm", 1e-3),
                ("position.lift", "deg", math.radians(1)),
                ("latitude", "rad", math.degrees(1)),
                ("my_mass", "g", 1e-3),
            ):
                with self.subTest(column, unit=unit):
                    (Path(folder) / "one.csv").write_text("time,v\n0,1\n1,1\n")
                    one = vd.open_log(Path(folder) / "one.csv", columns={f"rig/s.{column}": ("v", unit)})
                    self.assertAlmostEqual(one["rig/s"][column].iloc[0], expected)
            with self.assertRaisesRegex(vd.VeldrainError, "no column in common: angular_velocity.z and w; call"):
                vd.compare_logs(log, ours, {"imu": "ours"})
            noise = path.with_name("noise.csv")
            noise.write_text("time,w\n" + "\n".join(f"{k / 100},{rng.standard_normal()}" for k in range(4000)))
            with self.assertRaisesRegex(vd.VeldrainError, "is not like ours.w"):
                vd.open_log(noise).aligned(ours, "noise.w", "ours.w")
            for text, more, pattern in (
                ("", {}, "is no CSV"),
                ("a,b\n1,2\n", {}, "no column 'time'"),
                ("time,b\n2,1\n1,1\n", {}, "do not grow"),
                ("time,b\n1,x\n", {"columns": {"s.b": "b"}}, "not of numbers"),
                ("time,b\n1,2\n", {"columns": {"s.b": ("b", "blorgs")}}, "'blorgs' is no unit"),
                ("time,b\n1,2\n", {"columns": {"s.linear_acceleration.x": ("b", "m/s")}}, "unit 'm/s' does not fit"),
                ("time,b\n1,2\n", {"columns": {"r/s.force.x": ("b", "kg")}}, "does not fit 'r/s.force.x' in N"),
                ("t,b\n1,2\n", {"time": ("t", "m")}, "unit 'm' does not fit 'time' in s; write such as 's'"),
                ("time,b\n1,2\n", {"columns": {"b": "b"}}, "write stream.column"),
            ):
                path.write_text(text)
                with self.subTest(pattern), self.assertRaisesRegex(vd.VeldrainError, pattern):
                    vd.open_log(path, **more)  # type: ignore[arg-type]

    def test_bags_that_are_none(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            bag = Path(folder)
            for text, pattern in (
                (None, "has no metadata.yaml"),
                ("[1", "is no description of a bag"),
                ("rosbag2_bagfile_information: {relative_file_paths: []}", "names no files"),
                ("rosbag2_bagfile_information: {relative_file_paths: [../x.db3]}", "x.db3: no such file"),
                ("rosbag2_bagfile_information: {relative_file_paths: [a.db3], compression_format: zstd}", "is packed"),
            ):
                if text is not None:
                    (bag / "metadata.yaml").write_text(text)
                with self.subTest(pattern), self.assertRaisesRegex(vd.VeldrainError, pattern):
                    vd.open_log(bag)
            (bag / "b.db3").write_bytes(b"SQLite format 3\0" + b"\xff" * 200)
            with self.assertRaisesRegex(vd.VeldrainError, "not a ROS 2 bag, or a spoilt one"):
                vd.open_log(bag / "b.db3").messages  # noqa: B018
            with sqlite3.connect(bag / "c.db3") as file:
                file.execute("create table topics(id, name, type, serialization_format)")
                file.execute("create table messages(id, topic_id, timestamp, data)")
                file.execute("insert into topics values(1, '/a', 'std_msgs/msg/Float64', 'cdr')")
                file.execute("insert into messages values(1, 1, 5, x'00010000')")
            with self.assertRaisesRegex(vd.VeldrainError, "has a message that is no std_msgs/msg/Float64"):
                vd.open_log(bag / "c.db3")["/a"]

    def test_two_trials_compared(self) -> None:
        runs = [vd.run(cart_scenario(Hold(gain=gain)), seed=1) for gain in (20.0, 24.0)]
        found = vd.compare_logs(*runs)
        row = found.table.set_index(["stream", "column"]).loc[("cart/truth", "x")]
        error = runs[1]["cart/truth"]["x"] - runs[0]["cart/truth"]["x"]
        self.assertAlmostEqual(row["RMS"], math.sqrt((error**2).mean()), 12)
        self.assertAlmostEqual(row["largest"], error.abs().max(), 12)
        self.assertIn("tf_static", found.same)
        self.assertGreater(row["first"], 0.0)
        self.assertEqual(len(found.errors("cart/truth", "x")), len(error))
        with tempfile.TemporaryDirectory() as folder:
            vd.plot(found, Path(folder) / "c.png", columns="cart/truth.x")
            self.assertTrue((Path(folder) / "c.png").stat().st_size > 10_000)

    def test_any_log_can_be_played(self) -> None:
        first = vd.run(cart_scenario())
        with tempfile.TemporaryDirectory() as folder:
            first.write(Path(folder) / "bags", ["bag"])
            log = vd.open_log(Path(folder) / "bags" / "bag")
            again = vd.run(cart_scenario(vd.Play(log, "/cart/commands", period="10 ms")))
        self.assertEqual(again.raw("cart/truth"), first.raw("cart/truth"))


class DataSets(unittest.TestCase):
    def test_of_a_study(self) -> None:
        scenario = cart_scenario()
        controllers = {"soft": Hold(gain=10.0), "stiff": Hold(gain=30.0)}
        study = vd.Study(
            scenario,
            controllers={k: {"cart": c} for k, c in controllers.items()},
            vary={"cart/slide.friction": vd.uniform(0, 1)},
            trials=5,
        )
        with tempfile.TemporaryDirectory() as folder:
            result = study.run(Path(folder) / "study")
            out = Path(folder) / "set"
            columns = ["cart/imu.linear_acceleration.x", "cart/scan.ranges"]
            index = result.write_dataset(out, columns, window="0.5 s", split={"train": 3, "test": 2}, seed=4)
            self.assertEqual(len(index), 2 * 5 * 3)
            self.assertEqual({*(index["end"] - index["start"])}, {0.5})
            parts = index.groupby("trial")["split"].nunique()
            self.assertTrue((parts == 1).all())
            self.assertEqual(index.groupby("split")["trial"].nunique().to_dict(), {"test": 2, "train": 3})
            with np.load(out / index["file"].iloc[4]) as kept:
                self.assertEqual((len(kept["time"]), len(kept.files)), (50, 2 + 8))
            self.assertTrue({"passed", "cart/slide.friction"} <= set(index.columns))
            self.assertIn("| cart/imu.linear_acceleration.x | m/s² |", (out / "README.md").read_text())
            self.assertEqual(len(json.loads((out / "index.json").read_text())), 30)
            done = called(
                "export", Path(folder) / "study", "--to", Path(folder) / "again", "--dataset", "--kind", "csv",
                "--column", columns[0], "--split", "train=1",
            )  # fmt: skip
            self.assertIn("10 files (10 train)", done.stdout, done.stderr)
            with self.assertRaisesRegex(vd.VeldrainError, "no column 'linear'"):
                result.write_dataset(Path(folder) / "no", ["cart/imu.linear"])
            self.assertFalse((Path(folder) / "no").exists() or (Path(folder) / "no.part").exists())


class Notebooks(unittest.TestCase):
    def test_things_show_themselves(self) -> None:
        scenario = cart_scenario()
        recording = vd.run(scenario)
        self.assertIn("cart/imu", recording._repr_html_())
        for thing in (scenario.world, cart(), vd.look(cart(), size=(160, 100))):
            self.assertEqual(thing._repr_png_()[:4], b"\x89PNG")


if __name__ == "__main__":
    unittest.main()
