"""The survey multirotor flies around a pole in wind, and its lidar keeps the pole in view."""

import math

import numpy as np

import veldrain as vd
from veldrain.demo import world

pole = world("survey_flight")  # the multirotor before a pole, in 5 m/s of wind
ring = [(4 + 2 * math.cos(a), 2 * math.sin(a), 2.0) for a in np.linspace(math.pi, 3 * math.pi, 9)]
fly = vd.Fly([(0, 0, 2), *ring, (0, 0, 2)], speed="1.5 m/s", pose="truth", begin="0.5 s")
scenario = vd.Scenario(pole, "45 s", controllers={"multirotor": fly}, truth=["multirotor"])
scenario.expect("the pole is not touched", never=vd.touching("multirotor", "pole"))
recording = vd.run(scenario, seed=2)
nearest = min(float(np.min(np.asarray(row))) for row in recording["multirotor/scan"]["ranges"])
off = recording["multirotor/off_course"]["data"].max()
passed = recording.outcome["passed"]
print(f"{passed}: at most {100 * off:.0f} cm off course in 5 m/s of wind; the pole {nearest:.2f} m away")
vd.look(recording, "around_the_pole.png", layers=["trails"])
