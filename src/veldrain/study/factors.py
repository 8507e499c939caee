"""What a study varies as one: one or several quantities by path, and what is drawn for them."""

from __future__ import annotations

import math
from dataclasses import dataclass

from veldrain import randomness
from veldrain.errors import VeldrainError
from veldrain.study.draws import Draw, OneOf, Orientation, Own
from veldrain.units import names_of


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

        Raises:
            VeldrainError: names are drawn.
        """
        if isinstance(self.draw, Own):
            return []
        if names_of(self.kinds[0]):
            raise VeldrainError("a search goes over numbers, not names", where=self.name, cure="leave it out of vary")
        if isinstance(self.draw, Orientation):
            half = math.pi / 2
            return [((path,), -reach, reach) for path, reach in zip(self.paths, (math.pi, half, math.pi), strict=True)]
        ends = self.draw.ends(self.kinds[0], self.name)
        at = self.draw.quantile(self.kinds[0], self.name)
        return [(self.paths, ends[0], ends[-1]) if ends else (self.paths, at(0.005), at(0.995))]

    def see_that_it_can_be_drawn(self) -> None:
        """Tell before the first trial what cannot be drawn.

        Raises:
            VeldrainError: values of another kind; a distribution over names, which have no order.
        """
        if names_of(self.kinds[0]) and not isinstance(self.draw, OneOf | Own):
            raise VeldrainError("names have no order to draw by", where=self.name, cure="use one_of or weighted")
        self.draw.bind_all(self.kinds, self.name)

    def drawn(self, seed: int, trial: int) -> dict[str, float]:
        """Values by path of a trial, SI units."""
        random = randomness.stream(seed, self.draw.stream(self.name), trial)
        return dict(zip(self.paths, self.draw.bind_all(self.kinds, self.name)(random), strict=True))

    def all_at(self, value: float) -> dict[str, float]:
        """One value for all of its quantities."""
        return dict.fromkeys(self.paths, value)
