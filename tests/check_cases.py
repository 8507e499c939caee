"""One case a rule of the check: a thing that breaks just that rule, and the same thing mended.

docs/check.md shows them, see scripts/document_check.
"""

from __future__ import annotations

import inspect
import math
from collections.abc import Callable
from pathlib import Path
from tempfile import mkdtemp
from typing import Any

import numpy as np
import trimesh

import veldrain as vd
from veldrain.formats import load_robot
from veldrain.sheet import Number

Thing = vd.Model | vd.World
CASES: dict[str, tuple[str, Callable[[bool], Thing]]] = {}
FLAT = vd.Pose(rpy=("90 deg", 0, 0))
WHEEL = vd.Part(vd.Cylinder("10 cm", "4 cm"), FLAT)


def case(rule: str, at: str) -> Callable[[Callable[[bool], Thing]], Callable[[bool], Thing]]:
    """Register what breaks a rule, and at which name path it is found."""

    def register(make: Callable[[bool], Thing]) -> Callable[[bool], Thing]:
        CASES[rule] = at, make
        return make

    return register


def source(rule: str) -> str:
    """The code of a case, without its decorator."""
    lines = inspect.getsource(CASES[rule][1]).splitlines()
    return "\n".join(line for line in lines if not line.startswith("@"))


def urdf(text: str) -> vd.Model:
    """A model of a robot file with this inside."""
    path = Path(mkdtemp()) / "cart.urdf"
    path.write_text(f'<robot name="cart">{text}</robot>', encoding="utf-8")
    return load_robot(path, draft=True)


def cart(**changes: Any) -> vd.Model:
    """A hull on four driven wheels."""
    m = vd.Model("cart").link("hull", vd.Box((0.6, 0.3, 0.1)), mass=12)
    for name, x, y in (("fl", 0.2, 0.2), ("fr", 0.2, -0.2), ("rl", -0.2, 0.2), ("rr", -0.2, -0.2)):
        m.link(f"{name}_wheel", changes.get(f"{name}_part", WHEEL), mass=1, surface=changes.get("tyre"))
        m.joint(
            name,
            "hull",
            f"{name}_wheel",
            "continuous",
            vd.Pose((x, y, changes.get(f"{name}_z", 0))),
            axis=changes.get(f"{name}_axis", (0, 1, 0)),
        )
        m.motor(name, "velocity", damping=5, limit=8)
    return m


def on_ground(model: vd.Model, height: float = 0.1, **options: Any) -> vd.World:
    """A model on level ground."""
    return vd.World().ground().place(model, pose=vd.Pose((0, 0, height)), **options)


def boom(mass: float = 2.0, **motor: Any) -> vd.Model:
    """An arm of one joint, held out level."""
    m = vd.Model("crane").link("post", vd.Cylinder(0.05, 0.4), mass=9)
    m.link("boom", vd.Part(vd.Capsule(0.03, 0.4), vd.Pose((0.25, 0, 0), rpy=(0, "90 deg", 0))), mass=mass)
    m.joint("lift", "post", "boom", "revolute", vd.Pose((0, 0, 0.2)), axis=(0, 1, 0), limits=("-80 deg", "80 deg"))
    return m.motor("lift", **motor) if motor else m


def tube(collide: Any) -> vd.Mesh:
    """A pipe of 1 m, 20 cm wide inside and 24 cm outside."""
    made = trimesh.creation.annulus(0.1, 0.12, 1.0, sections=24)
    return vd.Mesh.of(made.vertices, made.faces, collide=collide, name="pipe.stl")


@case("no-mass", "cart/tip")
def no_mass(mended: bool) -> vd.Model:
    m = cart().link("tip", vd.Box((0.04, 0.04, 0.3)), mass=0.2 if mended else None)
    return m.joint("wave", "hull", "tip", "revolute", vd.Pose((0, 0, 0.3)), limits=(-1, 1))


@case("inertia-of-its-shapes", "bar/bar")
def inertia_of_its_shapes(mended: bool) -> vd.Model:
    kg_mm2 = np.diag((1300.0, 84000.0, 84000.0))  # as a drawing program prints it
    return vd.Model("bar").link("bar", vd.Box((1, 0.1, 0.08)), mass=1, inertia=kg_mm2 * (1e-6 if mended else 1))


@case("mass-for-its-volume", "cart/lamp")
def mass_for_its_volume(mended: bool) -> vd.Model:
    m = cart().link("lamp", vd.Box((0.05, 0.035, 0.012)), mass="30 g" if mended else "30 kg")
    return m.joint("lamp_foot", "hull", "lamp", "fixed", vd.Pose((0, 0, 0.06)))


