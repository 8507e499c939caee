"""Readings of cameras as colours that can be looked at."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray


def as_colours(pixels: NDArray[Any]) -> NDArray[np.uint8]:
    """Pixels of colours or grey as they are; of depths near is bright, and each label has a colour of its own."""
    if pixels.dtype == np.float32:
        seen = np.isfinite(pixels)
        near, far = (pixels[seen].min(), pixels[seen].max()) if seen.any() else (0.0, 1.0)
        return np.where(seen, 255 * (1 - 0.85 * (pixels - near) / max(far - near, 1e-9)), 0).astype(np.uint8)
    if pixels.dtype != np.uint8:
        inks: NDArray[np.uint8] = np.random.default_rng(3).integers(60, 240, (int(pixels.max()) + 1, 3), np.uint8)
        return np.asarray(inks[pixels])
    return pixels
