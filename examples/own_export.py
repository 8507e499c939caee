"""A kind of export of your own: the path of a robot as well-known text. Run it: python own_export.py"""

from pathlib import Path

import veldrain as vd
from veldrain.recording.exporting import Export


class Path2d(Export):
    """One line of text a stream of poses: LINESTRING (x y, x y, …), in m (ISO 19125-1)."""

    word = "wkt"

    def fits(self, message):
        return message == "nav_msgs/msg/Odometry"

    def write(self, log, stream, path, choices):
        points = ", ".join(f"{x:.3f} {y:.3f}" for x, y in log[stream][["x", "y"]].to_numpy())
        path.with_name(f"{path.name}.wkt").write_text(f"LINESTRING ({points})\n")


if __name__ == "__main__":
    m = vd.Model("probe").link("body", vd.Sphere(0.1), mass=2).mount("truth", vd.TruePose(period="0.2 s"), on="body")
    world = vd.World().ground().place(m, pose=vd.Pose((0, 0, 0.1)))
    scenario = vd.Scenario(world, "1 s")
    scenario.at(0).push("probe/body", force=(20, 0, 0), lasting="0.1 s")
    for file in vd.run(scenario).write("out/paths", ["wkt"]):  # on the command line: --kind own_export.py:Path2d
        print(Path(file).name, file.read_text())
