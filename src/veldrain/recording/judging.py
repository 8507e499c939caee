"""An estimate against the truth: how far off it is, and whether it knows."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from veldrain.errors import VeldrainError

if TYPE_CHECKING:
    from veldrain.recording.log import Log

ODOMETRY = "nav_msgs/msg/Odometry"
INSIDE = -2.0 * math.log(0.05)  # 95 % of the squared normalised errors of two numbers are below (χ², 2 degrees)


@dataclass(frozen=True)
class Consistency:
    """How an estimated pose on the ground is beside the truth.

    Attributes:
        position_rms: of the distance, m.
        yaw_rms: rad.
        normalised: mean of eᵀ·P⁻¹·e over x and y, with the error e and the covariance P that the estimate tells: 2
            where it knows how far off it is, more where it is too sure of itself.
        inside: share of the time at which the truth is in its ellipse of 95 %.
        samples: how many were compared.
    """

    position_rms: float
    yaw_rms: float
    normalised: float
    inside: float
    samples: int


def consistency(log: Log, estimate: str, truth: str) -> Consistency:
    """Judge an estimated pose by the truth at the same times.

    One trial's errors hang together over time: over many trials ``inside`` comes to 0.95 and ``normalised`` to 2.

    Args:
        log: a recording, or another log.
        estimate: a stream of Odometry with covariances, such as ``crawler/estimate``.
        truth: another that counts as the truth, such as ``crawler/truth``; between two of its samples it goes straight.

    Raises:
        VeldrainError: streams of another kind, that do not overlap, or an estimate without covariance.

    >>> consistency(recording, "crawler/estimate", "crawler/truth").inside  # doctest: +SKIP
    """
    for stream in (estimate, truth):
        if stream in log.messages and log.messages[stream] != ODOMETRY:
            raise VeldrainError(
                f"is {log.messages[stream]}", where=f"{log.where}: {stream}", cure=f"name one of {ODOMETRY}"
            )
    mine, theirs = log[estimate], log[truth]
    time, clock = mine["time"].to_numpy(float), theirs["time"].to_numpy(float)
    both = (time >= clock.min(initial=math.inf)) & (time <= clock.max(initial=-math.inf))
    if not both.any():
        raise VeldrainError(f"has no time with {truth} in common", where=f"{log.where}: {estimate}")
    there = {
        name: np.interp(time[both], clock, np.unwrap(column) if name == "yaw" else column)
        for name, column in ((name, theirs[name].to_numpy(float)) for name in ("x", "y", "yaw"))
    }
    off = np.stack([mine[name].to_numpy(float)[both] - there[name] for name in ("x", "y")], axis=1)
    turned = mine["yaw"].to_numpy(float)[both] - there["yaw"]
    turned = (turned + math.pi) % (2 * math.pi) - math.pi
    # A covariance that is 0 all along has no column.
    parts = [mine.get(f"cov_{pair}", 0.0 * mine["time"]).to_numpy(float)[both] for pair in ("x_x", "x_y", "x_y", "y_y")]
    told = np.stack(parts, axis=1).reshape(-1, 2, 2)
    known = np.linalg.det(told) > 0
    if not known.any():
        raise VeldrainError(
            "tells no covariance of x and y", where=f"{log.where}: {estimate}", cure="name an estimate that has one"
        )
    squares = np.einsum("ni,ni->n", off[known], np.linalg.solve(told[known], off[known][..., None])[..., 0])
    return Consistency(
        float(np.sqrt((off**2).sum(axis=1).mean())),
        float(np.sqrt((turned**2).mean())),
        float(squares.mean()),
        float((squares <= INSIDE).mean()),
        int(known.sum()),
    )
