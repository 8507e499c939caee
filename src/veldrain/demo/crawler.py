"""The culvert crawler of the Lisdodde drainage district, built with the model interface."""

from __future__ import annotations

from veldrain.model import Box, Cylinder, Model, Part, Surface
from veldrain.pose import Pose
from veldrain.sensing import Encoders, Imu, Lidar, TrueClearance, TruePose
from veldrain.units import quantity

WHEEL_RADIUS, WHEEL_WIDTH = "9 cm", "5 cm"
HALF_TRACK, HALF_BASE = 0.19, 0.16  # m, wheels from the middle
RUBBER = Surface(friction=1.0)


def crawler() -> Model:
    """A hull on four driven wheels that steers by skidding, 17.4 kg in all.

    Its sensors: ``scan`` (planar lidar on a mast), ``imu``, ``encoders``, and, for metrics only, ``truth``
    (its true pose) and ``clearance`` (its true distance from the culvert's walls).
    """
    m = Model("crawler")
    m.link("hull", Part(Box(("50 cm", "28 cm", "12 cm")), colour="#d9822b"), mass="15 kg", com=(0, 0, "-2 cm"))
    m.link("mast", Part(Cylinder("2 cm", "12 cm"), colour="#444444"), mass="300 g")
    m.joint("mast_foot", "hull", "mast", kind="fixed", pose=Pose(("10 cm", 0, "12 cm")))
    for end, x in (("front", HALF_BASE), ("rear", -HALF_BASE)):
        for side, y in (("left", HALF_TRACK), ("right", -HALF_TRACK)):
            name = f"{end}_{side}"
            axle = Part(Cylinder(WHEEL_RADIUS, WHEEL_WIDTH), pose=Pose(rpy=("90 deg", 0, 0)), colour="#222222")
            m.link(f"{name}_wheel", axle, mass="525 g", surface=RUBBER)
            m.joint(
                name,
                "hull",
                f"{name}_wheel",
                kind="continuous",
                pose=Pose((x, y, "-4 cm")),
                axis=(0, 1, 0),
                damping=0.02,
            )
            m.motor(name, mode="velocity", damping=30.0, limit="5 N*m")
    m.mount(
        "scan",
        Lidar(
            period="100 ms",
            beams=180,
            field_of_view="270 deg",
            min_range="8 cm",
            max_range="8 m",
            noise="8 mm",
            latency="20 ms",
        ),
        on="mast",
        pose=Pose((0, 0, "8 cm")),
    )
    m.mount(
        "imu",
        Imu(
            period="10 ms",
            gyro_noise="0.3 deg/s",
            gyro_bias="0.5 deg/s",
            accel_noise="0.03 m/s^2",
            accel_bias="0.05 m/s^2",
        ),
        on="hull",
    )
    m.mount("encoders", Encoders(period="10 ms", counts_per_revolution=4096), on="hull")
    m.mount("truth", TruePose(period="20 ms"), on="hull")
    m.mount("clearance", TrueClearance("culvert", period="50 ms"), on="hull")
    return m


def ride_height() -> float:
    """Height (m) of the hull's frame when the wheels just stand on level ground."""
    return quantity(WHEEL_RADIUS, "length") + 0.04