@case("unlikely-limits", "crane/lift")
def unlikely_limits(mended: bool) -> vd.Model:
    return boom().change_joint("lift", limits=("-80 deg", "80 deg") if mended else (-80, 80))


@case("held-by-friction", "cart/fl")
def held_by_friction(mended: bool) -> vd.Model:
    return cart().change_joint("fl", friction="20 mN*m" if mended else 20)


@case("slow-motor", "turret/pan")
def slow_motor(mended: bool) -> vd.Model:
    m = vd.Model("turret").link("foot", vd.Cylinder(0.1, 0.1), mass=5)
    m.link("head", vd.Part(vd.Box((0.4, 0.1, 0.1)), vd.Pose((0, 0, 0.12))), mass=3)
    m.joint("pan", "foot", "head", "revolute", axis=(0, 0, 1), limits=("-90 deg", "90 deg"))
    return m.motor("pan", "position", stiffness=2 if mended else 0.02, damping=0.5 if mended else 0.001)


@case("unlikely-range", "cart/echo")
def unlikely_range(mended: bool) -> vd.Model:
    echo = vd.Ultrasonic(max_range="3000 mm" if mended else 3000)
    return cart().mount("echo", echo, on="hull", pose=vd.Pose((0.35, 0, 0.2)))


@case("unlikely-noise", "cart/imu")
def unlikely_noise(mended: bool) -> vd.Model:
    return cart().mount("imu", vd.Imu(gyro_noise="2 deg/s" if mended else 2), on="hull")


@case("rare-readings", "cart/imu")
def rare_readings(mended: bool) -> vd.Model:
    return cart().mount("imu", vd.Imu(period="5 ms" if mended else 5), on="hull")


@case("unlikely-gravity", "gravity")
def unlikely_gravity(mended: bool) -> vd.World:
    w = vd.World(gravity=(0, 0, -9.81 if mended else -981)).ground()
    return w.body("crate", vd.Box((0.4, 0.4, 0.4)), mass=6, pose=vd.Pose((0, 0, 0.2)))


@case("unlikely-friction", "ramp")
def unlikely_friction(mended: bool) -> vd.World:
    rubber = vd.Surface(friction="80 %" if mended else 80)
    return vd.World().ground().obstacle("ramp", vd.Box((1, 1, 0.1)), surface=rubber)


@case("unlikely-speed", "van")
def unlikely_speed(mended: bool) -> vd.World:
    line = vd.Route([(0, 0), (900, 0)], speed="120 km/h" if mended else 120)
    return vd.World().ground().actor("van", vd.Box((5, 2, 2)), route=line)


@case("unlikely-size", "van")
def unlikely_size(mended: bool) -> vd.World:
    size = (5.0, 2.0, 2.0) if mended else (5000, 2000, 2000)
    return vd.World().ground().actor("van", vd.Box(size), route=vd.Route([(0, 0), (900, 0)], speed=10))


@case("size", "cart/fl_wheel")
def size(mended: bool) -> vd.Model:
    drawn_in_mm = trimesh.creation.cylinder(100, 40, sections=48)
    wheel = vd.Mesh.of(
        drawn_in_mm.vertices * (0.001 if mended else 1), drawn_in_mm.faces, collide="cylinder", name="wheel.stl"
    )
    return cart(fl_part=vd.Part(wheel, FLAT, role="visual")).change_link(
        "fl_wheel", vd.Part(WHEEL.shape, FLAT, "collision")
    )


@case("round-as-box", "cart/fl_wheel")
def round_as_box(mended: bool) -> vd.Model:
    m = cart(fl_part=vd.Part(vd.Cylinder("10 cm", "4 cm"), FLAT, role="visual"))
    touch = vd.Cylinder("10 cm", "4 cm") if mended else vd.Box((0.2, 0.2, 0.04))
    return m.change_link("fl_wheel", vd.Part(touch, FLAT, role="collision"))


@case("unlike-its-looks", "rake/head")
def unlike_its_looks(mended: bool) -> vd.Model:
    touched = vd.Part(vd.Box((0.5, 0.1, 0.1)), vd.Pose() if mended else vd.Pose((0.4, 0, 0)), role="collision")
    return vd.Model("rake").link("head", vd.Part(vd.Box((0.5, 0.1, 0.1)), role="visual"), touched, mass=3)


@case("hollow-filled", "culvert/pipe")
def hollow_filled(mended: bool) -> vd.Model:
    return vd.Model("culvert").link("pipe", tube("triangles" if mended else "hull"), mass=20)


@case("nothing-to-touch", "probe/shell")
def nothing_to_touch(mended: bool) -> vd.Model:
    return vd.Model("probe").link("shell", vd.Part(vd.Sphere(0.1), role="both" if mended else "visual"), mass=2)


