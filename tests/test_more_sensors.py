"""Sensors of place and travel, truth about frames, failures on a timetable, sensors in files."""

from __future__ import annotations

import math
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial.transform import Rotation

import veldrain as vd
from tests.helpers import cart, cart_scenario
from tests.test_sensing import rig
from veldrain.sensing.outdoors import EARTH, ECCENTRIC, on_earth, pressure_at


def readings(
    sensor: Any, seconds: float, world: vd.World | None = None, step: float = 1e-3, failures: Any = (), **place: Any
) -> list[Any]:
    """All readings of a sensor on a box that is held still."""
    m = vd.Model("rig").link("box", vd.Part(vd.Box((0.1, 0.1, 0.1)), role="collision"), mass=1)
    w = (world or vd.World()).place(m.mount("eye", sensor, on="box", failures=failures), fixed=True, **place)
    sim, found = vd.Simulation(w, step=step, seed=3), []
    if sim["rig"].read("eye"):
        found.append(sim["rig"].read("eye"))
    sim.on_sample = lambda _, reading: found.append(reading)
    sim.advance(seconds)
    return found


def failing(*failures: Any) -> vd.Model:
    return vd.Model("m").link("a", mass=1).mount("imu", vd.Imu(), on="a", failures=failures)


class Outdoors(unittest.TestCase):
    def test_latitude_and_longitude(self) -> None:
        """A way d north turns the latitude by d/M, one east the longitude by d/(N·cos φ), with WGS 84's radii."""
        for latitude in (0.0, 0.6, -1.2):
            s = math.sin(latitude)
            meridian = EARTH * (1 - ECCENTRIC) / (1 - ECCENTRIC * s * s) ** 1.5
            across = EARTH / math.sqrt(1 - ECCENTRIC * s * s)
            with self.subTest(latitude=latitude):
                found = on_earth(np.array((0, 100.0, 0)), (latitude, 0.3, 7.0))
                self.assertAlmostEqual(found[0] - latitude, 100 / (meridian + 7), delta=1e-10)
                self.assertAlmostEqual(found[2], 7 + 100**2 / 2 / meridian, delta=1e-5)
                found = on_earth(np.array((100.0, 0, 0)), (latitude, 0.3, 7.0))
                self.assertAlmostEqual(found[1] - 0.3, 100 / ((across + 7) * math.cos(latitude)), delta=1e-10)
                again = on_earth(np.array((3000.0, -2000.0, 500.0)), (latitude, 0.3, 7.0))
                self.assertAlmostEqual(again[2], 507 + (3000**2 + 2000**2) / 2 / EARTH, delta=0.1)

    def test_gnss_noise_and_drift(self) -> None:
        """Samples scatter by noise and drift together; the drift's correlation falls by e^(−t/τ)."""
        sensor = vd.Gnss(period=1.0, noise=0.3, drift=2.0, vertical_drift=3.0, correlation_time=20.0)
        rows = np.array([r.position for r in readings(sensor, 8000, step=0.5)])
        east = rows[:, 0]
        self.assertAlmostEqual(east.std(), math.hypot(0.3, 2.0), delta=0.25)
        self.assertAlmostEqual(rows[:, 2].std(), 3.0, delta=0.4)
        for lag in (5, 20):
            correlation = float((east[:-lag] * east[lag:]).mean())
            self.assertAlmostEqual(correlation, 4 * math.exp(-lag / 20), delta=0.7)

    def test_gnss_without_a_fix(self) -> None:
        sensor = vd.Gnss(period=0.5, outages=[("1 s", "2 s")], open_sky=0.6)
        open_air = [r.has_fix for r in readings(sensor, 3.0)]
        self.assertEqual(open_air, [True, True, False, False, True, True, True])
        roof = vd.World().obstacle("roof", vd.Box((20, 20, 0.1)), pose=vd.Pose((0, 0, 3)))
        covered = readings(sensor, 0.5, roof)[0]
        self.assertFalse(covered.has_fix)
        self.assertEqual(sensor.messages(covered.data)[""].fields.status.status, -1)
        self.assertTrue(math.isnan(covered.latitude))

    def test_magnetometer_and_barometer(self) -> None:
        """The field's level part points to magnetic north; pressure falls as the standard atmosphere has it."""
        sensor = vd.Magnetometer(field_strength="50 uT", inclination="60 deg", declination="10 deg")
        for yaw in (0.0, 1.0):
            with self.subTest(yaw=yaw):
                x, y, z = readings(sensor, 0.02, pose=vd.Pose(yaw=yaw))[0].magnetic_field * 1e6
                self.assertAlmostEqual(math.atan2(y, x) + yaw, math.pi / 2 - math.radians(10), places=9)
                self.assertAlmostEqual(math.hypot(x, y), 25, places=9)
                self.assertAlmostEqual(z, -50 * math.sin(math.pi / 3), places=9)
        for height, pascal in ((0.0, 101325.0), (1000.0, 89874.6), (5000.0, 54019.9)):  # ISO 2533, table 1
            found = readings(vd.Barometer(), 0.04, pose=vd.Pose((0, 0, height)))[0].fluid_pressure
            self.assertAlmostEqual(found, pascal, delta=0.0002 * pascal)
        high = vd.World().weather(vd.Air(pressure="990 hPa", temperature=280.0))
        self.assertAlmostEqual(readings(vd.Barometer(), 0.04, high)[0].fluid_pressure, 99000, places=6)
        noisy = np.array([r.fluid_pressure for r in readings(vd.Barometer(period=0.01, noise=3.0), 20.0)])
        self.assertAlmostEqual(noisy.std(), 3.0, delta=0.15)
        self.assertAlmostEqual(pressure_at(8.43, vd.Air()), 101325 - 101.3, delta=0.5)

    def test_airspeed(self) -> None:
        """½·ρ·v² of what comes along its axis: own speed against the wind, none from behind, thinner air in the heat."""
        for wind, speed in (((0, 0, 0), 12), ((-5, 0, 0), 17), ((5, 3, 0), 7), ((20, 0, 0), 0)):
            air = vd.Air(wind=wind, temperature=310.0)
            m = vd.Model("flyer").link("body", mass=1).mount("pitot", vd.Airspeed(), on="body")
            world = vd.World(gravity=(0, 0, 0)).weather(air).place(m, velocity=(12, 0, 0))
            sim = vd.Simulation(world)
            sim.advance("0.1 s")
            read = sim["flyer"].read("pitot")
            with self.subTest(wind=wind):
                self.assertAlmostEqual(read.pressure, air.density * speed**2 / 2, places=9)
                self.assertAlmostEqual(read.speed, speed * math.sqrt(air.density / vd.Air().density), places=9)
        gusts = vd.Air(wind=(-8, 0, 0), gusts=1.0)
        speeds = np.array([r.speed for r in readings(vd.Airspeed(period=0.1), 400.0, vd.World().weather(gusts))])
        self.assertAlmostEqual(speeds.mean(), 8.0, delta=0.3)
        self.assertAlmostEqual(speeds.std(), 1.0, delta=0.15)
        self.assertEqual(
            max(r.pressure for r in readings(vd.Airspeed(full_scale=30), 20.0, vd.World().weather(gusts))), 30
        )

    def test_optical_flow(self) -> None:
        """v/h over the ground, less its own turning; of what moves itself the difference; nan beyond its range."""

        def read(height: float, ends: tuple[vd.Pose, vd.Pose], plate: float = 0.0) -> Any:
            world = vd.World(gravity=(0, 0, 0)).ground(height=-0.1)
            world.body("plate", vd.Box((40, 40, 0.02)), mass=99, pose=vd.Pose((0, 0, -0.01)), velocity=(plate, 0, 0))
            m = vd.Model("flyer").link("body", mass=1)
            m.mount("flow", vd.OpticalFlow(), on="body")
            path = [(t, vd.Pose((0, 0, height)) @ pose) for t, pose in zip((0, 2), ends, strict=True)]
            sim = vd.Simulation(world.place(m, path=path))
            sim.advance("1 s")  # where it goes and turns with 1.5 × its mean rate
            return sim["flyer"].read("flow")

        def down(x: float = 0.0, more: float = 0.0) -> vd.Pose:
            return vd.Pose((x, 0, 0), rpy=(0, math.pi / 2 + more, 0))

        for found, rate, far in (
            (read(2.0, (down(-2), down(2))), 1.5, 2.0),
            (read(2.0, (down(more=-0.4), down(more=0.4))), -0.6, 2.0),
            (read(2.0, (down(-2), down(2)), plate=1.0), 1.0, 2.0),
            (read(9.0, (down(-2), down(2))), math.nan, math.inf),
        ):
            with self.subTest(rate=rate):
                np.testing.assert_allclose((found.rates[1], found.distance), (rate, far), atol=0.01)

    def test_bad_data_sheets(self) -> None:
        for words, make in (
            ("min_range is less than max_range", lambda: vd.OpticalFlow(min_range=3, max_range=2)),
            ("an outage that ends before", lambda: vd.Gnss(outages=[(3, 2)])),
            ("give latitude and longitude", lambda: vd.Gnss(origin=(52.5, 5.5, 0))),
            ("not a flux density", lambda: vd.Magnetometer(noise="3 V")),
            ("left is empty; name the joints", lambda: vd.Odometer([], ["a"], wheel_radius=0.1, track=0.4)),
            ("torque_constant is 0", lambda: vd.MotorCurrent(torque_constant=0)),
            ("no type 'stucked'.*'stuck'", lambda: vd.Failure("stucked")),
            ("start before its end", lambda: vd.Failure("stuck", start=3, end=2)),
            ("a 'delayed' failure needs delay=", lambda: vd.Failure("delayed")),
            ("a 'stuck' failure has no delay", lambda: vd.Failure("stuck", delay=1)),
            ("m/imu: Failure: no argument 'when'", lambda: failing({"type": "stuck", "when": 3})),
            ("argument 'latencyy'", lambda: vd.Imu(latencyy=1)),
        ):
            with self.subTest(words), self.assertRaisesRegex(vd.VeldrainError, words):
                make()


