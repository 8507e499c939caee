"""Which conditions a study runs: drawn, a grid, space-filling, a table, or one factor at a time.

A new design is a class below ``Design`` with ``rows``. All controllers meet the same rows, with the same noise.
"""

from __future__ import annotations

import itertools
import math
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain import randomness
from veldrain.errors import VeldrainError, unknown
from veldrain.study.factors import Factor
from veldrain.units import Quantity, quantity

if TYPE_CHECKING:
    import pandas as pd

Values = dict[str, float]
MOST = 1_000_000  # rows


class Design(ABC):
    """Conditions by the number of the trial."""

    @abstractmethod
    def rows(self, factors: Sequence[Factor], kinds: Mapping[str, str], seed: int, usual: Values) -> Sequence[Values]:
        """Values by path (SI units) of all trials that it has.

        Args:
            factors: what is varied.
            kinds: the kind of each quantity of the study's scenario, by path.
            seed: of the study.
            usual: the values that the varied quantities have in the scenario.
        """

    @property
    def has_end(self) -> bool:
        """False for one that goes on for as many trials as are asked for."""
        return True


@dataclass(frozen=True)
class Drawn(Design):
    """Each trial is drawn by itself; a factor that is added leaves the others' draws alone.

    >>> Drawn().has_end
    False
    """

    def rows(self, factors: Sequence[Factor], kinds: Mapping[str, str], seed: int, usual: Values) -> Sequence[Values]:
        return _Endless(factors, seed)

    def __str__(self) -> str:
        return "drawn at random"

    @property
    def has_end(self) -> bool:
        return False


class _Endless(Sequence[Values]):
    def __init__(self, factors: Sequence[Factor], seed: int) -> None:
        self._factors, self._seed = factors, seed

    def __len__(self) -> int:
        return MOST

    def __getitem__(self, trial: Any) -> Any:
        return {path: value for f in self._factors for path, value in f.drawn(self._seed, trial).items()}


@dataclass(frozen=True)
class Grid(Design):
    """Every combination of some levels of each factor, each ``repeats`` times with other noise.

    Args:
        levels: how many for each factor, or by its path how many, or a list of values.
        repeats: of each combination.

    >>> Grid(levels={"silt.friction": [0.1, 0.2, 0.4], "crawler.y": 5}, repeats=3).repeats
    3
    """

    levels: int | Mapping[str, int | Sequence[Quantity]] = 3
    repeats: int = 1

    def rows(self, factors: Sequence[Factor], kinds: Mapping[str, str], seed: int, usual: Values) -> Sequence[Values]:
        if not factors:
            raise VeldrainError("a grid of nothing", where="design", cure="name what is varied in vary")
        if self.repeats < 1:
            raise VeldrainError(f"{self.repeats} repeats", where="design", cure="give 1 or more")
        table = self.levels if isinstance(self.levels, Mapping) else {}
        for name in table:
            if not any(name in (f.name, *f.paths) for f in factors):
                raise unknown("factor", name, [f.name for f in factors], "design: levels")
        each = [[f.all_at(v) for v in self._of(f, table)] for f in factors]
        if math.prod(map(len, each)) * self.repeats > MOST:
            raise VeldrainError(
                f"has more than {MOST} rows", where="design", cure="fewer levels, or a space-filling one"
            )
        rows = [{k: v for part in parts for k, v in part.items()} for parts in itertools.product(*each)]
        return rows * self.repeats

    def _of(self, factor: Factor, table: Mapping[str, int | Sequence[Quantity]]) -> list[float]:
        told = next((table[name] for name in (factor.name, *factor.paths) if name in table), None)
        told = (self.levels if isinstance(self.levels, int) else 3) if told is None else told
        where = f"design: {factor.name}"
        if isinstance(told, int):
            return factor.draw.levels(told, factor.kinds[0], where)
        return [quantity(value, factor.kinds[0], where) for value in told]


