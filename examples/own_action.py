"""An action and a condition of your own. Run it: python own_action.py"""

import math
from dataclasses import dataclass

import veldrain as vd
from veldrain.sheet import Number, Text


class Spin(vd.Action):
    """Turns a body about z by a torque for a time."""

    link: Text = Text(kw_only=False, doc="its name")
    strength: Number = Number("torque", default=1.0, doc="about z")

    def bind(self, trial):
        return vd.Push(self.link, torque=(0, 0, self.strength)).bind(trial)

    def __str__(self):
        return f"spin {self.link} with {self.strength:g} N·m"


@dataclass(frozen=True)
class Turned(vd.Condition):
    """Holds when a body has turned about z by an angle (rad)."""

    link: str
    angle: float

    def bind(self, watching):
        handle = watching.simulation[self.link]
        return lambda: abs(handle.pose().yaw) > self.angle


if __name__ == "__main__":
    world = vd.World().ground().body("crate", vd.Box((0.4, 0.4, 0.2)), mass=4, pose=vd.Pose((0, 0, 0.1)))
    scenario = vd.Scenario(world, "2 s").when(Turned("crate", math.radians(20))).finish("turned")
    scenario.at("0.5 s").do(Spin("crate", strength="30 N*m"))
    print(vd.run(scenario).outcome["reason"])
