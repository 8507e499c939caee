"""A service car drives a slalom between posts on the dike road, by pure pursuit."""

import numpy as np

import veldrain as vd


def car() -> vd.Model:
    m = vd.Model("car").link(
        "body", vd.Part(vd.Box((0.9, 0.4, 0.2)), pose=vd.Pose((0, 0, 0.1)), colour="orange"), mass=30
    )
    wheel = vd.Part(vd.Cylinder(0.12, 0.02), pose=vd.Pose(rpy=("90 deg", 0, 0)), colour="black")
    for side, y in (("left", 0.3), ("right", -0.3)):
        m.link(f"{side}_hub", mass=1, inertia=0.01 * np.eye(3)).link(f"front_{side}", wheel, mass=2)
        m.link(f"rear_{side}", wheel, mass=2)
        m.joint(f"steer_{side}", "body", f"{side}_hub", "revolute", vd.Pose((0.32, y, 0.02)), limits=(-0.6, 0.6))
        m.joint(f"roll_{side}", f"{side}_hub", f"front_{side}", "continuous", axis=(0, 1, 0))
        m.joint(f"drive_{side}", "body", f"rear_{side}", "continuous", vd.Pose((-0.32, y, 0.02)), (0, 1, 0))
        m.motor(f"steer_{side}", "position", stiffness=200, damping=10, limit=30, speed="120 deg/s")
        m.motor(f"drive_{side}", "velocity", damping=8, limit=25)
    m.mount("odometry", vd.Odometer(["drive_left"], ["drive_right"], wheel_radius=0.12, track=0.6), on="body")
    return m.mount("truth", vd.TruePose(), on="body")


world = vd.World().ground(surface=vd.Surface(friction=0.9)).place(car(), "car", pose=vd.Pose((0.32, 0, 0.1)))
for k in range(4):
    post = vd.Part(vd.Cylinder(0.05, 0.8), colour="firebrick")
    world.obstacle(f"post{k}", post, pose=vd.Pose((2.5 + 2.5 * k, 0, 0.4)))
x = np.linspace(0, 15, 151)
route = np.column_stack(
    [x, 0.75 * np.sin(np.pi * (x - 1.25) / 2.5) * np.clip(x / 2, 0, 1) * np.clip((15 - x) / 2, 0, 1)]
)
drive = vd.AckermannDrive(
    ["steer_left", "steer_right"],
    ["drive_left", "drive_right"],
    radius="12 cm",
    track="60 cm",
    wheelbase="64 cm",
    steering_limit="32 deg",
    acceleration="1 m/s^2",
)
pilot = vd.FollowRoute(route, speed="1.2 m/s", lookahead="70 cm", lateral_acceleration="2 m/s^2")
scenario = vd.Scenario(world, "20 s", controllers={"car": {"drive": drive, "pilot": pilot}})
for k in range(4):
    scenario.expect(f"post {k} is not touched", never=vd.touching("car", f"post{k}"))
recording = vd.run(scenario)
off = recording["car/off_route"]["data"]
passed = recording.outcome["passed"]
print(f"{passed}: at most {100 * off.max():.0f} cm off the route, {100 * off.mean():.0f} cm on average")
vd.look(recording, "slalom.png", layers=["trails"], side="top")
