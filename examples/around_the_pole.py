"""The survey multirotor flies around a pole in wind, and its lidar keeps the pole in view."""

import math

import numpy as np

import veldrain as vd
from veldrain.starting import template

world = template("flyer")
flyer = world.placed["flyer"].model
flyer.mount(
    "scan", vd.Lidar(field_of_view="360 deg", max_range="10 m", noise="2 cm"), on="hull", pose=vd.Pose((0, 0, 0.12))
)
flyer.mount("eye", vd.Camera(size=(320, 240), period="500 ms"), on="hull", pose=vd.Pose((0.14, 0, 0)))
pole = vd.Part(vd.Cylinder(0.15, 5), colour="firebrick")
world.obstacle("pole", pole, pose=vd.Pose((4, 0, 2.5)))
world.weather(vd.Air(wind=(4, 3, 0), gusts="0.5 m/s"))
ring = [(4 + 2 * math.cos(a), 2 * math.sin(a), 2.0) for a in np.linspace(math.pi, 3 * math.pi, 9)]
fly = vd.Fly([(0, 0, 2), *ring, (0, 0, 2)], speed="1.5 m/s", pose="truth", begin="0.5 s")
scenario = vd.Scenario(world, "45 s", controllers={"flyer": fly}, truth=["flyer"])
scenario.expect("the pole is not touched", never=vd.touching("flyer", "pole"))
recording = vd.run(scenario, seed=2)
nearest = min(float(np.min(np.asarray(row))) for row in recording["flyer/scan"]["ranges"])
off = recording["flyer/off_course"]["data"].max()
passed = recording.outcome["passed"]
print(f"{passed}: at most {100 * off:.0f} cm off course in 5 m/s of wind; the pole {nearest:.2f} m away")
vd.look(recording, "around_the_pole.png", layers=["trails"])
