"""The review of a model, a world, a scenario or a study before it runs: one rule a function."""

from veldrain.review.covering import Coverage, coverage
from veldrain.review.finding import Finding, Findings, Silenced
from veldrain.review.review import check
from veldrain.review.rules import RULES, Rule

__all__ = ["RULES", "Coverage", "Finding", "Findings", "Rule", "Silenced", "check", "coverage"]