@dataclass(frozen=True)
class SpaceFilling(Design):
    """So many points spread evenly over all factors at once: fewer show more than as many draws do.

    A factor that is added makes another design.

    Args:
        n: points; of ``sobol`` a power of two is best.
        kind: ``sobol``, ``halton`` or ``latin``, of ``scipy.stats.qmc``.
        repeats: of each point, with other noise.

    >>> SpaceFilling(64).kind
    'sobol'
    """

    n: int
    kind: str = "sobol"
    repeats: int = 1

    def rows(self, factors: Sequence[Factor], kinds: Mapping[str, str], seed: int, usual: Values) -> Sequence[Values]:
        import warnings

        from scipy.stats import qmc

        known = {"sobol": qmc.Sobol, "halton": qmc.Halton, "latin": qmc.LatinHypercube}
        if self.kind not in known:
            raise unknown("space-filling design", self.kind, known, "design")
        if not factors or not 0 < self.n <= MOST or self.repeats < 1:
            raise VeldrainError(
                f"{self.n} points over {len(factors)} factors",
                where="design",
                cure="give vary, n and repeats of 1 or more",
            )
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", UserWarning)  # of numbers that are no power of two
            rng = np.random.default_rng(randomness.child_seed(seed, "design"))
            points = known[self.kind](d=len(factors), rng=rng).random(self.n)
        at = [f.draw.quantile(f.kinds[0], f"design: {f.name}") for f in factors]
        rows = [
            {
                path: v
                for f, quantile, x in zip(factors, at, row, strict=True)
                for path, v in f.all_at(quantile(x)).items()
            }
            for row in np.clip(points, 1e-9, 1 - 1e-9).tolist()
        ]
        return rows * self.repeats


@dataclass(frozen=True)
class OneAtATime(Design):
    """All factors as the scenario has them, then each at some levels by itself.

    >>> OneAtATime(levels=5).levels
    5
    """

    levels: int = 3
    repeats: int = 1

    def rows(self, factors: Sequence[Factor], kinds: Mapping[str, str], seed: int, usual: Values) -> Sequence[Values]:
        rows = [dict(usual)]
        for f in factors:
            rows += [usual | f.all_at(v) for v in f.draw.levels(self.levels, f.kinds[0], f"design: {f.name}")]
        return rows * self.repeats


class Table(Design):
    """Conditions that are given: a row a trial, a column a quantity by its path. ``vary`` need not name them.

    Args:
        rows: a DataFrame, a list of rows, or the path of a CSV file. Numbers are SI; texts carry their units.

    >>> Table([{"silt.friction": 0.1}, {"silt.friction": "40 %"}])
    Table(2 rows: silt.friction)
    """

    def __init__(self, rows: pd.DataFrame | Sequence[Mapping[str, Quantity]] | str | Path) -> None:
        self.file = str(rows) if isinstance(rows, str | Path) else ""
        if isinstance(rows, str | Path):
            import pandas as pd

            try:
                rows = pd.read_csv(rows)
            except (OSError, ValueError) as error:
                raise VeldrainError(f"cannot be read ({error})", where=str(rows), cure="name a CSV file") from error
        told: Any = rows if isinstance(rows, Sequence) else rows.to_dict("records")
        self.given: list[dict[str, Quantity]] = [{str(k): v for k, v in row.items()} for row in told]
        if not self.given or not self.given[0]:
            raise VeldrainError("a table without rows", where=self.file or "design", cure="give one row a trial")

    def __repr__(self) -> str:
        return f"Table({len(self.given)} rows: {', '.join(self.given[0])})"

    @property
    def paths(self) -> list[str]:
        """The quantities that it has columns for."""
        return list(self.given[0])

    def rows(self, factors: Sequence[Factor], kinds: Mapping[str, str], seed: int, usual: Values) -> Sequence[Values]:
        found = []
        for number, row in enumerate(self.given):
            if set(row) != set(self.paths):
                raise VeldrainError("has other columns", where=f"design: row {number}", cure="the same in each row")
            values = {
                path: quantity(value, kinds[path], f"design: row {number}: {path}") for path, value in row.items()
            }
            if not all(map(math.isfinite, values.values())):
                raise VeldrainError(
                    "has a value that is not finite", where=f"design: row {number}", cure="give numbers"
                )
            found.append(values)
        return found