class Travel(unittest.TestCase):
    def drive(self, left: float, right: float, **words: Any) -> Any:
        m = vd.Model("rig").link("box", vd.Part(vd.Box((0.2, 0.2, 0.1)), role="visual"), mass=1)
        for name in ("left", "right"):
            m.link(name, vd.Part(vd.Sphere(0.1), role="visual"), mass=0.5).joint(
                name, "box", name, "continuous", axis=(0, 1, 0)
            )
        m.mount("eye", vd.Odometer(["left"], ["right"], wheel_radius=0.1, track=0.5, **words), on="box")
        m.mount("amps", vd.MotorCurrent(["left"], torque_constant=0.5, no_load_current="0.2 A"), on="box")
        sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).place(m.motor("left", limit=9), fixed=True))
        sim["rig"].velocities = [left, right]
        return sim

    def test_a_circle(self) -> None:
        """Wheels at ω_l and ω_r go along a circle of radius track/2·(ω_r + ω_l)/(ω_r − ω_l)."""
        sim = self.drive(4.0, 6.0)
        sim.advance("2 s")
        found, radius = sim["rig"].read("eye"), 0.25 * 10 / 2
        turn = 0.1 * 2 * 2 / 0.5
        self.assertAlmostEqual(found.yaw, turn, places=9)
        self.assertAlmostEqual(found.x, radius * math.sin(turn), places=6)
        self.assertAlmostEqual(found.y, radius * (1 - math.cos(turn)), places=6)
        self.assertAlmostEqual(found.vx, 0.5, places=9)
        coarse = self.drive(4.0, 6.0, counts_per_revolution=64)
        coarse.advance("2 s")
        self.assertAlmostEqual(coarse["rig"].read("eye").yaw, turn, delta=0.1 * 2 * math.pi / 64 / 0.5)
        self.assertNotEqual(coarse["rig"].read("eye").yaw, found.yaw)

    def test_current(self) -> None:
        sim = self.drive(0.0, 0.0)
        sim["rig"].command("left", effort=-1.5)
        sim.advance("0.05 s")
        self.assertAlmostEqual(sim["rig"].read("amps").current[0], 1.5 / 0.5 + 0.2, places=9)


