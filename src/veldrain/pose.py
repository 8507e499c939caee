"""Where something is and which way it points."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from veldrain.errors import VeldrainError
from veldrain.units import Quantity, quantity, triple

if TYPE_CHECKING:
    from scipy.spatial.transform import Rotation

Array = NDArray[np.float64]
Quaternion = tuple[float, float, float, float]  # x, y, z, w


FARTHEST = 1e9  # m: beyond, a millimetre is lost in the digits of a position
STRAIGHT_UP = 1e-7  # rad: nearer to a pitch of ±90°, roll and yaw are one
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

    __slots__ = ("_matrix", "_quaternion", "_rotation", "_turns", "position")

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
        turn = None
        if rpy is not None:
            angles = zip(triple(rpy, "angle", "rpy"), rpy, strict=True)
            turn = _of_angles(*(_angle(angle, given, "rpy") for angle, given in angles))
        elif yaw is not None:
            turn = _of_angles(0.0, 0.0, _angle(quantity(yaw, "angle", "yaw"), yaw, "yaw"))
        elif rotation is not None:
            x, y, z, w = rotation.as_quat().tolist()
            turn = x, y, z, w
        self._quaternion: Quaternion | None = turn
        self._turns = turn is not None  # most poses do not: those are cheap
        self._rotation: Rotation | None = rotation
        self._matrix: Array | None = None

    @classmethod
    def of(cls, position: Array, matrix: Array) -> Pose:
        """The pose of a position (3,), m, and a rotation matrix (3, 3): for many of them, as nothing is checked."""
        return cls._made(position, None, matrix)

    @classmethod
    def turned(cls, vector: Sequence[float] | Array) -> Pose:
        """A pose that only turns: about the direction of a vector (3,), by its length in rad."""
        x, y, z = map(float, vector)
        angle = math.hypot(x, y, z)
        scale = math.sin(0.5 * angle) / angle if angle > 0 else 0.5
        return cls._made(np.zeros(3), (x * scale, y * scale, z * scale, math.cos(0.5 * angle)), None)

    @classmethod
    def _made(cls, position: Array, quaternion: Quaternion | None, matrix: Array | None) -> Pose:
        made = cls.__new__(cls)
        made.position, made._quaternion, made._matrix, made._rotation = position, quaternion, matrix, None
        made._turns = quaternion is not None or matrix is not None
        return made

    @property
    def quaternion(self) -> Quaternion:
        """The turn as a quaternion x, y, z, w of length 1."""
        if self._quaternion is None:
            self._quaternion = (0.0, 0.0, 0.0, 1.0) if self._matrix is None else quaternion_of(self._matrix)
        return self._quaternion

    @property
    def rotation(self) -> Rotation:
        """The turn."""
        from scipy.spatial.transform import Rotation

        if self._rotation is None:
            self._rotation = Rotation(np.array(self.quaternion), normalize=False)
        return self._rotation

    @property
    def rpy(self) -> Array:
        """Roll, pitch and yaw in rad; at a pitch of ±90°, where roll and yaw are one, yaw is 0."""
        return _angles_of(*self.quaternion)

    @property
    def yaw(self) -> float:
        """The angle about z in rad."""
        return float(self.rpy[2])

    @property
    def matrix(self) -> Array:
        """The 3 × 3 rotation matrix, columns are this frame's axes."""
        if self._matrix is None:
            self._matrix = _matrix_of(*self.quaternion)
        return self._matrix.copy()

    def __matmul__(self, other: Pose) -> Pose:
        """The pose of what is at ``other`` in this frame."""
        position = self.apply(other.position)
        if self._turns and other._turns:
            return self._made(position, _product(self.quaternion, other.quaternion), None)
        turn = self if self._turns else other
        return self._made(position, turn._quaternion, turn._matrix)

    def inverse(self) -> Pose:
        """The pose that undoes this one."""
        if not self._turns:
            return self._made(-self.position, None, None)
        x, y, z, w = self.quaternion
        back = self._made(np.zeros(3), (-x, -y, -z, w), None)
        back.position = -back.apply(self.position)
        return back

    def apply(self, points: ArrayLike) -> Array:
        """Points (3,) or (n, 3) given in this frame, in the frame that this pose is given in."""
        rows = np.asarray(points, float)
        if rows.ndim not in (1, 2) or rows.shape[-1] != 3:
            raise VeldrainError(f"points of shape {rows.shape}", where="Pose.apply", cure="give (3,) or (n, 3)")
        if not self._turns:
            return rows + self.position
        return rows @ self.matrix.T + self.position

    def __eq__(self, other: Any) -> bool:
        if not isinstance(other, Pose) or not np.array_equal(self.position, other.position):
            return False
        mine, theirs = np.array(self.quaternion), np.array(other.quaternion)  # q and −q are one turn
        return np.array_equal(mine, theirs) or np.array_equal(mine, -theirs)

    __hash__ = None  # type: ignore[assignment]

    def __repr__(self) -> str:
        def row(values: Array) -> str:
            return "(" + ", ".join(f"{v + 0.0:.9g}" for v in values) + ")"

        turned = "" if not any(self.quaternion[:3]) else f", rpy={row(self.rpy)}"
        return f"Pose({row(self.position)}{turned})"


