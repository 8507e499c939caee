"""Paired draws, the runner, metrics, statistics."""

from veldrain.study.draws import Draw, normal, one_of, uniform
from veldrain.study.metrics import FinishTime, Margin, Metric
from veldrain.study.result import Result
from veldrain.study.study import Study

__all__ = ["Draw", "FinishTime", "Margin", "Metric", "Result", "Study", "normal", "one_of", "uniform"]