@case("overlapping-links", "walker/left_leg")
def overlapping_links(mended: bool) -> vd.Model:
    m = vd.Model("walker").link("hull", vd.Box((0.4, 0.2, 0.1)), mass=5)
    for side, y in (("left", 0.03), ("right", -0.03)):
        m.link(f"{side}_leg", vd.Part(vd.Capsule(0.04, 0.3), vd.Pose((0, 0, -0.25))), mass=1)
        pose = vd.Pose((0, 3 * y if mended else y, -0.1))
        m.joint(f"{side}_hip", "hull", f"{side}_leg", "revolute", pose, axis=(1, 0, 0), limits=(-0.05, 0.05))
    return m


@case("overlapping-world", "cart/rr_wheel")
def overlapping_world(mended: bool) -> vd.World:
    return on_ground(cart(), height=0.1 if mended else 0.08)


@case("wheel-axis", "cart/fl")
def wheel_axis(mended: bool) -> vd.Model:
    return cart(fl_axis=(0, 1, 0) if mended else (0, 0, 1))


@case("steering-axis", "tug/steer")
def steering_axis(mended: bool) -> vd.Model:
    m = (
        vd.Model("tug")
        .link("hull", vd.Box((0.6, 0.2, 0.1)), mass=9)
        .link("knuckle", mass=0.3)
        .link("wheel", WHEEL, mass=1)
    )
    axis = (0, 0, 1) if mended else (0, 1, 0)
    m.joint("steer", "hull", "knuckle", "revolute", vd.Pose((0.45, 0, 0)), axis=axis, limits=(-0.6, 0.6))
    return m.joint("roll", "knuckle", "wheel", "continuous", axis=(0, 1, 0))


@case("no-limits", "gate/lift")
def no_limits(mended: bool) -> vd.Model:
    m = vd.Model("gate").link("frame", mass=40).link("blade", vd.Box((0.05, 0.8, 0.6)), mass=15)
    return m.joint("lift", "frame", "blade", "prismatic", limits=(0, "60 cm") if mended else None)


@case("no-range", "gate/lift")
def no_range(mended: bool) -> vd.Model:
    m = vd.Model("gate").link("frame", mass=40).link("blade", vd.Box((0.05, 0.8, 0.6)), mass=15)
    return m.joint("lift", "frame", "blade", "prismatic", limits=(0, "60 cm" if mended else 0))


@case("no-effort", "crane/lift")
def no_effort(mended: bool) -> vd.Model:
    return boom().change_joint("lift", effort=60 if mended else 0).motor("lift", "velocity", damping=8, integral=16)


@case("endless-position", "cart/fl")
def endless_position(mended: bool) -> vd.Model:
    return cart().change_motor(
        "fl", mode="velocity" if mended else "position", stiffness=0 if mended else 9, damping=0.9
    )


@case("held-by-nothing", "crane/hook")
def held_by_nothing(mended: bool) -> vd.Model:
    m = boom().link("hook", vd.Sphere(0.02), mass=0.1)
    return m.joint("eye", "boom", "hook", "fixed", vd.Pose((0.5, 0, 0))) if mended else m


@case("holds-no-weight", "crane/lift")
def holds_no_weight(mended: bool) -> vd.Model:
    return boom(mass=2, mode="position", stiffness=2000, damping=40, limit=20 if mended else 3)


@case("sags", "crane/lift")
def sags(mended: bool) -> vd.Model:
    return boom(mass=2, mode="position", stiffness=2000 if mended else 50, damping=10)


@case("gives-way", "crane/lift")
def gives_way(mended: bool) -> vd.Model:
    return boom(mass=2, mode="velocity", damping=80, integral=160 if mended else 0)


@case("mostly-damping", "crane/lift")
def mostly_damping(mended: bool) -> vd.Model:
    return boom(mass=0.2, mode="position", stiffness=100, damping=3 if mended else 300)


@case("stiff-for-the-step", "crane/lift")
def stiff_for_the_step(mended: bool) -> vd.Model:
    return boom(mass=2, mode="position", stiffness=2000 if mended else 200e3, damping=10 if mended else 200)


@case("stiffness-unused", "crane/lift")
def stiffness_unused(mended: bool) -> vd.Model:
    return boom(mode="velocity", damping=8, integral=16, stiffness=0 if mended else 200)


@case("undriven", "crane/lift")
def undriven(mended: bool) -> vd.Model:
    m = boom().change_joint("lift", effort=60)
    return m.motor("lift", "velocity", damping=8, integral=16) if mended else m