class Frames(unittest.TestCase):
    def arm(self) -> vd.Simulation:
        m = vd.Model("arm").link("base").link("fore", mass=1)
        m.joint("bend", "base", "fore", "revolute", vd.Pose((0, 0, 1), yaw=0.3), axis=(0, 1, 0))
        m.frame("tip", "fore", vd.Pose((0.5, 0, 0)))
        m.mount("eye", vd.Camera(size=(4, 3)), on="fore", pose=vd.Pose((0.1, 0, 0)))
        m.mount("reach", vd.TrueRelative("tip", to="jar"), on="base").mount("tf", vd.TrueFrames(), on="base")
        w = vd.World(gravity=(0, 0, 0)).body("jar", vd.Sphere(0.1), mass=1, pose=vd.Pose((2, 1, 0), yaw=0.9))
        return vd.Simulation(w.place(m, pose=vd.Pose((1, 0, 0)), fixed=True, joints={"bend": 0.4}))

    def test_one_frame_as_another_sees_it(self) -> None:
        sim = self.arm()
        found = sim["arm"].read("reach")
        expected = sim["jar"].pose().inverse() @ sim["arm"].pose("tip")
        np.testing.assert_allclose(found.position, expected.position, atol=1e-12)
        np.testing.assert_allclose(found.rpy, expected.rotation.as_euler("xyz"), atol=1e-12)
        np.testing.assert_allclose(found.orientation, expected.rotation.as_quat(canonical=True), atol=1e-12)

    def test_the_tree_of_frames(self) -> None:
        """From frame to frame up to the world they come to where each link is."""
        sim = self.arm()
        tree = sim["arm"].read("tf")
        local = {
            n: (p, vd.Pose(at, rotation=Rotation.from_quat(q)))
            for n, p, at, q in zip(tree.names, tree.parents, tree.positions, tree.orientations, strict=True)
        }
        self.assertEqual(
            (local["arm/fore"][0], local["arm/tip"][0], local["arm/eye/optical"][0], local["jar"][0]),
            ("arm/base", "arm/fore", "arm/eye", "world"),
        )
        for name, expected in (("arm/tip", sim["arm"].pose("tip")), ("jar", sim["jar"].pose())):
            pose, at = vd.Pose(), name
            while at != "world":
                at, step = local[at]
                pose = step @ pose
            np.testing.assert_allclose(pose.position, expected.position, atol=1e-12)
            np.testing.assert_allclose(pose.matrix, expected.matrix, atol=1e-12)
        forward = local["arm/eye/optical"][1].matrix[:, 2]
        np.testing.assert_allclose(forward, (1, 0, 0), atol=1e-12)

    def test_a_frame_that_is_not_there(self) -> None:
        with self.assertRaisesRegex(vd.VeldrainError, "rig/eye.*no link, frame, sensor or thing 'tipp'"):
            rig(vd.TrueRelative("tipp"), fixed=True)


