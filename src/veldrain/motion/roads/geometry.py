"""The plan view of a road: lines, arcs, spirals and cubics, each from where it begins (ASAM OpenDRIVE 1.7, 7)."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from veldrain.motion.curves import FINE, Curve
from veldrain.pose import Array

NUMBERS = {
    "line": (),
    "arc": ("curvature",),
    "spiral": ("curvStart", "curvEnd"),
    "poly3": ("a", "b", "c", "d"),
    "paramPoly3": ("aU", "bU", "cU", "dU", "aV", "bV", "cV", "dV"),
}  # of each kind, by the names of its attributes
AT, WEIGHTS = np.polynomial.legendre.leggauss(8)
AT, WEIGHTS = (AT + 1.0) / 2.0, WEIGHTS / 2.0


@dataclass(frozen=True)
class Geometry:
    """One piece of a plan view.

    Attributes:
        s, x, y, heading, length: where it begins, and how long it is; m and rad.
        kind: one of ``NUMBERS``.
        numbers: that its kind has.
        normalized: of a paramPoly3: its parameter goes from 0 to 1, not over its length.
    """

    s: float
    x: float
    y: float
    heading: float
    length: float
    kind: str
    numbers: tuple[float, ...] = ()
    normalized: bool = False

    @cached_property
    def curve(self) -> Curve:
        """It by itself, from length 0 on."""
        start = (self.x, self.y, self.heading)
        if self.kind == "line":
            return Curve.of([(self.length, 0.0, 0.0)], start)
        if self.kind == "arc":
            return Curve.of([(self.length, self.numbers[0], self.numbers[0])], start)
        if self.kind == "spiral":
            return Curve.of([(self.length, self.numbers[0], self.numbers[1])], start)
        return self._sampled()

    def _sampled(self) -> Curve:
        """Of cubics (u, v)(p) in its own axes: so many samples that curvature changes evenly between two."""
        n = self.numbers
        u, v = (n[:4], n[4:]) if self.kind == "paramPoly3" else ((0.0, 1.0, 0.0, 0.0), n)
        end = 1.0 if self.normalized else self.length
        knots = np.linspace(0.0, end, max(9, math.ceil(self.length / FINE) + 1))
        if self.kind == "poly3":  # its length is that of the curve, its parameter is u
            knots *= self._end_of(v, end) / end
        s = np.concatenate([[0.0], np.cumsum(_lengths(u, v, knots))])
        x, du, ddu = _cubic(u, knots)
        y, dv, ddv = _cubic(v, knots)
        c, sine = math.cos(self.heading), math.sin(self.heading)
        return Curve.sampled(
            s * (self.length / s[-1]),  # what it is said to be, of which its own differs in the last digits
            self.x + c * x - sine * y,
            self.y + sine * x + c * y,
            self.heading + np.unwrap(np.arctan2(dv, du)),
            (du * ddv - dv * ddu) / np.hypot(du, dv) ** 3,
        )

    def _end_of(self, v: Sequence[float], guess: float) -> float:
        """The u at which v(u) has the length that it is said to have."""
        u, end = (0.0, 1.0, 0.0, 0.0), guess
        for _ in range(30):
            length = float(_lengths(u, v, np.linspace(0.0, end, 65)).sum())
            more = (self.length - length) / math.hypot(1.0, float(_cubic(v, np.array(end))[1]))
            end += more
            if abs(more) < 1e-12 * self.length:
                break
        return end


def _cubic(n: Sequence[float], p: Array) -> tuple[Array, Array, Array]:
    """A cubic of coefficients a, b, c, d with its first and second derivative."""
    a, b, c, d = n
    return a + p * (b + p * (c + p * d)), b + p * (2 * c + p * 3 * d), 2 * c + p * 6 * d


def _lengths(u: Sequence[float], v: Sequence[float], knots: Array) -> Array:
    """How long the curve (u, v)(p) is between each knot and the next."""
    steps = np.diff(knots)
    inner = knots[:-1, None] + steps[:, None] * AT
    return steps * (np.hypot(_cubic(u, inner)[1], _cubic(v, inner)[1]) @ WEIGHTS)


def joined(pieces: Sequence[Geometry]) -> Curve:
    """The curve of a whole plan view, each piece from where it is said to begin."""
    curves = [piece.curve for piece in pieces]
    made = chained(curves, [piece.s for piece in pieces])
    made.length = pieces[-1].s + pieces[-1].length
    return made


def chained(curves: Sequence[Curve], starts: Sequence[float]) -> Curve:
    """Curves one after another, each from where it is and from a length on."""
    s = np.concatenate([curve.s + start for curve, start in zip(curves, starts, strict=True)])
    x, y, heading, k, c = (
        np.concatenate([getattr(curve, word) for curve in curves]) for word in ("x", "y", "heading", "k", "c")
    )
    return Curve(s, x, y, heading, k, c, starts[-1] + curves[-1].length)


def pieces_of(curve: Curve) -> list[Geometry]:
    """A curve as lines, arcs and spirals, its own pieces joined where they go on evenly."""
    ends = np.append(curve.s[1:], curve.length)
    found: list[Geometry] = []
    first = 0
    for n in range(1, len(curve.s) + 1):
        goes_on = n < len(curve.s) and (
            abs(curve.c[n] - curve.c[n - 1]) < 1e-15
            and abs(curve.k[n - 1] + curve.c[n - 1] * (ends[n - 1] - curve.s[n - 1]) - curve.k[n]) < 1e-12
        )
        if goes_on:
            continue
        length = float(ends[n - 1] - curve.s[first])
        k, c = float(curve.k[first]), float(curve.c[first])
        kind = "spiral" if c else "arc" if k else "line"
        numbers = (k, k + c * length) if c else (k,) if k else ()
        s, x, y, heading = (float(v[first]) for v in (curve.s, curve.x, curve.y, curve.heading))
        found.append(Geometry(s, x, y, heading, length, kind, numbers))
        first = n
    return found
