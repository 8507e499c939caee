"""One seed, split by name, so that adding a draw leaves all other draws alone."""

from __future__ import annotations

import zlib

import numpy as np

from veldrain.errors import VeldrainError


def checked_seed(seed: object) -> int:
    """A seed, if it is a whole number of 0 or more.

    Raises:
        VeldrainError: it is none.
    """
    if isinstance(seed, bool) or not isinstance(seed, (int, np.integer)) or seed < 0:
        raise VeldrainError(f"{seed!r} is not a seed", where="seed", cure="give a whole number, 0 or more")
    return int(seed)


def stream(seed: int, *names: str | int) -> np.random.Generator:
    """The random stream that belongs to a seed and a path of names.

    Every name or number is one step down from the seed (``numpy.random.SeedSequence`` with a spawn key),
    so that streams with different paths are independent of each other.

    >>> stream(7, "crawler/scan").random() == stream(7, "crawler/scan").random()
    True
    """
    steps = [name if isinstance(name, int) else zlib.crc32(name.encode()) for name in names]
    return np.random.default_rng(np.random.SeedSequence(seed, spawn_key=tuple(steps)))


def child_seed(seed: int, *names: str | int) -> int:
    """A new seed, 63 bits, that belongs to a seed and a path of names."""
    return int(stream(seed, *names).integers(2**63))