class Failures(unittest.TestCase):
    def course(self, *failures: Any, **words: Any) -> list[tuple[float, float]]:
        """Times and positions of a joint that turns at 1 rad/s, as encoders tell them."""
        m = vd.Model("rig").link("box").link("wheel", vd.Part(vd.Sphere(0.1), role="visual"), mass=1)
        m.joint("turn", "box", "wheel", "continuous").mount(
            "eye", vd.Encoders(period=0.1, **words), on="box", failures=failures
        )
        sim = vd.Simulation(vd.World(gravity=(0, 0, 0)).place(m, fixed=True), seed=2)
        sim["rig"].velocities = [1.0]
        sim.restore(sim.snapshot())
        self.sim, found = sim, []
        sim.on_sample = lambda _, reading: found.append((reading.time, float(reading.position[0])))
        sim.advance("1 s")
        return found

    def test_each_kind(self) -> None:
        times = [round(0.1 * k, 1) for k in range(1, 11)]
        cases: list[tuple[Any, dict[float, float | None]]] = [
            (vd.Failure("stuck", start=0.35, end=0.65), dict.fromkeys((0.4, 0.5, 0.6), 0.3)),
            (vd.Failure("dropped", start="0.35 s", end="0.65 s"), dict.fromkeys((0.4, 0.5, 0.6))),
            (vd.Failure("dead", start=0.35, end=0.45), dict.fromkeys(times[3:])),
            (
                {"type": "biased", "start": 0.35, "end": 0.65, "offset": {"position": 5.0}},
                {t: t + 5 for t in (0.4, 0.5, 0.6)},
            ),
        ]
        for failure, wrong in cases:
            with self.subTest(failure):
                expected = [(t, wrong.get(t, t)) for t in times if wrong.get(t, t) is not None]
                np.testing.assert_allclose(self.course(failure), expected, atol=1e-9)

    def test_delay_and_share(self) -> None:
        self.course(vd.Failure("delayed", start=0.35, end=0.65, delay="250 ms"), latency=0.1)
        self.sim.reset()
        samples, arrived = self.sim.streams["rig/eye"], []
        for step in (300, 450, 700, 750, 900):
            self.sim.advance_to(step)
            arrived.append(samples.arrived(step).time)  # type: ignore[union-attr]
        np.testing.assert_allclose(arrived, [0.2, 0.3, 0.3, 0.4, 0.8])  # 0.6 is overtaken by 0.7
        kept = readings(vd.Imu(), 10.0, failures=[vd.Failure("dropped", fraction=0.4)])
        self.assertAlmostEqual(len(kept) / 1000, 0.6, delta=0.05)

    def test_a_bias_on_no_field(self) -> None:
        with self.assertRaisesRegex(vd.VeldrainError, "no field of the reading 'positions'.*position"):
            self.course(vd.Failure("biased", offset={"positions": 1.0}))

    def test_exact_everywhere(self) -> None:
        """``exact=True`` of the simulation is what ``exact=True`` of every sensor is."""
        w = vd.World().obstacle("post", vd.Box((0.1, 0.4, 0.4)), pose=vd.Pose((1, 0, 0))).place(cart(), fixed=True)
        sim = vd.Simulation(w, exact=True)
        sim.advance("0.3 s")
        self.assertEqual(float(sim["cart"].read("imu").angular_velocity @ (1, 1, 1)), 0.0)
        ranges = sim["cart"].read("scan").ranges
        np.testing.assert_allclose(ranges, ranges[::-1], atol=1e-12)  # the scene is the same on both sides


