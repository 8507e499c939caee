"""A controller of your own, tried without a simulation and then in one. Run it: python own_controller.py"""

from types import SimpleNamespace

import veldrain as vd


class Trolley:
    """Brings the trolley of a hoist to a place that it is told, and says how far it is off."""

    inputs = {"goal": "length"}  # noqa: RUF012

    def __init__(self, gain: float = 2.0, period: float = 0.01) -> None:
        self.gain, self.period = gain, period

    def start(self, body, random, log):
        self.log = log

    def update(self, now, senses, motors):
        reading = senses["encoders"]
        if reading is None:  # nothing has been measured yet
            return
        off = self.inputs.goal - reading.position[0]
        self.log("off", off)
        motors["travel"].velocity = self.gain * off


if __name__ == "__main__":
    reading = SimpleNamespace(position=[0.2])
    print(vd.try_controller(Trolley(), {"encoders": reading}, goal="50 cm"))
    m = vd.Model("hoist").link("rail").link("trolley", vd.Box((0.4, 0.3, 0.2)), mass=12)
    m.joint("travel", "rail", "trolley", kind="prismatic", axis=(1, 0, 0)).motor("travel", mode="velocity", damping=200)
    m.mount("encoders", vd.Encoders(), on="rail")
    scenario = vd.Scenario(vd.World().place(m, fixed=True), "2 s", controllers={"hoist": Trolley()})
    recording = vd.run(scenario)
    print(recording["hoist/off"].tail(1).to_string(index=False))
