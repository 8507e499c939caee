"""Designs and draws, the runner and its store, metrics, statistics, and what they answer."""

from veldrain.study.designs import Design, Drawn, Grid, OneAtATime, SpaceFilling, Table
from veldrain.study.draws import (
    Draw,
    correlated,
    log_uniform,
    normal,
    one_of,
    triangular,
    truncated_normal,
    uniform,
    uniform_orientation,
    weighted,
)
from veldrain.study.metrics import FinishTime, Margin, Metric
from veldrain.study.result import Result
from veldrain.study.study import Study

__all__ = [
    "Design", "Draw", "Drawn", "FinishTime", "Grid", "Margin", "Metric", "OneAtATime", "Result", "SpaceFilling", "Study",
    "Table", "correlated", "log_uniform", "normal", "one_of", "triangular", "truncated_normal", "uniform",
    "uniform_orientation", "weighted",
]  # fmt: skip