@case("tips", "tripod")
def tips(mended: bool) -> vd.World:
    m = (
        vd.Model("tripod")
        .link("plate", vd.Box((0.3, 0.3, 0.02)), mass=2)
        .link("mast", vd.Box((0.02, 0.02, 0.5)), mass=1)
    )
    m.link("lamp", vd.Sphere(0.08), mass=1 if mended else 9).joint(
        "foot", "plate", "mast", "fixed", vd.Pose((0.1, 0, 0.26))
    )
    return on_ground(m.joint("arm", "mast", "lamp", "fixed", vd.Pose((0.3, 0, 0.2))), height=0.01)


@case("in-the-air", "cart/fl_wheel")
def in_the_air(mended: bool) -> vd.World:
    return on_ground(cart(fl_z=0 if mended else 0.03))


@case("drops", "cart")
def drops(mended: bool) -> vd.World:
    return on_ground(cart(), height=0.1 if mended else 0.15)


@case("nothing-below", "crate")
def nothing_below(mended: bool) -> vd.World:
    w = vd.World().body("crate", vd.Box((0.4, 0.4, 0.4)), mass=6, pose=vd.Pose((0, 0, 0.2)))
    return w.ground() if mended else w


@case("no-gravity", "gravity")
def no_gravity(mended: bool) -> vd.World:
    w = vd.World(gravity=(0, 0, -9.81 if mended else 0)).ground()
    return w.body("crate", vd.Box((0.4, 0.4, 0.4)), mass=6, pose=vd.Pose((0, 0, 0.2)))


@case("no-grip", "cart/fl_wheel")
def no_grip(mended: bool) -> vd.World:
    return on_ground(cart(tyre=vd.Surface(friction=0.9 if mended else 0)))


@case("cannot-be-touched", "wall")
def cannot_be_touched(mended: bool) -> vd.World:
    wall = vd.Part(vd.Box((0.1, 2, 0.5)), role="both" if mended else "visual")
    return vd.World().ground().obstacle("wall", wall, pose=vd.Pose((1, 0, 0.25)))


def seeing(height: float = 0.2, on: str = "hull", sensor: Any = None) -> vd.Model:
    """The cart with a lidar."""
    return cart().mount(
        "scan", sensor or vd.Lidar(max_range=6, field_of_view="120 deg"), on=on, pose=vd.Pose((0.1, 0, height))
    )


@case("cannot-be-seen", "wall")
def cannot_be_seen(mended: bool) -> vd.World:
    wall = vd.Part(vd.Box((0.1, 2, 0.5)), role="both" if mended else "collision")
    return (
        on_ground(seeing())
        .obstacle("post", vd.Box((0.1, 0.1, 1)), pose=vd.Pose((2, 0, 0.5)))
        .obstacle("wall", wall, pose=vd.Pose((3, 0, 0.25)))
    )


@case("inside-a-solid", "cart/scan")
def inside_a_solid(mended: bool) -> vd.Model:
    return (
        seeing(height=0.2)
        if mended
        else seeing(height=0.04).suppress("sees-itself", "scan", because="shown by another rule")
    )


@case("sees-itself", "cart/scan")
def sees_itself(mended: bool) -> vd.Model:
    m = seeing().link("mast", vd.Cylinder("3 cm", "20 cm"), mass=0.3)
    return m.joint("foot", "hull", "mast", "fixed", vd.Pose((-0.2 if mended else 0.25, 0, 0.15)))


class Eye(vd.Lidar):
    """A lidar that, like a camera, does not see what is before its near plane."""

    near: Number = Number("length", default=0.3, least=0.0, doc="near plane")

    def sight(self) -> Any:
        return super().sight()._replace(near=self.near)


@case("near-plane", "cart/scan")
def near_plane(mended: bool) -> vd.Model:
    eye = Eye(max_range=6, field_of_view="120 deg", near=0.01 if mended else 0.3)
    m = (
        seeing(sensor=eye)
        .link("lip", vd.Box((0.01, 0.02, 0.4)), mass=0.1)
        .suppress("sees-itself", "scan", because="it is to see its lip")
    )
    return m.joint("foot", "hull", "lip", "fixed", vd.Pose((0.3, 0, 0.2)))


@case("sees-nothing", "cart/scan")
def sees_nothing(mended: bool) -> vd.World:
    return on_ground(seeing(height=0.2 if mended else 0.9)).obstacle(
        "wall", vd.Box((0.1, 2, 0.5)), pose=vd.Pose((3, 0, 0.25))
    )


