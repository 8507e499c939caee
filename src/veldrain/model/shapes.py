"""Shapes, what they feel like to touch, and the parts that links are made of."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from veldrain.errors import VeldrainError
from veldrain.model.colours import checked_colour
from veldrain.model.grids import Bools, Grid
from veldrain.model.looks import GREY, Look
from veldrain.model.revolving import BOX_FACES, revolved, rounded
from veldrain.pose import Array, Pose
from veldrain.sheet import Number, Row, Sheet, Text
from veldrain.units import Quantity, quantity, triple, worded

TURN = np.linspace(0, 2 * np.pi, 24, endpoint=False)
CIRCLE = np.stack([np.cos(TURN), np.sin(TURN), np.zeros(len(TURN))], axis=1)
CORNERS = np.array([(x, y, z) for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)])
BALL = np.array(
    [(np.cos(a) * c, np.sin(a) * c, z) for a in TURN for z in np.linspace(-1, 1, 9) for c in [np.sqrt(1 - z * z)]]
)
Role = Literal["both", "visual", "collision"]
ROLES = ("both", "visual", "collision")


class Surface(Sheet):
    """What a shape feels like to touch.

    Two surfaces that meet have friction √(f₁·f₂), the larger restitution, rolling and torsional resistance, their
    softness as two springs in a row (1/k = 1/k₁ + 1/k₂) and the damping of the softer one.

    >>> Surface(friction=0.6).restitution, Surface(stiffness="20 kN/m", belt=("0.3 m/s", 0, 0)).belt
    (0.0, (0.3, 0.0, 0.0))
    """

    friction: Number = Number("ratio", default=0.8, least=0.0, kw_only=False, doc="Coulomb's coefficient")
    restitution: Number = Number(
        "ratio", default=0.0, least=0.0, most=1.0, kw_only=False, doc="leaving speed over impact speed"
    )
    rolling: Number = Number(
        "length",
        default=0.0,
        least=0.0,
        doc="rolling resistance: the moment that resists rolling is this times the normal force",
    )
    torsional: Number = Number("length", default=0.0, least=0.0, doc="the same for turning about the normal")
    stiffness: Number = Number(
        "linear stiffness",
        default=math.inf,
        above=0.0,
        doc="of the contact of two shapes, shared by its points: a body of weight W sinks in by W/stiffness. A soft "
        "contact does not bounce by restitution, but by its spring",
    )
    damping: Number = Number("linear damping", default=0.0, least=0.0, doc="of a soft contact")
    belt: Row = Row(
        "speed",
        default=(0.0, 0.0, 0.0),
        doc="velocity of the surface against its shape, in the shape's own axes: a conveyor belt or a track",
    )
    name: Text = Text(default="", doc="what is of one name is one quantity: ``brick.friction`` is that of all of it")


class Shape:
    """What the shapes share: a volume, its centre, and an inertia about that centre."""

    kinds: ClassVar[dict[str, type[Shape]]] = {}  # by the word that files know them by
    volume: float

    def __init_subclass__(cls, **more: Any) -> None:
        super().__init_subclass__(**more)
        if not cls.__name__.startswith("_"):
            Shape.kinds[worded(cls.__name__)] = cls

    @property
    def centre(self) -> Array:
        """Centre of volume (3,) in the shape's frame, m."""
        return np.zeros(3)

    def unit_inertia(self) -> Array:
        """Inertia (3, 3) about the centre for a mass of 1 kg spread evenly, in m²."""
        raise NotImplementedError

    def triangles_of(self) -> tuple[Array, NDArray[Any]]:
        """Corners (n, 3) and triangles (m, 3) that show it, to some 1 % of its size."""
        raise NotImplementedError

    def span(self, turn: Array) -> Array:
        """Half the edges (3,) of the box around it when it is turned by a matrix (3, 3); it is centred."""
        raise NotImplementedError

    def bounds(self, pose: Pose) -> tuple[Array, Array]:
        """Least and largest coordinates (3,) at a pose."""
        span = self.span(pose.matrix)
        return pose.position - span, pose.position + span

    def holds(self, points: Array) -> NDArray[np.bool_]:
        """True for points (n, 3) of its frame that are inside of it."""
        raise NotImplementedError

    def fills(self, pose: Pose, grid: Grid, solid_hull: bool = False) -> Bools:
        """True (nx, ny, nz) at a grid's points that are inside of it at a pose; ``solid_hull``: a mesh that collides as
        its hull counts as that."""
        back = pose.inverse()
        points = grid.points.reshape(-1, 3) @ back.matrix.T + back.position
        return self.holds(points).reshape(grid.counts)

    def rim(self) -> Array:
        """Points (n, 3) of it whose hull is as good as its own, for outlines."""
        raise NotImplementedError

    @property
    def sizes(self) -> dict[str, Any]:
        """What it is made with, by the names of the arguments."""
        return dict(vars(self))

    def scaled(self, factor: float) -> Shape:
        """The same shape with all its lengths times a factor."""
        return type(self)(
            **{n: tuple(factor * x for x in v) if isinstance(v, tuple) else factor * v for n, v in self.sizes.items()}
        )

    @property
    def said(self) -> str:
        """It and its sizes, in words."""
        told = [f"{name.replace('_', ' ')} {value:.3g} m" for name, value in self.sizes.items()]
        return ", ".join([type(self).__name__.lower(), *told])

    @property
    def touched(self) -> tuple[tuple[Shape, Pose], ...]:
        """The shapes that are touched, with their poses in its frame."""
        return ((self, Pose()),)

    @property
    def has_texture(self) -> bool:
        """True where a picture has a place on it."""
        return False


