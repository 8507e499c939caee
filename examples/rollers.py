"""A platform on four wheels with rollers goes round a pump's base, always facing it, and comes back."""

import math

import numpy as np

import veldrain as vd

RADIUS, TRACK, BASE = 0.1, 0.44, 0.5
CORNERS = {"front_left": (1, 1), "front_right": (1, -1), "rear_left": (-1, 1), "rear_right": (-1, -1)}


def platform() -> vd.Model:
    deck = vd.Part(vd.Box((0.62, 0.3, 0.08)), vd.Pose((0, 0, 0.06)), colour="orange")
    bow = vd.Part(vd.Box((0.04, 0.3, 0.06)), vd.Pose((0.3, 0, 0.13)), colour="black")
    m = vd.Model("platform").link("deck", deck, bow, mass=20)
    for name, (x, y) in CORNERS.items():
        at = vd.Pose((x * BASE / 2, y * TRACK / 2, 0))
        m.roller_wheel(name, "deck", radius=RADIUS, mass=1.5, pose=at, angle=f"{-45 * x * y} deg")
        m.motor(name, "velocity", damping=5, limit=20)
    sides = ["front_left", "rear_left"], ["front_right", "rear_right"]
    way = vd.Odometer(*sides, wheel_radius=RADIUS, track=TRACK, wheelbase=BASE)
    return m.mount("odometry", way, on="deck").mount("truth", vd.TruePose(), on="deck")


FAR, TIME = 1.0, 12.0  # m from the middle; s for a whole turn
pump = vd.Part(vd.Cylinder(0.3, 0.5), colour="steelblue")
world = vd.World().ground().obstacle("pump", pump, pose=vd.Pose((FAR, 0, 0.25)))
world.place(platform(), pose=vd.Pose((0, 0, RADIUS)))
drive = vd.OmniDrive(list(CORNERS), radius=RADIUS, track=TRACK, wheelbase=BASE, acceleration="1 m/s^2")
scenario = vd.Scenario(world, TIME + 3, controllers={"platform": drive})
turning = -2 * math.pi / TIME
scenario.at("1 s").tell("platform", sideways=-FAR * turning, turning=turning)
scenario.at(1 + TIME).tell("platform", sideways=0, turning=0)
scenario.expect("the pump is not touched", never=vd.touching("platform", "pump"))
recording = vd.run(scenario)
truth = recording["platform/truth"]
far = np.hypot(truth["x"] - FAR, truth["y"])
end = truth.iloc[-1]
print(
    f"{recording.outcome['passed']}: {far.min():.2f} to {far.max():.2f} m from the middle, "
    f"and {100 * math.hypot(end['x'], end['y']):.0f} cm from where it began"
)
vd.look(recording, "rollers.png", layers=["trails"])