@case("heavy-sensor", "cart/head")
def heavy_sensor(mended: bool) -> vd.Model:
    m = cart().link("head", vd.Sphere(0.08), mass=0.6 if mended else 6)
    m.joint("neck", "hull", "head", "fixed", vd.Pose((0.2, 0, 0.3)))
    return m.mount("imu", vd.Imu(), on="head")


@case("never-closes", "gate/top")
def never_closes(mended: bool) -> vd.Model:
    m = vd.Model("gate").link("frame", mass=40).link("blade", vd.Box((0.05, 0.8, 0.6)), mass=15)
    m.joint("lift", "frame", "blade", "prismatic", limits=(0, "60 cm"))
    return m.mount("top", vd.LimitSwitch("lift", at=0.58 if mended else 0.62), on="frame")


@case("uneven-period", "cart/imu")
def uneven_period(mended: bool) -> vd.Model:
    return cart().mount("imu", vd.Imu(period="2 ms" if mended else "2.5 ms"), on="hull")


@case("clips-at-rest", "cart/imu")
def clips_at_rest(mended: bool) -> vd.Model:
    return cart().mount("imu", vd.Imu(accel_full_scale=20 if mended else 2, bandwidth="50 Hz"), on="hull")


@case("range-hangs-on-the-step", "cart/imu")
def range_hangs_on_the_step(mended: bool) -> vd.Model:
    return cart().mount("imu", vd.Imu(accel_full_scale="16 g", bandwidth="100 Hz" if mended else "400 Hz"), on="hull")


@case("touches-nothing", "cart/skin")
def touches_nothing(mended: bool) -> vd.Model:
    m = cart().link("bumper", vd.Part(vd.Box((0.02, 0.2, 0.04)), role="both" if mended else "visual"), mass=0.1)
    m.joint("screws", "hull", "bumper", "fixed", vd.Pose((0.4, 0, 0.2)))
    if not mended:
        m.suppress("nothing-to-touch", "bumper", because="shown by another rule")
    return m.mount("skin", vd.Touch(), on="bumper")


@case("wrong-wheels", "cart/way")
def wrong_wheels(mended: bool) -> vd.Model:
    radius = 0.1 if mended else 0.15
    return cart().mount("way", vd.Odometer(["fl", "rl"], ["fr", "rr"], wheel_radius=radius, track="40 cm"), on="hull")


@case("curve-too-short", "cart/ir")
def curve_too_short(mended: bool) -> vd.Model:
    curve = [("10 cm", 2.3), ("30 cm", 1.0), *([("80 cm", 0.4)] if mended else [])]
    return cart().mount("ir", vd.Infrared(calibration=curve), on="hull", pose=vd.Pose((0.4, 0, 0.1)))


@case("meets-the-ground", "cart/sonar")
def meets_the_ground(mended: bool) -> vd.World:
    pose = vd.Pose((0.4, 0, 0.1), rpy=(0, "-15 deg" if mended else "5 deg", 0))
    w = on_ground(cart().mount("sonar", vd.Ultrasonic(field_of_view="30 deg", max_range=2), on="hull", pose=pose))
    return w.obstacle("wall", vd.Box((0.1, 4, 2)), pose=vd.Pose((1.5, 0, 1)))


@case("beams-apart", "cart/scan")
def beams_apart(mended: bool) -> vd.Model:
    return seeing(sensor=vd.Lidar(max_range=20, beams=180 if mended else 18, field_of_view="120 deg"))


@case("grainy-speed", "cart/ticks")
def grainy_speed(mended: bool) -> vd.Model:
    return cart().mount("ticks", vd.Encoders(counts_per_revolution=4096 if mended else 64), on="hull")


@case("no-fix", "cart/fix")
def no_fix(mended: bool) -> vd.World:
    m = cart().mount("fix", vd.Gnss(open_sky=0.5), on="hull", pose=vd.Pose((0, 0, 0.2)))
    return on_ground(m).obstacle("roof", vd.Box((1 if mended else 40, 9, 0.1)), pose=vd.Pose((0, 0, 3)))


@case("wrong-exposure", "cart/eye")
def wrong_exposure(mended: bool) -> vd.World:
    eye = vd.Camera(size=(32, 24), exposure="0.4 ms" if mended else "40 ms")
    w = on_ground(cart().mount("eye", eye, on="hull", pose=vd.Pose((0.4, 0, 0.2))))
    return w.obstacle("wall", vd.Box((0.1, 2, 0.5)), pose=vd.Pose((3, 0, 0.25)))


@case("holes-in-the-ground", "dunes")
def holes_in_the_ground(mended: bool) -> vd.World:
    heights = np.zeros((9, 9))
    heights[4, 5] = 0.0 if mended else np.nan
    return vd.World().ground(height=-0.5).obstacle("dunes", vd.HeightField(heights, 0.5))


