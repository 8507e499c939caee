"""The crawler by a file of key presses: w and s go forward and back, a and d turn."""

from pathlib import Path

import veldrain as vd
from veldrain.demo import world as demo_world

Path("drive.keys").write_text(
    """# key, from, to (s)
w 0.5 4.0
a 1.5 3.0
d 4.5 6.0
w 6.0 8.0
""",
    encoding="utf-8",
)
model = demo_world("culvert").placed["crawler"].model
del model.sensors["clearance"]
world = vd.World().ground().place(model, "crawler", pose=vd.Pose((0, 0, "9 cm")))
drive = vd.SkidSteer(
    ["front_left", "rear_left"],
    ["front_right", "rear_right"],
    radius="9 cm",
    track="38 cm",
    widening=1.7,
    acceleration="1 m/s^2",
    watchdog="0.5 s",
)
keys = {"w": {"forward": 0.5}, "s": {"forward": -0.3}, "a": {"turning": "50 deg/s"}, "d": {"turning": "-50 deg/s"}}
hand = vd.Inputs("drive.keys", to="drive", keys=keys)
recording = vd.run(vd.Scenario(world, "9 s", controllers={"crawler": {"hand": hand, "drive": drive}}))
end = recording["crawler/truth"].iloc[-1]
print(f"driven by hand to ({end['x']:.2f}, {end['y']:.2f}) m")
vd.look(recording, "driven_by_keys.png", layers=["trails"])
