"""What a study varies as one: one or several quantities by path, and what is drawn for them."""

from __future__ import annotations

import math
from dataclasses import dataclass

from veldrain import randomness
from veldrain.study.draws import Draw, Orientation, Own


@dataclass(frozen=True)
class Factor:
    """What is drawn as one: one or several quantities by path, their kinds, and the distribution."""

    paths: tuple[str, ...]
    kinds: tuple[str, ...]
    draw: Draw

    @property
    def name(self) -> str:
        """What it is called."""
        return ", ".join(self.paths)

    @property
    def groups(self) -> list[tuple[str, ...]]:
        """Its paths, together where one value is drawn for all of them."""
        return [(path,) for path in self.paths] if isinstance(self.draw, (Orientation, Own)) else [self.paths]

    def spans(self) -> list[tuple[tuple[str, ...], float, float]]:
        """What a search goes over: paths that have one value, and its least and largest; nothing of a function's own.

        Of a distribution without ends it is the middle 99 %.
        """
        if isinstance(self.draw, Own):
            return []
        if isinstance(self.draw, Orientation):
            half = math.pi / 2
            return [((path,), -reach, reach) for path, reach in zip(self.paths, (math.pi, half, math.pi), strict=True)]
        ends = self.draw.ends(self.kinds[0], self.name)
        at = self.draw.quantile(self.kinds[0], self.name)
        return [(self.paths, ends[0], ends[-1]) if ends else (self.paths, at(0.005), at(0.995))]

    def drawn(self, seed: int, trial: int) -> dict[str, float]:
        """Values by path of a trial, SI units."""
        random = randomness.stream(seed, self.draw.stream(self.name), trial)
        return dict(zip(self.paths, self.draw.bind_all(self.kinds, self.name)(random), strict=True))

    def all_at(self, value: float) -> dict[str, float]:
        """One value for all of its quantities."""
        return dict.fromkeys(self.paths, value)
