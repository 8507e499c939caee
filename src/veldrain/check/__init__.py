"""The review of a model, a world, a scenario or a study before it runs: one rule a function."""

import sys
from types import ModuleType
from typing import Any

from veldrain.check.finding import Finding, Findings, Silenced
from veldrain.check.review import check
from veldrain.check.rules import RULES, Rule

__all__ = ["RULES", "Finding", "Findings", "Rule", "Silenced", "check"]


class _Callable(ModuleType):
    """Once this package is imported ``veldrain.check`` is the package: calling it is calling the function."""

    def __call__(self, *args: Any, **options: Any) -> Findings:
        return check(*args, **options)


sys.modules[__name__].__class__ = _Callable