@case("fast-for-the-step", "crate")
def fast_for_the_step(mended: bool) -> vd.World:
    soft = vd.Surface(stiffness="20 kN/m" if mended else "20 MN/m", damping=100)
    return vd.World().ground(soft).body("crate", vd.Box((0.4, 0.4, 0.4)), mass=6, pose=vd.Pose((0, 0, 0.2)))


LINKS = '<link name="hull"/><link name="wheel"/>'
ENDS = '<parent link="hull"/><child link="wheel"/>'


@case("impossible-inertia", "cart/hull")
def impossible_inertia(mended: bool) -> vd.Model:
    izz = 0.5 if mended else 5
    inertia = f'<inertia ixx="0.2" iyy="0.4" izz="{izz}" ixy="0" ixz="0" iyz="0"/>'
    return urdf(f'<link name="hull"><inertial><mass value="9"/>{inertia}</inertial></link>')


@case("limits", "cart/lift")
def limits(mended: bool) -> vd.Model:
    low, high = (-1, 1) if mended else (1, -1)
    limit = f'<limit lower="{low}" upper="{high}" effort="5" velocity="2"/>'
    m = urdf(f'{LINKS}<joint name="lift" type="revolute">{ENDS}{limit}</joint>')
    return m.change_link("wheel", mass=1).motor("lift", "velocity", damping=1)


@case("axis", "cart/turn")
def axis(mended: bool) -> vd.Model:
    xyz = "0 1 0" if mended else "0 0 0"
    return urdf(f'{LINKS}<joint name="turn" type="continuous">{ENDS}<axis xyz="{xyz}"/></joint>').change_link(
        "wheel", mass=1
    )


@case("axis-length", "cart/turn")
def axis_length(mended: bool) -> vd.Model:
    xyz = "0 1 0" if mended else "0 90 0"
    return urdf(f'{LINKS}<joint name="turn" type="continuous">{ENDS}<axis xyz="{xyz}"/></joint>').change_link(
        "wheel", mass=1
    )


@case("mimic", "cart/turn")
def mimic(mended: bool) -> vd.Model:
    follow = "" if mended else '<mimic joint="trun"/>'
    return urdf(f'{LINKS}<joint name="turn" type="continuous">{ENDS}{follow}</joint>').change_link("wheel", mass=1)


@case("tree", "cart/back")
def tree(mended: bool) -> vd.Model:
    back = "" if mended else '<joint name="back" type="fixed"><parent link="wheel"/><child link="hull"/></joint>'
    return urdf(f'{LINKS}<joint name="turn" type="continuous">{ENDS}</joint>{back}').change_link("wheel", mass=1)


@case("start-outside-limits", "crane/lift")
def start_outside_limits(mended: bool) -> vd.World:
    w = vd.World(draft=True).ground()
    return w.place(boom(), fixed=True, pose=vd.Pose((0, 0, 1)), joints={"lift": "60 deg" if mended else "100 deg"})


@case("not-on-a-link", "probe/imu")
def not_on_a_link(mended: bool) -> vd.Model:
    return vd.Model("probe", draft=True).link("shell", mass=1).mount("imu", vd.Imu(), on="shell" if mended else "hull")


@case("one-name", "probe")
def one_name(mended: bool) -> vd.Model:
    m = vd.Model("probe", draft=True).link("shell", mass=1).mount("imu", vd.Imu(), on="shell")
    return m.mount("imu_2" if mended else "imu", vd.Imu(), on="shell")


@case("gains", "cart/turn")
def gains(mended: bool) -> vd.Model:
    drive = '<transmission name="t"><joint name="turn"><hardwareInterface>VelocityJointInterface</hardwareInterface></joint></transmission>'
    m = urdf(f'{LINKS}<joint name="turn" type="continuous">{ENDS}</joint>{drive}').change_link("wheel", mass=1)
    return m.change_motor("turn", mode="velocity", damping=2) if mended else m


@case("motor-on-fixed", "cart/foot")
def motor_on_fixed(mended: bool) -> vd.Model:
    m = vd.Model("cart", draft=True).link("hull", mass=9).link("lamp", mass=1)
    return m.joint("foot", "hull", "lamp", "continuous" if mended else "fixed").motor("foot", "velocity", damping=1)


def two_wheels(**odometer: Any) -> vd.World:
    """A cart with an odometer over its rear wheels."""
    told = {"left": ["rl"], "right": ["rr"], "wheel_radius": "10 cm", "track": "40 cm"} | odometer
    return on_ground(cart().mount("wheels", vd.Odometer(**told), on="hull"))


