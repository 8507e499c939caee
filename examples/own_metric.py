"""A metric of your own in a study. Run it: python own_metric.py"""

import tempfile

import numpy as np

import veldrain as vd


class Settling:
    """The last time at which a column is farther from its end than a band, s."""

    name, unit, better = "settling time", "s", "lower"

    def of(self, recording):
        table = recording["box/truth"]
        away = np.abs(table["x"] - table["x"].iloc[-1]) > 0.01
        return float(table["time"][away].max()) if away.any() else 0.0


if __name__ == "__main__":
    m = vd.Model("box").link("shell", vd.Box((0.4, 0.4, 0.2)), mass=4).mount("truth", vd.TruePose(), on="shell")
    world = vd.World().ground().place(m, pose=vd.Pose((0, 0, 0.1)))
    scenario = vd.Scenario(world, "2 s").at("0.1 s").push("box/shell", force=("60 N", 0, 0), name="shove")
    study = vd.Study(
        scenario, {"none": {}}, vary={"ground.friction": vd.uniform(0.3, 0.9)}, trials=3, metrics=[Settling()]
    )
    with tempfile.TemporaryDirectory() as folder:
        print(study.run(f"{folder}/out").trials[["ground.friction", "settling time"]].round(2).to_string(index=False))