class Files(unittest.TestCase):
    def test_sensors_looks_and_lights_in_a_file(self) -> None:
        text = """veldrain: world/1
looks:
  tarred: {colour: black, reflectance: 0.05}
sun: {elevation: 20 deg, azimuth: 90 deg, lux: 2e4}
sky: {lux: 5e3}
lamps: [{position: [0, 0, 3 m], candela: 200, colour: "#ffeecc"}]
air: {visibility: 200 m, rain: 4}
ground: {look: {colour: white, checker: grey, tile: 50 cm}}
obstacles:
  quay: {box: [1 m, 1 m, 1 m], pose: {xyz: [3 m, 0, 50 cm]}, look: tarred}
models:
  rig:
    links: {box: {mass: 1, parts: [{box: [10 cm, 10 cm, 10 cm], role: collision}]}}
    sensors:
      eye: {use: Camera, on: box, with: {size: [32, 24], field_of_view: 70 deg}}
      cloud: {use: SpinningLidar, on: box, with: {elevations: [0, 5 deg], azimuths: 8, exact: true}}
      fix: {use: Gnss, on: box, with: {noise: 1 m}, failures: [{type: dead, start: 2 s}]}
place: {rig: {model: rig, fixed: true, pose: {xyz: [0, 0, 1 m]}}}
"""
        made = vd.World().light(
            vd.Sun("20 deg", "90 deg", lux=2e4), vd.Sky(5e3), vd.Lamp((0, 0, 3), 200, colour="#ffeecc")
        )
        made.weather(vd.Air(visibility="200 m", rain="4 mm/h")).ground(look=vd.Look("white", checker="grey", tile=0.5))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "w.world.yaml"
            path.write_text(text)
            world = vd.load_world(path)
            for word in ("sun", "sky", "lamps", "air", "floor"):
                self.assertEqual(getattr(world, word), getattr(made, word))
            self.assertEqual(world.obstacles["quay"].part.look, vd.Look("black", reflectance=0.05))
            sim = vd.Simulation(world)
            sim.advance("0.3 s")
            self.assertEqual(sim["rig"].read("eye").pixels.shape, (24, 32, 3))
            self.assertEqual(sim["rig"].read("cloud").ranges.shape, (2, 8))
            for old, new, told in (
                ("look: tarred", "look: tared", r"w.world.yaml:10.*no look 'tared'.*tarred"),
                ("use: Camera", "use: Camra", "no sensor 'Camra'.*'Camera'"),
                ("field_of_view: 70 deg", "field_of_view: 190 deg", "w.world.yaml:15.*field_of_view is 190°"),
                ("azimuths: 8", "azimuts: 8", "argument 'azimuts'.*'azimuths'"),
                ("on: box, with: {noise", "on: bix, with: {noise", "w.world.yaml:17.*no link 'bix'.*'box'"),
                ("lux: 5e3", "lux: -1", "w.world.yaml:5.*lux is -1"),
            ):
                with self.subTest(new):
                    path.write_text(text.replace(old, new))
                    with self.assertRaisesRegex(vd.VeldrainError, told):
                        vd.load_world(path)

    def test_faulty_sensors_in_a_trial(self) -> None:
        """What a failure keeps back is not in the recording either."""
        scenario = cart_scenario(duration=0.5)
        model = scenario.world.placed["cart"].model
        model.sensors["imu"] = replace(model.sensors["imu"], failures=(vd.Failure("dead", start=0.255),))
        self.assertEqual(vd.run(scenario)["cart/imu"]["time"].max(), 0.25)