@case("odometer-sides", "cart/wheels")
def odometer_sides(mended: bool) -> vd.World:
    return two_wheels(left=["rl" if mended else "rr"], right=["rr" if mended else "rl"])


@case("odometer-track", "cart/wheels")
def odometer_track(mended: bool) -> vd.World:
    return two_wheels(track="40 cm" if mended else "20 cm")  # half of it, as drawings give it


@case("one-axis-reversed", "cart/rr")
def one_axis_reversed(mended: bool) -> vd.World:
    return on_ground(cart(rr_axis=(0, 1 if mended else -1, 0)))


def steered(*more: vd.Part, **axes: float) -> vd.Model:
    """A car with two steered wheels in front, and more parts on its hull."""
    m = vd.Model("car").link("hull", vd.Box((0.5, 0.24, 0.1)), *more, mass=12)
    for name, x, y in (("fl", 0.3, 0.25), ("fr", 0.3, -0.25), ("rl", -0.2, 0.25), ("rr", -0.2, -0.25)):
        on, place = "hull", vd.Pose((x, y, 0))
        if name in ("fl", "fr"):
            m.link(f"{name}_knuckle", mass=0.5)
            m.joint(
                f"{name}_steer",
                "hull",
                f"{name}_knuckle",
                "revolute",
                place,
                axis=(0, 0, axes.get(name, 1)),
                limits=("-25 deg", "25 deg"),
            )
            m.motor(f"{name}_steer", "position", stiffness=200, damping=4)
            on, place = f"{name}_knuckle", vd.Pose()
        m.link(f"{name}_wheel", WHEEL, mass=1).joint(name, on, f"{name}_wheel", "continuous", place, axis=(0, 1, 0))
        if name in ("rl", "rr"):
            m.motor(name, "velocity", damping=5, limit=8)
    return m


@case("one-steering-reversed", "car/fr_steer")
def one_steering_reversed(mended: bool) -> vd.World:
    return on_ground(steered(fr=1 if mended else -1))


@case("turns-with-the-wheel", "cart/imu")
def turns_with_the_wheel(mended: bool) -> vd.World:
    return on_ground(cart().mount("imu", vd.Imu(), on="hull" if mended else "rl_wheel"))


@case("weak-drive", "cart")
def weak_drive(mended: bool) -> vd.World:
    m = cart()
    for joint in ("fl", "fr", "rl", "rr"):
        m.change_motor(joint, limit=8 if mended else 0.05)
    return on_ground(m)


@case("meets-on-its-way", "car/fl_steer")
def meets_on_its_way(mended: bool) -> vd.World:
    m = steered(vd.Part(vd.Box((0.3, 0.4, 0.1)), vd.Pose((0.45, 0, 0))))
    for side in ("fl", "fr"):
        m.change_joint(f"{side}_steer", limits=("-3 deg", "3 deg") if mended else ("-25 deg", "25 deg"))
    return on_ground(m)


@case("legs-too-weak", "stool/knee0")
def legs_too_weak(mended: bool) -> vd.World:
    m = vd.Model("stool").link("seat", vd.Box((0.5, 0.5, 0.1)), mass=20)
    for k, (x, y) in enumerate(((0.2, 0.2), (0.2, -0.2), (-0.2, 0.2), (-0.2, -0.2))):
        m.link(f"shin{k}", vd.Part(vd.Capsule(0.02, 0.3), vd.Pose((0, 0, -0.25))), mass=0.5)
        m.joint(
            f"knee{k}",
            "seat",
            f"shin{k}",
            "revolute",
            vd.Pose((x, y, 0), rpy=(0, math.copysign(0.6, -x), 0)),
            axis=(0, 1, 0),
            limits=(-1.5, 1.5),
        )
        m.motor(f"knee{k}", "position", stiffness=2000, damping=40, limit=60 if mended else 1.9 if k == 0 else 2)
    return on_ground(m, 0.3506)


@case("under-the-beams", "cart/scan")
def under_the_beams(mended: bool) -> vd.World:
    w = on_ground(
        cart().mount("scan", vd.Lidar(beams=90, field_of_view="120 deg"), on="hull", pose=vd.Pose((0.31, 0, 0.1)))
    )
    w.obstacle("wall", vd.Box((0.1, 3, 1)), pose=vd.Pose((3, 0, 0.5)))
    return w.obstacle("kerb", vd.Box((0.1, 1, 0.4 if mended else 0.15)), pose=vd.Pose((2, 0, 0.075)))