SMALLEST, LARGEST = 1e-10, 1e6  # m: of an edge, radius or length


def _positive(shape: str, **sizes: Quantity) -> list[float]:
    found = []
    for name, size in sizes.items():
        number = quantity(size, "length", f"{shape} {name}")
        if not SMALLEST <= number < LARGEST:
            raise VeldrainError(f"{name} is {number:g} m", where=shape, cure="give a length above zero, up to 1e6 m")
        found.append(number)
    return found


@dataclass(frozen=True, init=False)
class Box(Shape):
    """A box, centred, with edges along its axes.

    >>> round(Box(("1 m", "50 cm", 0.2)).volume, 3)
    0.1
    """

    size: tuple[float, float, float]

    def __init__(self, size: Sequence[Quantity]) -> None:
        edges = triple(size, "length", "box")
        object.__setattr__(self, "size", tuple(_positive("box", x=edges[0], y=edges[1], z=edges[2])))

    @property
    def volume(self) -> float:  # type: ignore[override]
        """Volume in m³."""
        return float(np.prod(self.size))

    def span(self, turn: Array) -> Array:
        return np.abs(turn) @ (np.array(self.size) / 2)

    def holds(self, points: Array) -> NDArray[np.bool_]:
        return np.asarray((np.abs(points) <= np.array(self.size) / 2).all(axis=1))

    def rim(self) -> Array:
        return np.asarray(CORNERS * np.array(self.size) / 2)

    @property
    def said(self) -> str:
        return "box " + " × ".join(f"{edge:.3g}" for edge in self.size) + " m"

    @property
    def has_texture(self) -> bool:
        return True

    def triangles_of(self) -> tuple[Array, NDArray[Any]]:
        return CORNERS * (np.array(self.size) / 2), BOX_FACES

    def unit_inertia(self) -> Array:
        squares = np.square(self.size)
        return np.diag(squares.sum() - squares) / 12.0


@dataclass(frozen=True, init=False)
class Sphere(Shape):
    """A sphere, centred.

    >>> Sphere("10 cm").radius
    0.1
    """

    radius: float

    def __init__(self, radius: Quantity) -> None:
        object.__setattr__(self, "radius", _positive("sphere", radius=radius)[0])

    @property
    def volume(self) -> float:  # type: ignore[override]
        """Volume in m³."""
        return 4.0 / 3.0 * np.pi * self.radius**3

    def span(self, turn: Array) -> Array:
        return np.full(3, self.radius)

    def holds(self, points: Array) -> NDArray[np.bool_]:
        return np.asarray(points[:, 0] ** 2 + points[:, 1] ** 2 + points[:, 2] ** 2 <= self.radius**2)

    def rim(self) -> Array:
        return BALL * self.radius

    def triangles_of(self) -> tuple[Array, NDArray[Any]]:
        return rounded(self.radius)

    def unit_inertia(self) -> Array:
        return np.eye(3) * 0.4 * self.radius**2


