"""The six-legged bank walker goes along the dike's slope, in a tripod gait that feels the ground."""

import math

import veldrain as vd
from veldrain.demo.walkers import bank_walker

SLOPE = math.radians(12)
model = bank_walker()
feet = [name for name in model.frames if name.endswith("_foot")]
poses = model.poses(model.postures["stand"])
low = min((poses[frame.link] @ frame.pose).position[2] for frame in model.frames.values())
world = vd.World()
bank = vd.Part(vd.Box((12, 6, 1)), colour="#8aa86f")
world.obstacle("bank", bank, pose=vd.Pose((3, 0, -0.5), rpy=(SLOPE, 0, 0)), surface=vd.Surface(friction=0.9))
up = vd.Pose(rpy=(SLOPE, 0, 0)) @ vd.Pose((0, 0, 0.025 - low + 0.5 * (1 / math.cos(SLOPE) - 1)))
world.place(model, "walker", pose=up, posture="stand")
walk = vd.Walk(
    feet,
    gait="tripod",
    stance="stand",
    stride_time="0.8 s",
    swing_height="7 cm",
    imu="imu",
    contact={foot: foot.replace("_foot", "_force") for foot in feet},
)
scenario = vd.Scenario(world, "12 s", controllers={"walker": walk})
scenario.at("1 s").tell("walker", forward="0.25 m/s")
recording = vd.run(scenario, seed=1)
end = recording["walker/truth"].iloc[-1]
lean = math.degrees(end["roll"])
print(f"{end['x']:.2f} m along the slope, {abs(end['y']):.2f} m down it, leans {lean:.1f} degrees")
vd.look(recording, "bank_walker.png", layers=["trails"])