def _flyer(thrust: float, hands: tuple[int, int, int, int]) -> vd.Model:
    m = vd.Model("flyer").link("hull", vd.Box((0.3, 0.3, 0.1)), mass=2)
    for k, hand in enumerate(hands):
        x, y = ((1, 1), (-1, 1), (-1, -1), (1, -1))[k]
        m.link(f"blades{k}", mass=0.01, inertia=1e-5 * np.eye(3))
        m.joint(f"spin{k}", "hull", f"blades{k}", kind="continuous", pose=vd.Pose((0.2 * x, 0.2 * y, 0.05)))
        m.motor(f"spin{k}", "velocity", damping=0.004, limit=1, speed=900)
        m.rotor(f"spin{k}", thrust=hand * thrust, torque=3e-7)
    return m


@case("posture-beyond-limits", "crane/lift")
def a_posture_too_far(mended: bool) -> Thing:
    return boom(mode="position", stiffness=900, damping=90, limit=60).posture("up", {"lift": -1.2 if mended else -2.4})


@case("cannot-lift", "flyer")
def weak_rotors(mended: bool) -> Thing:
    return vd.World().ground().place(_flyer(2e-5 if mended else 2e-6, (1, -1, 1, -1)), pose=vd.Pose((0, 0, 0.05)))


@case("torques-do-not-cancel", "flyer")
def one_handed(mended: bool) -> Thing:
    return (
        vd.World().ground().place(_flyer(2e-5, (1, -1, 1, -1) if mended else (1, 1, 1, -1)), pose=vd.Pose((0, 0, 0.05)))
    )


def _street(**actor: Any) -> vd.World:
    roads = vd.Roads("net").road("street", [(0, 0), (100, 0)])
    w = vd.World().ground(height=-0.2).roads(roads)
    words: dict[str, Any] = {"route": roads.lane("street").route(speed=10), "start": 5}
    return w.actor("van", vd.Part(vd.Box((5, 2, 2)), role=actor.pop("role", "both")), **(words | actor))


@case("roads-do-not-join", "net")
def a_gap_between_roads(mended: bool) -> Thing:
    roads = vd.Roads("net").road("west", [(-100, 0), (0, 0)]).road("east", [(0 if mended else 3, 0), (100, 0)])
    west, east = roads.roads["west"], roads.roads["east"]
    west.after, east.before = vd.Roads.joint("east", "start"), vd.Roads.joint("west", "end")
    return vd.World().ground(height=-0.2).roads(roads)


@case("greens-cross", "town/north")
def both_are_green(mended: bool) -> Thing:
    cycle = [("green", 7), ("amber", 2), ("red", 9)]
    roads = vd.Roads("town").road("south", [(0, -80), (0, 80)], lanes=(0, 1)).road("west", [(-80, 0), (80, 0)])
    roads.light("north", "south", at=74, cycle=cycle).light(
        "east", "west", at=72, cycle=cycle, begin=9 if mended else 0
    )
    return vd.World().ground(height=-0.2).roads(roads)


@case("line-met-by-nobody", "net/yield")
def on_the_other_side(mended: bool) -> Thing:
    world = _street()
    world.networks["net"].give_way("yield", "street", at=80, lane=-1 if mended else 1)
    return world


@case("route-through-things", "van")
def through_a_gate(mended: bool) -> Thing:
    return _street(passes=mended).obstacle("gate", vd.Box((0.2, 4, 2)), pose=vd.Pose((60, -1.6, 1)))


@case("route-leaves-the-road", "van")
def over_the_verge(mended: bool) -> Thing:
    middle = -1.6 if mended else 6.0
    return _street(start=0, route=vd.Route([(5, -1.6), (58, -1.6), (70, middle), (82, -1.6), (95, -1.6)], speed=3))


@case("against-traffic", "van")
def the_wrong_way(mended: bool) -> Thing:
    points = [(90, -1.6), (10, -1.6)]
    return _street(start=0, route=vd.Route(points[::-1] if mended else points, speed=9))


@case("gap-to-nobody", "van")
def a_gap_to_the_other_side(mended: bool) -> Thing:
    w = _street(keeps=vd.Gap("2 s", to="other"))
    lane = vd.Route([(30, -1.6 if mended else 1.6), (90, -1.6 if mended else 1.6)][:: 1 if mended else -1], speed=9)
    return w.actor("other", vd.Box((4, 1.4, 1.4)), route=lane)


@case("too-fast-for-its-curve", "van")
def too_fast(mended: bool) -> Thing:
    corner = vd.Route([(0, 0), (60, 0), (60, 60)], speed="50 km/h", radius=12, sideways=4.0 if mended else math.inf)
    return vd.World().ground().actor("van", vd.Box((5, 2, 2)), route=corner)


@case("nobody-sees-it", "van")
def unseen(mended: bool) -> Thing:
    return _street(role="both" if mended else "collision")
