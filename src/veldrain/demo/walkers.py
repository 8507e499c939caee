"""Walking machines of the demo setting: the six-legged bank walker, and a four-legged one of 20 kg."""

from __future__ import annotations

import math

from veldrain.model import Box, Capsule, Model, Part, Sphere, Surface
from veldrain.pose import Pose
from veldrain.sensing import Encoders, FootForce, Imu, TruePose

GRIP = Surface(friction=0.9)


def four_legged() -> Model:
    """Four legs that roll, lift and bend, 20 kg in all; it stands at 35 cm.

    Its feet are ``front_left_foot`` and so on, with a ``FootForce`` each (``front_left_force``); its posture ``stand``.
    """
    m = Model("four_legged")
    m.link("trunk", Part(Box((0.56, 0.22, 0.14)), colour="orange"), mass=12.0)
    stand: dict[str, float | str] = {}
    for end, x in (("front", 0.21), ("rear", -0.21)):
        for side, s in (("left", 1.0), ("right", -1.0)):
            name = f"{end}_{side}"
            _leg(m, name, "trunk", Pose((x, 0.1 * s, 0.0)), (1, 0, 0), Pose((0.0, 0.07 * s, 0.0)), 0.22, 0.22, 1.0)
            stand |= {f"{name}_hip": 0.7, f"{name}_knee": -1.4}
    m.posture("stand", stand)
    m.mount("imu", Imu(period="20 ms", gyro_noise="0.2 deg/s", accel_noise="0.05 m/s^2", bandwidth="20 Hz"), on="trunk")
    m.mount("angles", Encoders(counts_per_revolution=8192, period="20 ms"), on="trunk")
    return m.mount("truth", TruePose(), on="trunk")


def bank_walker() -> Model:
    """The six-legged bank walker, 16 kg: legs that swing, lift and bend, for slopes; it stands at 30 cm.

    Its feet are ``front_left_foot``, ``middle_left_foot`` and so on, with a ``FootForce`` each; its posture ``stand``.
    """
    m = Model("bank_walker")
    m.link("trunk", Part(Box((0.56, 0.22, 0.1)), colour="steelblue"), mass=8.2)
    stand: dict[str, float | str] = {}
    for end, x, yaw in (("front", 0.26, 40.0), ("middle", 0.0, 90.0), ("rear", -0.26, 140.0)):
        for side, s in (("left", 1.0), ("right", -1.0)):
            name = f"{end}_{side}"
            at = Pose((x, 0.12 * s, 0.0), yaw=math.radians(yaw) * s)
            _leg(
                m, name, "trunk", at, (0, 0, 1), Pose((0.06, 0.0, 0.0), rpy=(0.0, -math.pi / 2, 0.0)), 0.15, 0.22, 0.65
            )
            stand |= {f"{name}_hip": 0.35, f"{name}_knee": 1.3}
    m.posture("stand", stand)
    m.mount("imu", Imu(period="20 ms", gyro_noise="0.2 deg/s", accel_noise="0.05 m/s^2", bandwidth="20 Hz"), on="trunk")
    m.mount("angles", Encoders(counts_per_revolution=8192, period="20 ms"), on="trunk")
    return m.mount("truth", TruePose(), on="trunk")


def _leg(
    m: Model,
    name: str,
    body: str,
    at: Pose,
    axis: tuple[int, int, int],
    hip: Pose,
    thigh: float,
    shank: float,
    scale: float,
) -> None:
    """A leg that hangs down from its hip: a joint about ``axis``, a hip and a knee about y."""
    m.link(f"{name}_shoulder", Part(Sphere(0.04), colour="grey"), mass=0.7 * scale)
    m.link(
        f"{name}_thigh",
        Part(Capsule(0.025, thigh - 0.06), pose=Pose((0, 0, -thigh / 2)), colour="grey"),
        mass=0.8 * scale,
    )
    m.link(
        f"{name}_shank",
        Part(Capsule(0.018, shank - 0.06), pose=Pose((0, 0, -shank / 2)), colour="grey"),
        Part(Sphere(0.025), pose=Pose((0, 0, -shank)), colour="black"),
        mass=0.5 * scale,
        surface=GRIP,
    )
    m.joint(f"{name}_swing", body, f"{name}_shoulder", "revolute", at, axis, limits=(-0.9, 0.9))
    m.joint(f"{name}_hip", f"{name}_shoulder", f"{name}_thigh", "revolute", hip, (0, 1, 0), limits=(-1.8, 1.8))
    m.joint(
        f"{name}_knee",
        f"{name}_thigh",
        f"{name}_shank",
        "revolute",
        Pose((0, 0, -thigh)),
        (0, 1, 0),
        limits=(-2.4, 2.4),
    )
    for joint in ("swing", "hip", "knee"):
        m.motor(
            f"{name}_{joint}", "position", stiffness=500 * scale, damping=12 * scale, limit=60 * scale, inertia=0.01
        )
    m.no_contact(body, f"{name}_thigh")
    m.frame(f"{name}_foot", on=f"{name}_shank", pose=Pose((0, 0, -shank)))
    m.mount(f"{name}_force", FootForce(period="20 ms"), on=f"{name}_shank", pose=Pose((0, 0, -shank)))
