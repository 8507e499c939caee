"""The survey multirotor: that of ``veldrain new --kind flyer``, with a lidar, a camera and a hook for a sample."""

from __future__ import annotations

from veldrain.model import Model
from veldrain.pose import Pose
from veldrain.sensing import Camera, Lidar
from veldrain.starting import template


def survey_multirotor() -> Model:
    """A multirotor of 1.7 kg with a lidar ``scan`` on top, a camera ``eye`` ahead, and a frame ``hook`` below.

    It has the sensors of its template as well: ``imu``, ``height``, and its ``truth``.
    """
    m = template("flyer").placed["flyer"].model.copy("multirotor")
    m.frame("hook", "hull", Pose((-0.05, 0.08, -0.05)))
    scan = Lidar(field_of_view="360 deg", max_range="10 m", noise="2 cm")
    m.mount("scan", scan, on="hull", pose=Pose((0.0, 0.0, 0.12)))
    down = Pose((0.16, 0.0, -0.05), rpy=(0.0, "25 deg", 0.0))  # below its blades
    return m.mount("eye", Camera(size=(320, 240), period="500 ms"), on="hull", pose=down)
