"""A sensor of your own: a tilt sensor with noise. Run it: python own_sensor.py"""

import math
from dataclasses import dataclass
from typing import Any

import veldrain as vd
from veldrain.model import Fields, Message
from veldrain.sheet import Number


@dataclass(frozen=True)
class Lean:
    tilt: float  # rad


class Tilt(vd.Sensor):
    message = "std_msgs/msg/Float64"
    noise: Number = Number("angle", default=0.0, least=0.0, exact=0.0, doc="standard deviation of a sample")

    def start(self, mount, random):
        return AtWork(self, random)

    def messages(self, reading):
        return {"": Message(self.message, Fields(data=reading.tilt))}


@dataclass
class AtWork:
    sheet: Tilt
    random: Any

    def measure(self, mount):
        return Lean(math.acos(mount.axes()[2, 2]) + self.random.standard_normal() * self.sheet.noise)


if __name__ == "__main__":
    m = vd.Model("probe").link("shell", mass=1).mount("tilt", Tilt(period="100 Hz", noise="0.1 deg"), on="shell")
    sim = vd.Simulation(vd.World().place(m, pose=vd.Pose(rpy=("20 deg", 0, 0)), fixed=True))
    print(f"{math.degrees(sim['probe'].read('tilt').tilt):.1f} deg")
