"""The sampling arm plans a way over a wall, and draws a straight line with its tool behind it."""

import numpy as np

import veldrain as vd
from veldrain.demo import robot

arm = robot("sampling_arm").mount("angles", vd.Encoders(), on="base").mount("tool_pose", vd.TruePose(), on="flange")
chain = vd.Chain(arm, "tool")
world = vd.World().ground().place(arm, "arm", fixed=True)
world.obstacle("wall", vd.Part(vd.Box((0.6, 0.05, 0.5)), colour="firebrick"), pose=vd.Pose((0.5, 0, 0.25)))

before, behind = np.array([0.9, 0.9, 0.9, 0, 0.8, 0]), np.array([-0.9, 0.9, 0.9, 0, 0.8, 0])
points = vd.plan(world, "arm", start=before, goal=behind, margin="2 cm", seed=1)
over = vd.Trajectory.through(points, speed=1.2, acceleration=4, jerk=40, joints=chain)
down = chain.forward(behind).position - (0.0, 0.0, 0.12)
line = vd.Trajectory.straight(chain, [down], start=behind, speed="0.1 m/s")


class Work(vd.Script):
    def script(self):
        yield self.follow(over.then(line))


world.placed["arm"].joints.update(zip(chain.joints, before, strict=True))
recording = vd.run(vd.Scenario(world, round(over.duration + line.duration + 0.5, 2), controllers={"arm": Work()}))
tool = recording["arm/tool_pose"]
angles = recording["arm/angles"][[f"position.{joint}" for joint in chain.joints]].to_numpy()
late = recording["arm/angles"]["time"].to_numpy() > over.duration
at, _ = chain.forward(angles[late])
aside = np.linalg.norm((at - at[0])[:, :2], axis=1).max()
print(
    f"over the wall in {over.duration:.1f} s by {len(points)} points; the line is straight within {1e3 * aside:.2f} mm"
)
vd.look(recording, "arm_on_a_line.png", layers=["trails"])
