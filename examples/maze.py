"""A cart finds its way through the cellars along the right-hand wall, and the planner knows a shorter one."""

import numpy as np

import veldrain as vd

CELLARS = vd.Maze(
    ["###########", "#.........#", "#.###.###.#", "#.#...#...#", "#.#.###.###", "#.#.......#", "###########"],
    cell="1 m",
)
START, END = CELLARS.at(1, 5), CELLARS.at(9, 5)


def cart() -> vd.Model:
    m = vd.Model("cart").link("deck", vd.Box((0.34, 0.24, 0.08)), mass=6)
    for side, y in (("left", 0.15), ("right", -0.15)):
        wheel = vd.Part(vd.Cylinder(0.08, 0.01), pose=vd.Pose(rpy=("90 deg", 0, 0)), colour="black")
        m.link(f"{side}_wheel", wheel, mass=0.5)
        m.joint(side, "deck", f"{side}_wheel", "continuous", vd.Pose((0, y, -0.02)), (0, 1, 0))
        m.motor(side, "velocity", damping=2, limit="4 N*m")
    for x in (-0.13, 0.13):
        name = "nose" if x > 0 else "tail"
        m.link(name, vd.Sphere(0.029), mass=0.1, surface=vd.Surface(friction=0))
        m.joint(f"{name}_foot", "deck", name, "fixed", vd.Pose((x, 0, -0.07)))
    m.mount("scan", vd.Lidar(max_range=8, noise="1 cm", period="20 Hz"), on="deck", pose=vd.Pose((0, 0, 0.1)))
    return m.mount("truth", vd.TruePose(), on="deck")


world = vd.World().ground().build("cellars", CELLARS, colour="#b9b2a4")
world.place(cart(), "cart", pose=vd.Pose((*START, 0.1), yaw="90 deg"))
world.frame("way_out", vd.Pose((*END, 0.2)))
drive = vd.DifferentialDrive(["left"], ["right"], radius="8 cm", track="30 cm", acceleration=1)
pilot = vd.WallFollower("right", distance="45 cm", speed="0.45 m/s")
scenario = vd.Scenario(world, "120 s", controllers={"cart": {"drive": drive, "pilot": pilot}}, step="2 ms")
scenario.when(vd.distance("cart", "way_out") < 0.6).finish("found the way out")
recording = vd.run(scenario)
driven = recording["cart/truth"][["x", "y"]].to_numpy()
route = vd.plan_route(world, START, END, radius="25 cm", robot="cart", room="9 m")
lengths = [np.linalg.norm(np.diff(way, axis=0), axis=1).sum() for way in (driven, route)]
print(f"{recording.outcome['reason']} after {lengths[0]:.1f} m; the shortest way is {lengths[1]:.1f} m")
vd.look(recording, "maze.png", layers=["trails"], side="top")
