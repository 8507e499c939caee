"""A small scenario for tests: a cart on a rail, driven by an effort, with sensors."""

from __future__ import annotations

import contextlib
import io
import os
import subprocess
import sys
import warnings
from pathlib import Path
from typing import Any
from unittest import mock

import veldrain as vd
import veldrain.demo
from veldrain.cli import main

DEMO = Path(veldrain.demo.__path__[0])
ROOT = Path(__file__).parent.parent
EXAMPLES = ROOT / "examples"


class Hold:
    """Pulls the cart to a place, by its encoders."""

    period = 0.01

    def __init__(self, place: float = 0.5, gain: float = 20.0, damping: float = 8.0) -> None:
        self.place, self.gain, self.damping = place, gain, damping

    def update(self, now: float, senses: Any, motors: Any) -> None:
        reading = senses["encoders"]
        motors["slide"].effort = self.gain * (self.place - reading.position[0]) - self.damping * reading.velocity[0]


class Faulty(Hold):
    """The same until 0.2 s, then raises."""

    def update(self, now: float, senses: Any, motors: Any) -> None:
        if now >= 0.2 - 1e-9:
            raise RuntimeError("lost the plot")
        super().update(now, senses, motors)


class Cheat(Hold):
    """Reads the truth."""

    def update(self, now: float, senses: Any, motors: Any) -> None:
        motors["slide"].effort = float(senses["truth"].position[0])


def cart() -> vd.Model:
    m = vd.Model("cart").link("rail").link("car", vd.Box((0.2, 0.1, 0.1)), mass=2)
    m.joint("slide", "rail", "car", kind="prismatic", axis=(1, 0, 0), friction=0.5).motor("slide", limit="50 N")
    m.mount("encoders", vd.Encoders(), on="car").mount("truth", vd.TruePose(), on="car")
    m.mount("scan", vd.Lidar(beams=8, noise="1 cm"), on="car")
    return m.mount("imu", vd.Imu(gyro_noise=0.01), on="car")


def cart_scenario(controller: Any = None, duration: float = 1.5, **options: Any) -> vd.Scenario:
    """The cart is to come to 0.5 m; a post stands at 1 m."""
    w = vd.World().ground(height=-1).obstacle("post", vd.Box((0.1, 0.4, 0.4)), pose=vd.Pose((1, 0, 0)))
    w.frame("goal", vd.Pose((0.5, 0, 0))).place(cart(), fixed=True)
    scenario = vd.Scenario(w, duration, controllers={"cart": controller or Hold()}, **options)
    return scenario.expect("off the post", never=vd.touching("cart", "post"))


def told_by(code: str, folder: Path) -> str:
    """What a program prints, run in this process in a folder as if it stood alone."""
    out = io.StringIO()
    with contextlib.chdir(folder), contextlib.redirect_stdout(out), warnings.catch_warnings():
        exec(compile(code, "<example>", "exec"), {"__name__": "__main__"})
    return out.getvalue()


def called(*words: str | Path, cwd: Path | None = None) -> subprocess.CompletedProcess[str]:
    """The same as ``command`` in this process: quicker, where no process is tested."""
    out, err, code = io.StringIO(), io.StringIO(), 0
    with (
        mock.patch.object(sys, "argv", ["veldrain", *map(str, words)]),
        contextlib.chdir(cwd or Path.cwd()),
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
    ):
        try:
            main()
        except SystemExit as ended:
            code = int(ended.code or 0)
    return subprocess.CompletedProcess(list(map(str, words)), code, out.getvalue(), err.getvalue())


def command(*words: str | Path, cwd: Path | None = None, **env: str) -> subprocess.CompletedProcess[str]:
    """Run ``veldrain`` as its user does."""
    return subprocess.run(
        [sys.executable, "-m", "veldrain", *map(str, words)],
        capture_output=True,
        text=True,
        cwd=cwd,
        timeout=300,
        env={**os.environ, "NO_COLOR": "1", **env},
        check=False,
    )
