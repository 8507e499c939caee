"""Designs and draws, the runner and its store, metrics, statistics, and what they answer."""

from veldrain.study.against import ResultComparison, compare_results
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
from veldrain.study.fitting import Fitted, Match, fit
from veldrain.study.metrics import FinishTime, Margin, Metric
from veldrain.study.result import Result
from veldrain.study.searching import Worst, find_worst
from veldrain.study.study import Study
from veldrain.study.tuning import Tuned, tune

__all__ = [
    "Design", "Draw", "Drawn", "FinishTime", "Fitted", "Grid", "Margin", "Match", "Metric", "OneAtATime", "Result",
    "ResultComparison", "SpaceFilling", "Study", "Table", "Tuned", "Worst", "compare_results", "correlated",
    "find_worst", "fit", "log_uniform", "normal", "one_of", "triangular", "truncated_normal", "tune", "uniform",
    "uniform_orientation", "weighted",
]  # fmt: skip
