"""A thousand carts learn to keep their poles up: each tries other gains, and the best tenth says where to look next."""

import numpy as np
from matplotlib.figure import Figure

import veldrain as vd

COPIES, ROUNDS, SECONDS = 1000, 8, 4.0


def cart_and_pole() -> vd.Model:
    m = vd.Model("cart").link("rail").link("cart", vd.Box((0.3, 0.2, 0.12)), mass=1.0)
    m.link("pole", vd.Part(vd.Capsule(0.02, 0.9), pose=vd.Pose((0, 0, 0.5)), colour="orange"), mass=0.2)
    m.joint("slide", "rail", "cart", "prismatic", axis=(1, 0, 0), limits=(-2, 2), damping=0.1)
    m.joint("swing", "cart", "pole", "continuous", vd.Pose((0, 0, 0.08)), axis=(0, 1, 0))
    return m.motor("slide", "effort", limit="30 N").no_contact("cart", "pole")


world = vd.World().place(cart_and_pole(), "cart", pose=vd.Pose((0, 0, 1)), fixed=True)
carts = vd.Copies(world, COPIES, period="20 ms", step="5 ms")
low, high = carts.bounds


def upright(gains: np.ndarray, random: np.random.Generator) -> np.ndarray:
    """Seconds (n,) that each cart keeps its pole up and stays on its rail; gains (n, 4) of position, angle, rates."""
    carts.reset(positions=random.uniform(-0.3, 0.3, (COPIES, 2)))
    lasted, is_up = np.zeros(COPIES), np.ones(COPIES, bool)
    while carts.times[0] < SECONDS - 1e-9:
        state = np.hstack([carts.positions, carts.velocities])
        efforts = (gains * state).sum(axis=1, keepdims=True)
        carts.step(np.clip(efforts, low, high))
        x, angle = carts.positions.T
        is_up &= (np.abs(angle) < 0.5) & (np.abs(x) < 1.9)
        lasted[is_up] = carts.times[is_up]
    return lasted


random = np.random.default_rng(1)
middle, spread = np.zeros(4), np.array([20.0, 60.0, 20.0, 20.0])
curve = []
for turn in range(ROUNDS):
    gains = middle + spread * random.standard_normal((COPIES, 4))
    lasted = upright(gains, random)
    best = gains[np.argsort(-lasted, kind="stable")[: COPIES // 10]]
    middle, spread = best.mean(axis=0), best.std(axis=0)
    curve.append((np.quantile(lasted, 0.1), lasted.mean(), np.quantile(lasted, 0.9)))
    print(f"round {turn + 1}: {lasted.mean():.2f} s upright of {SECONDS:g} s  {'#' * round(10 * lasted.mean())}")
kept = (upright(np.tile(middle, (COPIES, 1)), random) >= SECONDS - 1e-9).sum()
print(f"with the gains it learned, {kept} of {COPIES} poles stay up")
figure = Figure(figsize=(8, 5), layout="constrained")
axes = figure.subplots()
axes.plot(range(1, ROUNDS + 1), curve, "o-", label=["worst tenth", "mean", "best tenth"])
axes.set(
    xlabel="round",
    ylabel="upright, s",
    title=f"{COPIES:,} carts learn to keep their poles up",
    ylim=(0, SECONDS * 1.05),
)
axes.legend(loc="lower right")
figure.savefig("learn_to_balance.png", dpi=160)