@dataclass(frozen=True, init=False)
class _Round(Shape):
    """What shapes about their local z axis share."""

    radius: float
    length: float

    def __init__(self, radius: Quantity, length: Quantity) -> None:
        across, along = _positive(type(self).__name__.lower(), radius=radius, length=length)
        object.__setattr__(self, "radius", across)
        object.__setattr__(self, "length", along)


class Cylinder(_Round):
    """A cylinder about its local z axis, centred. Turn a wheel's axle along y with ``rpy=("90 deg", 0, 0)``.

    >>> Cylinder(radius="8 cm", length=0.05).length
    0.05
    """

    @property
    def volume(self) -> float:  # type: ignore[override]
        """Volume in m³."""
        return np.pi * self.radius**2 * self.length

    def span(self, turn: Array) -> Array:
        along = np.abs(turn[:, 2])
        return along * self.length / 2 + self.radius * np.sqrt(np.maximum(0.0, 1.0 - along**2))

    def holds(self, points: Array) -> NDArray[np.bool_]:
        r2 = points[:, 0] ** 2 + points[:, 1] ** 2
        return np.asarray((np.abs(points[:, 2]) <= self.length / 2) & (r2 <= self.radius**2))

    def rim(self) -> Array:
        end = np.array((0.0, 0.0, self.length / 2))
        return np.concatenate([CIRCLE * self.radius - end, CIRCLE * self.radius + end])

    def triangles_of(self) -> tuple[Array, NDArray[Any]]:
        r, h = self.radius, self.length / 2
        return revolved([(0.0, -h), (r, -h), (r, h), (0.0, h)])

    def unit_inertia(self) -> Array:
        across = self.radius**2 / 4.0 + self.length**2 / 12.0
        return np.diag([across, across, self.radius**2 / 2.0])


class Capsule(_Round):
    """A cylinder about its local z axis with a half sphere on each end; ``length`` is the cylinder's alone.

    >>> Capsule(radius=0.02, length=0.1).radius
    0.02
    """

    @property
    def volume(self) -> float:  # type: ignore[override]
        """Volume in m³."""
        return np.pi * self.radius**2 * (self.length + 4.0 / 3.0 * self.radius)

    def span(self, turn: Array) -> Array:
        return np.abs(turn[:, 2]) * self.length / 2 + self.radius

    def holds(self, points: Array) -> NDArray[np.bool_]:
        beyond = np.maximum(np.abs(points[:, 2]) - self.length / 2, 0.0)
        return np.asarray(points[:, 0] ** 2 + points[:, 1] ** 2 + beyond**2 <= self.radius**2)

    def rim(self) -> Array:
        end = np.array((0.0, 0.0, self.length / 2))
        return np.concatenate([BALL * self.radius + end, BALL * self.radius - end])

    def triangles_of(self) -> tuple[Array, NDArray[Any]]:
        return rounded(self.radius, self.length)

    def unit_inertia(self) -> Array:
        r, h = self.radius, self.length
        tube, ball = np.pi * r**2 * h / self.volume, 4.0 / 3.0 * np.pi * r**3 / self.volume  # shares of mass
        # A half sphere's own centre is 3r/8 from its flat side: parallel axes give the term in h.
        across = tube * (r**2 / 4 + h**2 / 12) + ball * (0.4 * r**2 + h**2 / 4 + 3.0 / 8.0 * h * r)
        return np.diag([across, across, tube * r**2 / 2 + ball * 0.4 * r**2])


