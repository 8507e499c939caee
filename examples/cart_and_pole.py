"""Several carts with a pole each: random starts, random efforts, and a reset of those whose pole has fallen."""

import numpy as np

import veldrain as vd


def cart_and_pole() -> vd.Model:
    m = vd.Model("cart").link("rail").link("cart", vd.Box((0.3, 0.2, 0.12)), mass=1.0)
    m.link("pole", vd.Part(vd.Capsule(0.02, 0.9), pose=vd.Pose((0, 0, 0.5)), colour="orange"), mass=0.2)
    m.joint("slide", "rail", "cart", "prismatic", axis=(1, 0, 0), limits=(-2, 2), damping=0.1)
    m.joint("swing", "cart", "pole", "continuous", vd.Pose((0, 0, 0.08)), axis=(0, 1, 0))
    return m.motor("slide", "effort", limit="30 N").no_contact("cart", "pole")


COPIES = 8
world = vd.World()
for k in range(COPIES):
    world.place(cart_and_pole(), f"cart{k}", pose=vd.Pose((0, 1.2 * k, 1)), fixed=True)
sim, random = vd.Simulation(world, step="5 ms"), np.random.default_rng(4)
carts = [sim[f"cart{k}"] for k in range(COPIES)]
falls = 0


def reset(cart) -> None:
    cart.positions = random.uniform(-0.1, 0.1, 2)
    cart.velocities = (0.0, 0.0)


for cart in carts:
    reset(cart)
for _ in range(400):
    for cart in carts:
        x, angle = cart.positions
        v, turning = cart.velocities
        # State feedback, and a push that nobody asked for.
        effort = 2.0 * x + 4.0 * v + 40.0 * angle + 9.0 * turning + random.normal(0.0, 4.0)
        cart.command("slide", effort=effort)
        if abs(angle) > 0.6 or abs(x) > 1.9:
            falls += 1
            reset(cart)
    sim.advance("20 ms")
upright = max(abs(cart.positions[1]) for cart in carts)
print(f"{COPIES} carts over {sim.time:.0f} s: {falls} falls, at most {np.degrees(upright):.1f} degrees off at the end")
vd.look(sim, "cart_and_pole.png")