# What SciPy's Rotation does, for the one turn of a pose: few worlds need more of it, and it takes 0.3 s to load.
def _of_angles(roll: float, pitch: float, yaw: float) -> Quaternion:
    """The quaternion of turns about the fixed axes x, y, z, in this order."""
    x, y, z = (math.sin(0.5 * roll), math.sin(0.5 * pitch), math.sin(0.5 * yaw))
    a, b, c = (math.cos(0.5 * roll), math.cos(0.5 * pitch), math.cos(0.5 * yaw))
    return _product((0.0, 0.0, z, c), _product((0.0, y, 0.0, b), (x, 0.0, 0.0, a)))


def _angles_of(x: float, y: float, z: float, w: float) -> Array:
    """Roll, pitch and yaw of a quaternion.

    E. Bernardes, S. Viollet, "Quaternion to Euler angles conversion", PLoS ONE 17(11), 2022, section "Method".
    """
    pitch = 2 * math.atan2(math.hypot(y + w, z - x), math.hypot(w - y, x + z))
    total, apart = math.atan2(x + z, w - y), math.atan2(z - x, y + w)
    if min(pitch, math.pi - pitch) < STRAIGHT_UP:
        return np.array((_wrapped(2 * total if pitch < 1 else -2 * apart), pitch - math.pi / 2, 0.0))
    return np.array((_wrapped(total - apart), pitch - math.pi / 2, _wrapped(total + apart)))


def _wrapped(angle: float) -> float:
    return angle - math.copysign(2 * math.pi, angle) if abs(angle) > math.pi else angle


def _product(p: Quaternion, q: Quaternion) -> Quaternion:
    """Both turns, q first; of length 1, so that a row of many does not drift."""
    a, b, c, d = p
    x, y, z, w = q
    i, j = d * x + a * w + b * z - c * y, d * y + b * w + c * x - a * z
    k, r = d * z + c * w + a * y - b * x, d * w - a * x - b * y - c * z
    length = math.hypot(i, j, k, r)
    return i / length, j / length, k / length, r / length


def _matrix_of(x: float, y: float, z: float, w: float) -> Array:
    """The rotation matrix (3, 3) of a quaternion of length 1."""
    xx, yy, zz, ww = x * x, y * y, z * z, w * w
    return np.array(
        (
            (xx - yy - zz + ww, 2 * (x * y - z * w), 2 * (x * z + y * w)),
            (2 * (x * y + z * w), yy - xx - zz + ww, 2 * (y * z - x * w)),
            (2 * (x * z - y * w), 2 * (y * z + x * w), zz - xx - yy + ww),
        )
    )


def z_to(axis: Sequence[float] | Array) -> Pose:
    """A turn that takes z to the axis; none for z itself."""
    if tuple(axis) == (0.0, 0.0, 1.0):
        return Pose()
    if tuple(axis) == (0.0, 0.0, -1.0):
        return Pose.turned((math.pi, 0.0, 0.0))
    turn = np.cross((0.0, 0.0, 1.0), axis)
    sine = np.linalg.norm(turn)
    return Pose.turned(turn / sine * np.arctan2(sine, axis[2]))


def quaternions_of(matrices: Array) -> Array:
    """The quaternions (n, 4) of rotation matrices (n, 3, 3), each as ``quaternion_of`` has it."""
    (a, b, c), (d, e, f), (g, h, i) = matrices.transpose(1, 2, 0)
    x, y, z, w = 1 + a - e - i, 1 - a + e - i, 1 - a - e + i, 1 + a + e + i  # four times the squares
    rows = np.array(
        [(x, b + d, c + g, h - f), (b + d, y, f + h, c - g), (c + g, f + h, z, d - b), (h - f, c - g, d - b, w)]
    )
    largest, each = np.argmax([x, y, z, w], axis=0), np.arange(len(matrices))
    found = rows[largest, :, each]
    return np.asarray(found * (np.where(found[:, 3:] >= 0, 0.5, -0.5) / np.sqrt(rows[largest, largest, each])[:, None]))


def quaternion_of(matrix: Array) -> Quaternion:
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


def as_pose(value: Any, where: str) -> Pose:
    """A pose, or its words in a file."""
    if isinstance(value, Mapping) and set(value) <= {"xyz", "rpy", "yaw"}:
        return Pose(
            value.get("xyz", (0.0, 0.0, 0.0)), **{word: value[word] for word in ("rpy", "yaw") if word in value}
        )
    if not isinstance(value, Pose):
        raise VeldrainError(f"{value!r} is no pose", where=where, cure="give a Pose; in a file xyz, and rpy or yaw")
    return value