class Cone(_Round):
    """A cone about its local z axis: the tip at +length/2, the base at −length/2.

    >>> Cone(radius=0.1, length="30 cm").centre.round(3).tolist()
    [0.0, 0.0, -0.075]
    """

    @property
    def volume(self) -> float:  # type: ignore[override]
        """Volume in m³."""
        return np.pi * self.radius**2 * self.length / 3.0

    @property
    def centre(self) -> Array:
        return np.array((0.0, 0.0, -self.length / 4.0))

    def span(self, turn: Array) -> Array:
        along = np.abs(turn[:, 2])
        return along * self.length / 2 + self.radius * np.sqrt(np.maximum(0.0, 1.0 - along**2))

    def holds(self, points: Array) -> NDArray[np.bool_]:
        z, half = points[:, 2], self.length / 2
        radius = self.radius * (half - z) / self.length
        return np.asarray((np.abs(z) <= half) & (points[:, 0] ** 2 + points[:, 1] ** 2 <= radius**2))

    def rim(self) -> Array:
        end = np.array((0.0, 0.0, self.length / 2))
        return np.concatenate([CIRCLE * self.radius - end, end[None]])

    def triangles_of(self) -> tuple[Array, NDArray[Any]]:
        return revolved([(0.0, -self.length / 2), (self.radius, -self.length / 2), (0.0, self.length / 2)])

    def unit_inertia(self) -> Array:
        across = 3.0 / 20.0 * self.radius**2 + 3.0 / 80.0 * self.length**2
        return np.diag([across, across, 0.3 * self.radius**2])


@dataclass(frozen=True, init=False)
class Ellipsoid(Shape):
    """An ellipsoid, centred, with half axes along its own axes.

    >>> Ellipsoid(("10 cm", 0.2, 0.3)).half_axes
    (0.1, 0.2, 0.3)
    """

    half_axes: tuple[float, float, float]

    def __init__(self, half_axes: Sequence[Quantity]) -> None:
        a, b, c = triple(half_axes, "length", "ellipsoid")
        object.__setattr__(self, "half_axes", tuple(_positive("ellipsoid", x=a, y=b, z=c)))

    @property
    def volume(self) -> float:  # type: ignore[override]
        """Volume in m³."""
        return float(4.0 / 3.0 * np.pi * np.prod(self.half_axes))

    def span(self, turn: Array) -> Array:
        return np.asarray(np.linalg.norm(turn * np.array(self.half_axes), axis=1))

    def holds(self, points: Array) -> NDArray[np.bool_]:
        return np.asarray(((points / np.array(self.half_axes)) ** 2).sum(axis=1) <= 1)

    def rim(self) -> Array:
        return np.asarray(BALL * np.array(self.half_axes))

    @property
    def said(self) -> str:
        return "ellipsoid " + " × ".join(f"{a:.3g}" for a in self.half_axes) + " m (half axes)"

    def triangles_of(self) -> tuple[Array, NDArray[Any]]:
        corners, triangles = rounded(1.0)
        return corners * self.half_axes, triangles

    def unit_inertia(self) -> Array:
        squares = np.square(self.half_axes)
        return np.diag(squares.sum() - squares) / 5.0


@dataclass(frozen=True)
class Part:
    """A shape with its place on a link.

    Args:
        shape: the shape.
        pose: its pose in the link.
        role: ``"both"``, ``"visual"`` (seen by sensors, never touched) or ``"collision"`` (touched, never seen).
        colour: a colour name or ``"#rrggbb"``.
        surface: its own surface; None: the link's.
        look: what it looks like to sensors; None: plain, of that colour.

    >>> Part(Sphere(0.1), pose=Pose((0, 0, "20 cm")), role="visual").role
    'visual'
    """

    shape: Shape
    pose: Pose = field(default_factory=Pose)
    role: Role = "both"
    colour: str | None = None
    surface: Surface | None = None
    look: Look | None = None

    def __post_init__(self) -> None:
        if not isinstance(self.shape, Shape):
            raise VeldrainError(f"{self.shape!r} is not a shape", where="part", cure="give a Box, Sphere, …")
        if self.role not in ROLES:
            raise VeldrainError(f"no role '{self.role}'", where="part", cure=f"Known: {', '.join(ROLES)}")
        if self.colour is not None:
            checked_colour(self.colour, "part")
        if self.look is not None and self.look.image is not None and not self.shape.has_texture:
            raise VeldrainError(
                f"a picture on a {type(self.shape).__name__} without texture coordinates",
                where="part",
                cure="lay it on a box, the ground, or a mesh that has them",
            )

    @property
    def seen_as(self) -> Look:
        """Its look, or a plain one of its colour."""
        return self.look or Look(self.colour or GREY)


def as_parts(shapes: Sequence[Shape | Part]) -> tuple[Part, ...]:
    """Shapes and parts as parts; a bare shape sits at the link's own frame."""
    return tuple(s if isinstance(s, Part) else Part(s) for s in shapes)
