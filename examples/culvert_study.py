"""The demo's study, built in Python: the same numbers as its YAML files give.

Run it with a folder for the results: python examples/culvert_study.py out/culvert
"""

from __future__ import annotations

import sys

import veldrain as vd
from veldrain.demo.crawler import crawler, ride_height

LENGTH, HALF_WIDTH = 12.0, 0.7  # m, inside


def culvert() -> vd.World:
    """A straight channel with a silt bank and two fallen stones, and the crawler at its inlet."""
    concrete = vd.Surface(friction=0.5)
    world = vd.World().ground(surface=vd.Surface(friction=0.7))
    for side, y in (("left", HALF_WIDTH + 0.05), ("right", -HALF_WIDTH - 0.05)):
        wall = vd.Box((LENGTH + 1, 0.1, 0.8))
        world.obstacle(f"culvert/{side}_wall", wall, pose=vd.Pose((LENGTH / 2, y, 0.4)), surface=concrete)
    world.obstacle("stone/block", vd.Box((0.3, 0.2, 0.16)), pose=vd.Pose((3.6, 0.6, 0.08), yaw="25 deg"))
    roller = vd.Pose((8.4, -0.6, 0.1), rpy=("90 deg", 0, "20 deg"))
    world.obstacle("stone/drum", vd.Cylinder(0.1, 0.3), pose=roller)
    world.patch("silt", (3.0, 1.4, 0.02), pose=vd.Pose((6.5, 0, 0)), surface=vd.Surface(friction=0.2))
    world.frame("inlet", vd.Pose((0.4, 0, 0)))
    world.frame("outlet", vd.Pose((11.5, 0, ride_height())))
    return world.place(crawler(), pose=vd.Pose((0.4, 0, ride_height())))


def scenario() -> vd.Scenario:
    """From the inlet to the outlet, with a push from the side while on the silt."""
    s = vd.Scenario(culvert(), duration="40 s", controllers={"crawler": vd.CentreLine(gain=2.0)})
    s.at("10 s").push("crawler/hull", force=(0, "90 N", 0), lasting="300 ms", name="shove")
    at_outlet = vd.distance("crawler/hull", "outlet") < "60 cm"
    s.when(at_outlet).finish("reached the outlet")
    s.expect("clear of the walls", never=vd.touching("crawler", "culvert"))
    s.expect("outlet in time", eventually=at_outlet, within="30 s")
    return s


def study(trials: int = 8) -> vd.Study:
    """Two controllers that differ in the gyro's part, over paired trials."""
    return vd.Study(
        scenario(),
        controllers={"proportional": vd.CentreLine(gain=2.0), "damped": vd.CentreLine(gain=2.0, damping=1.3)},
        vary={
            "crawler.y": vd.uniform("-25 cm", "25 cm"),
            "crawler.yaw": vd.normal("0 deg", "8 deg"),
            "silt.friction": vd.uniform(0.05, 0.4),
            "shove.force_y": vd.uniform("-120 N", "120 N"),
        },
        trials=trials,
        metrics=[
            vd.Metric("offset, RMS", "crawler/truth", "y", "rms", unit="m"),
            vd.Metric("offset, largest", "crawler/truth", "y", "max abs", unit="m"),
            vd.FinishTime("time to outlet", reason="reached the outlet"),
            vd.Metric("nearest wall", "crawler/clearance", "range", "min", unit="m", better="higher"),
            vd.Metric("motor torque, RMS", "crawler/encoders", "effort.*", "rms", unit="N·m"),
        ],
        seed=1,
    )


if __name__ == "__main__":
    result = study().run(sys.argv[1] if len(sys.argv) > 1 else "out/culvert", workers=2)
    print(result.compare(baseline="proportional").table.to_string(index=False))
