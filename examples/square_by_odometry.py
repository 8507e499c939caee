"""The crawler drives a square by its wheels' odometry, and the truth shows how far that is off."""

import numpy as np

import veldrain as vd
from veldrain.demo import world as demo_world

LEFT, RIGHT = ("front_left", "rear_left"), ("front_right", "rear_right")
model = demo_world("culvert").placed["crawler"].model
del model.sensors["clearance"]
model.mount("odometry", vd.Odometer(LEFT, RIGHT, wheel_radius="9 cm", track="66 cm", slip=0.05), on="hull")
world = vd.World().ground(surface=vd.Surface(friction=0.7)).place(model, "crawler", pose=vd.Pose((0, 0, "9 cm")))
drive = vd.SkidSteer(LEFT, RIGHT, radius="9 cm", track="38 cm", widening=66 / 38, acceleration="0.8 m/s^2")
pilot = vd.FollowRoute([(0, 0), (3, 0), (3, 3), (0, 3), (0, 0.3)], speed="0.6 m/s", lookahead="60 cm")
recording = vd.run(vd.Scenario(world, "40 s", controllers={"crawler": {"drive": drive, "pilot": pilot}}), seed=1)
told, truth = recording["crawler/odometry"], recording["crawler/truth"]
both = {axis: np.interp(told["time"], truth["time"], truth[axis]) for axis in "xy"}
off = np.hypot(told["x"] - both["x"], told["y"] - both["y"])
print(f"odometry is {off.iloc[-1]:.2f} m off after the square, {off.max():.2f} m at most")
vd.look(recording, "square_by_odometry.png", layers=["trails"], side="top")
