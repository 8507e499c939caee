"""Where something is and which way it points."""

from __future__ import annotations

import math
import warnings
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.spatial.transform import Rotation

from veldrain.errors import VeldrainError
from veldrain.units import Quantity, quantity, triple

Array = NDArray[np.float64]


FARTHEST = 1e9  # m: beyond, a millimetre is lost in the digits of a position
MOST_TURN = 4 * math.pi  # rad: more than two turns are degrees that lack their unit


def _angle(value: float, given: object, where: str) -> float:
    """An angle in rad; one of many turns is taken where its unit was given."""
    if not math.isfinite(value):
        raise VeldrainError(f"an angle of {value:g} rad", where=where, cure="give an angle")
    if abs(value) > MOST_TURN and not isinstance(given, str):
        cure = f"a plain number is in rad: write '{value:g} deg' for degrees; of a heading that goes on and on, give "
        raise VeldrainError(f"an angle of {value:g} rad", where=where, cure=f"{cure}math.remainder(yaw, math.tau)")
    return value


class Pose:
    """A position and a rotation: of a link in its parent, of a sensor on its link, of a thing in the world.

    Args:
        xyz: position, three lengths (m, or strings such as ``"30 mm"``).
        rpy: roll, pitch and yaw, three angles (rad, or strings such as ``"90 deg"``), applied about the
            fixed axes x, y, z in this order, as in URDF.
        rotation: a ``scipy.spatial.transform.Rotation`` instead of ``rpy``.
        yaw: the angle about z alone, instead of ``rpy``.

    Raises:
        VeldrainError: a quantity of the wrong kind, or more than one way to say the rotation.

    >>> (Pose((1, 0, 0), yaw="90 deg") @ Pose(("500 mm", 0, 0))).position.round(3).tolist()
    [1.0, 0.5, 0.0]
    """

    __slots__ = ("_matrix", "_rotation", "_turns", "position")

    def __init__(
        self,
        xyz: Sequence[Quantity] | Array = (0.0, 0.0, 0.0),
        rpy: Sequence[Quantity] | Array | None = None,
        *,
        rotation: Rotation | None = None,
        yaw: Quantity | None = None,
    ) -> None:
        if sum(way is not None for way in (rpy, rotation, yaw)) > 1:
            raise VeldrainError("a pose with two rotations", cure="give one of rpy, yaw and rotation")
        self.position: Array = np.array(triple(xyz, "length", "xyz"))
        if not (np.abs(self.position) < FARTHEST).all():
            raise VeldrainError(
                f"a position of ({', '.join(f'{x:g}' for x in self.position)}) m",
                where="xyz",
                cure="give finite lengths below 1e9 m",
            )
        if rpy is not None:
            angles = zip(triple(rpy, "angle", "rpy"), rpy, strict=True)
            rotation = Rotation.from_euler("xyz", [_angle(angle, given, "rpy") for angle, given in angles])
        elif yaw is not None:
            rotation = Rotation.from_euler("z", _angle(quantity(yaw, "angle", "yaw"), yaw, "yaw"))
        self._turns = rotation is not None  # most poses do not: those are cheap
        self._rotation: Rotation | None = rotation
        self._matrix: Array | None = None

    @classmethod
    def of(cls, position: Array, matrix: Array) -> Pose:
        """The pose of a position (3,), m, and a rotation matrix (3, 3): for many of them, as nothing is checked."""
        made = cls.__new__(cls)
        made.position, made._matrix, made._rotation, made._turns = position, matrix, None, True
        return made

    @property
    def rotation(self) -> Rotation:
        """The turn."""
        if self._rotation is None:
            self._rotation = Rotation.identity() if self._matrix is None else Rotation.from_matrix(self._matrix)
        return self._rotation

    @property
    def rpy(self) -> Array:
        """Roll, pitch and yaw in rad; at a pitch of ±90°, where roll and yaw are one, yaw is 0."""
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", UserWarning)  # SciPy tells of just that
            return np.asarray(self.rotation.as_euler("xyz"))

    @property
    def yaw(self) -> float:
        """The angle about z in rad."""
        return float(self.rpy[2])

    @property
    def matrix(self) -> Array:
        """The 3 × 3 rotation matrix, columns are this frame's axes."""
        return np.asarray(self.rotation.as_matrix()) if self._matrix is None else self._matrix.copy()

    def __matmul__(self, other: Pose) -> Pose:
        """The pose of what is at ``other`` in this frame."""
        if self._turns and other._turns:
            return Pose(self.apply(other.position), rotation=self.rotation * other.rotation)
        turn = self if self._turns else other
        made = Pose.__new__(Pose)
        made.position = self.apply(other.position)
        made._rotation, made._matrix, made._turns = turn._rotation, turn._matrix, turn._turns
        return made

    def inverse(self) -> Pose:
        """The pose that undoes this one."""
        back = self.rotation.inv()
        return Pose(-back.apply(self.position), rotation=back)

    def apply(self, points: ArrayLike) -> Array:
        """Points (3,) or (n, 3) given in this frame, in the frame that this pose is given in."""
        rows = np.asarray(points, float)
        if rows.ndim not in (1, 2) or rows.shape[-1] != 3:
            raise VeldrainError(f"points of shape {rows.shape}", where="Pose.apply", cure="give (3,) or (n, 3)")
        if not self._turns:
            return rows + self.position
        return np.asarray(self.rotation.apply(np.ascontiguousarray(rows))) + self.position

    def __eq__(self, other: Any) -> bool:
        return (
            isinstance(other, Pose)
            and np.array_equal(self.position, other.position)
            and np.array_equal(self.rotation.as_quat(canonical=True), other.rotation.as_quat(canonical=True))
        )

    __hash__ = None  # type: ignore[assignment]

    def __repr__(self) -> str:
        def row(values: Array) -> str:
            return "(" + ", ".join(f"{v + 0.0:.9g}" for v in values) + ")"

        turned = "" if self.rotation.magnitude() == 0 else f", rpy={row(self.rpy)}"
        return f"Pose({row(self.position)}{turned})"


def z_to(axis: Sequence[float] | Array) -> Rotation:
    """A rotation that takes z to the axis; none for z itself."""
    if tuple(axis) == (0.0, 0.0, 1.0):
        return Rotation.identity()
    if tuple(axis) == (0.0, 0.0, -1.0):
        return Rotation.from_rotvec([np.pi, 0.0, 0.0])
    turn = np.cross((0.0, 0.0, 1.0), axis)
    sine = np.linalg.norm(turn)
    return Rotation.from_rotvec(turn / sine * np.arctan2(sine, axis[2]))


def quaternion_of(matrix: Array) -> tuple[float, float, float, float]:
    """The quaternion x, y, z, w of a rotation matrix, w ≥ 0: for samples, where a Rotation takes too long.

    S. W. Shepperd, "Quaternion from rotation matrix", J. Guidance and Control 1(3), 1978: divide by the
    largest of the four.
    """
    (a, b, c), (d, e, f), (g, h, i) = matrix.tolist()
    squares = (1 + a - e - i, 1 - a + e - i, 1 - a - e + i, 1 + a + e + i)  # four times x², y², z², w²
    largest = squares.index(max(squares))
    x, y, z, w = (
        (squares[0], b + d, c + g, h - f),
        (b + d, squares[1], f + h, c - g),
        (c + g, f + h, squares[2], d - b),
        (h - f, c - g, d - b, squares[3]),
    )[largest]
    scale = (0.5 if w >= 0 else -0.5) / math.sqrt(squares[largest])
    return x * scale, y * scale, z * scale, w * scale
