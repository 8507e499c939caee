"""What stands, lies and moves in a world, as it is at the start. Pure data."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from veldrain.model.inertia import MassProperties
from veldrain.model.leading import Course
from veldrain.model.looks import Look
from veldrain.model.model import Model
from veldrain.model.shapes import Part, Shape, Surface
from veldrain.model.volumes import bounds_of
from veldrain.pose import Array, Pose
from veldrain.units import Triple


@dataclass
class Ground:
    """A level, endless plane."""

    height: float
    surface: Surface
    look: Look | None = None


@dataclass
class Obstacle:
    """A shape fixed in the world."""

    name: str
    part: Part
    pose: Pose
    surface: Surface


@dataclass
class Patch:
    """A region in which ground and obstacles feel like another surface."""

    name: str
    size: Triple
    pose: Pose
    surface: Surface


@dataclass
class Body:
    """A single rigid body that moves freely."""

    name: str
    part: Part
    mass_properties: MassProperties
    pose: Pose
    surface: Surface
    velocity: Triple
    spin: Triple


@dataclass
class Placed:
    """A model in a world, under a name."""

    name: str
    model: Model
    pose: Pose
    fixed: bool
    joints: dict[str, float] = field(default_factory=dict)
    path: tuple[tuple[float, Pose], ...] = ()
    velocity: Triple = (0.0, 0.0, 0.0)
    course: Course | None = None

    def box(self) -> tuple[Array, Array] | None:
        """The low and high corner (3,) of its shapes in its root, its joints as they start; None: it has none."""
        poses = self.model.poses(self.model.positions(self.joints, self.name))
        shapes = [(p.shape, poses[name] @ p.pose) for name, link in self.model.links.items() for p in link.parts]
        return bounds_of(shapes) if shapes else None

    @property
    def is_led(self) -> bool:
        """True for what goes where it is told, along a path or as an actor."""
        return bool(self.path) or self.course is not None


def with_surface(shape: Shape | Part, surface: Surface | None) -> tuple[Part, Surface]:
    """A thing's part, and what the thing feels like: what is given for it goes before the part's own."""
    part = shape if isinstance(shape, Part) else Part(shape)
    return replace(part, surface=None), surface or part.surface or Surface()
