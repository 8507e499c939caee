"""Plots of what is computed: trajectories against their limits, answers of motors."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.control import StepResponse
from veldrain.errors import VeldrainError
from veldrain.motion import Chain, Trajectory

if TYPE_CHECKING:
    from matplotlib.figure import Figure

SAMPLES = 600


def plot(thing: Trajectory | StepResponse, out: str | Path | None = None, *, chain: Chain | None = None) -> Figure:
    """A plot of a trajectory (position, velocity and acceleration of each joint), or of a motor's answer to a step.

    Args:
        thing: a ``Trajectory``, or what ``step_response`` gave.
        out: PNG, PDF or SVG file to write.
        chain: of a trajectory: the chain whose limits of position and speed are drawn, dashed.

    Returns:
        The figure.

    >>> plot(path, "path.png", chain=chain)  # doctest: +SKIP
    """
    from matplotlib.figure import Figure

    if isinstance(thing, Trajectory):
        figure = Figure(figsize=(8, 8), layout="constrained")
        _trajectory(figure, thing, chain)
    elif isinstance(thing, StepResponse):
        figure = Figure(figsize=(8, 5), layout="constrained")
        _answer(figure, thing)
    else:
        raise VeldrainError(
            f"{type(thing).__name__} cannot be plotted", where="plot", cure="give a Trajectory or a StepResponse"
        )
    if out is not None:
        figure.savefig(out, dpi=130)
    return figure


def _trajectory(figure: Any, path: Trajectory, chain: Chain | None) -> None:
    times = np.linspace(0.0, path.duration, SAMPLES)
    slides = chain.is_linear if chain is not None and chain.joints == path.joints else np.zeros(len(path.joints), bool)
    unit = "m" if slides.all() else "rad" if not slides.any() else "rad, m"
    axes = figure.subplots(3, 1, sharex=True)
    words = (f"position ({unit})", f"velocity ({unit}/s)", f"acceleration ({unit}/s²)")
    for ax, values, word in zip(axes, path.at(times), words, strict=True):
        for k, joint in enumerate(path.joints):
            ax.plot(times, values[:, k], label=joint)
        ax.set_ylabel(word)
        ax.grid(alpha=0.3)
    if chain is not None and chain.joints == path.joints:
        for k in range(len(path.joints)):
            for ax, bounds in (
                (axes[0], (chain.low[k], chain.high[k])),
                (axes[1], (-chain.speeds[k], chain.speeds[k])),
            ):
                for bound in bounds:
                    if math.isfinite(bound):
                        ax.axhline(bound, color=f"C{k}", ls="--", lw=0.8)
    axes[-1].set_xlabel("time (s)")
    axes[0].legend(loc="center left", bbox_to_anchor=(1.0, 0.5), frameon=False)


def _answer(figure: Any, found: StepResponse) -> None:
    ax = figure.subplots()
    time = found.frame["time"]
    ax.plot(time, found.frame["command"], color="0.5", ls="--", label="commanded")
    ax.plot(time, found.frame["value"], label=found.joint)
    told = [
        f"rises in {1e3 * found.rise:.0f} ms" if math.isfinite(found.rise) else "does not rise to 90 %",
        f"overshoots by {100 * found.overshoot:.1f} %",
        f"settles in {1e3 * found.settling:.0f} ms" if math.isfinite(found.settling) else "does not settle",
        f"is off by {found.rest_error:.2g} at the end",
    ]
    ax.set(
        xlabel="time (s)",
        ylabel="position or speed (rad, m)",
        title=f"{found.joint} {', '.join(told[:2])},\n{', '.join(told[2:])}",
    )
    ax.grid(alpha=0.3)
    ax.legend(frameon=False)
