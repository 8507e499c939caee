"""A short bench for every change: a few things that must not become slow, beside an anchor of the same minute.

The anchor is a fixed piece of Python and NumPy. A figure is how many times it would run in the time of the thing;
``--usual`` writes the figures of now to ``short.json``. Without it, a figure that has fallen to less than half of what
is written there ends the run with status 1.
"""

from __future__ import annotations

import argparse
import json
import statistics
import sys
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

import veldrain as vd
import veldrain.demo
from veldrain.physics.preparing import prepare

DEMO = Path(veldrain.demo.__path__[0])
USUAL = Path(__file__).parent / "short.json"
REPEATS = 5


def anchor() -> None:
    """Some 50 ms of plain Python and of NumPy."""
    sum(k % 7 for k in range(400_000))
    np.sort(np.random.default_rng(0).random(300_000))


def _pile() -> vd.World:
    world = vd.World().ground()
    for k in range(5):
        world.body(f"box{k}", vd.Box((0.2, 0.2, 0.2)), mass="2 kg", pose=vd.Pose((0, 0, 0.1 + 0.2 * k)))
    return world


def things() -> dict[str, Callable[[], object]]:
    """By name, what is timed."""
    scenario = vd.load_scenario(DEMO / "culvert.scenario.yaml")
    scenario.duration = 3.0
    rays = np.random.default_rng(0).standard_normal((20_000, 3))
    rays /= np.linalg.norm(rays, axis=1)[:, None]
    seeing, piled = vd.Simulation(scenario.world), vd.Simulation(_pile())
    return {
        "trial of the demo, recorded": lambda: vd.run(scenario, seed=1),
        "check of the demo's world": lambda: vd.check(scenario.world),
        "five stacked boxes": lambda: piled.advance("1 s"),
        "20 000 rays": lambda: seeing.cast(np.tile((2.0, 0.0, 0.4), (len(rays), 1)), rays, "10 m"),
    }


def seconds(act: Callable[[], object]) -> float:
    """How long one call takes."""
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def main() -> int:
    """Time all, print them, and compare."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--usual", action="store_true")
    is_usual = parser.parse_args().usual
    prepare()
    found, slow = {}, []
    usual = {} if is_usual else json.loads(USUAL.read_text())
    for name, act in things().items():
        act()  # the first warms up
        figure = statistics.median(seconds(anchor) / seconds(act) for _ in range(REPEATS))
        found[name] = round(figure, 4)
        print(f"{name:<32}{figure:>10.3g}   usual {usual.get(name, figure):.3g}", flush=True)
        if figure < usual.get(name, 0.0) / 2:
            slow.append(name)
    if is_usual:
        USUAL.write_text(json.dumps(found, indent=1) + "\n")
    for name in slow:
        print(
            f"{name}: less than half as fast as usual; profile it, or write what is usual with --usual", file=sys.stderr
        )
    return bool(slow)


if __name__ == "__main__":
    sys.exit(main())