class Slip(unittest.TestCase):
    def test_a_wheel_that_spins_up_and_one_that_is_dragged_askew(self) -> None:
        """Slip near 1 at the start with all of its grip used, 0 once it rolls; the slip angle is that of its way."""
        m = vd.Model("rig").link("hub", mass=20, inertia=np.eye(3)).link("wheel", vd.Cylinder(0.1, 0.01), mass=1)
        m.joint("axle", "hub", "wheel", "continuous", vd.Pose(rpy=(-math.pi / 2, 0, 0)), axis=(0, 0, 1))
        m.motor("axle", "velocity", damping=50, limit=40)
        m.mount("slip", vd.TrueSlip("5 ms", radius=0.1), on="wheel", pose=vd.Pose(rpy=(math.pi / 2, 0, 0)))
        friction = vd.Surface(friction=0.8)
        m.change_link("wheel", surface=friction)
        sim = vd.Simulation(vd.World().ground(surface=friction).place(m, pose=vd.Pose((0, 0, 0.1))))
        sim["rig"].command("axle", velocity=20)
        sim.advance("50 ms")
        early = sim["rig"].read("slip")
        self.assertGreater(early.slip, 0.7)
        self.assertAlmostEqual(early.friction, 0.8, delta=0.01)
        self.assertAlmostEqual(early.load, 21 * 9.81, delta=2)
        sim.advance("1 s")
        self.assertAlmostEqual(sim["rig"].read("slip").slip, 0.0, delta=1e-3)
        sim["rig"].move_to(sim["rig"].pose(), (1.0, 0.5, 0.0))
        sim.advance("5 ms")
        self.assertAlmostEqual(sim["rig"].read("slip").slip_angle, math.atan2(0.5, 1.0), delta=0.1)
