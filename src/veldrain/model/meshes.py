"""Shapes made of triangles: meshes, and grounds of given heights."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from veldrain.errors import VeldrainError, unknown
from veldrain.model.fitting import fitted
from veldrain.model.grids import Bools, Grid, crossings
from veldrain.model.mesh_files import is_mesh, joined, kept_parts, read_mesh
from veldrain.model.shapes import Shape
from veldrain.pose import Array, Pose
from veldrain.randomness import checked_seed
from veldrain.units import Quantity, quantities, quantity

Collide = Literal["hull", "parts", "triangles", "box", "sphere", "cylinder", "capsule"]
COLLIDE = ("hull", "parts", "triangles", "box", "sphere", "cylinder", "capsule")
FITS = ("volume", "overlap")


class Mesh(Shape):
    """A shape from a mesh of triangles, with counter-clockwise winding seen from outside.

    What is seen of it is always the exact triangles; what is touched is said by ``collide``:

    - ``"hull"``: the convex hull, which fills all that is hollow;
    - ``"parts"``: convex parts that follow hollows (needs ``pip install 'veldrain[parts]'``);
    - ``"triangles"``: the exact triangles, touched from outside, for what is fixed in the world;
    - ``"box"``, ``"sphere"``, ``"cylinder"``, ``"capsule"``: that shape, fitted to the mesh.

    Args:
        path: an STL, OBJ, PLY, glTF, GLB or DAE file. Its axes are taken as they stand in it.
        scale: what its numbers are multiplied with to be in ``unit``; one for all axes, or three.
        collide: as above.
        unit: of its numbers, such as ``"mm"``. None: what a DAE file says of itself, else metres.
        fit: of a fitted shape: ``"volume"``: the least that holds all of the mesh; ``"overlap"``: the one that shares
            most with it (intersection over union).

    Raises:
        VeldrainError: no such file, not a mesh, a unit that is no length.

    >>> Mesh.of([(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)], [(0, 2, 1), (0, 1, 3), (0, 3, 2), (1, 2, 3)]).volume
    0.16666666666666666
    """

    def __init__(
        self,
        path: str | Path,
        scale: float | Sequence[float] = 1.0,
        collide: Collide = "hull",
        unit: str | None = None,
        fit: Literal["volume", "overlap"] = "volume",
    ) -> None:
        self.path: Path | None = Path(path)
        self.source = str(path)
        corners, triangles, metres, uv = read_mesh(self.path)
        self.file_unit = metres  # what the file says its numbers are in, m
        if unit is not None:
            metres = quantity(f"1 {unit}", "length", f"{self.source}: unit")
        try:
            factors = np.broadcast_to(np.asarray(scale, float), 3) * metres
        except ValueError:
            factors = np.zeros(3)
        if not np.isfinite(factors).all() or not factors.all():
            raise VeldrainError(f"scale {scale!r}", where=self.source, cure="give one number, or three, and no zero")
        self.scale: tuple[float, float, float] = tuple(factors.tolist())
        if np.prod(factors) < 0:  # mirrored: corners turn the other way
            triangles, uv = triangles[:, ::-1], uv[:, ::-1]
        self._take(corners * factors, triangles, collide, fit, uv)

    @classmethod
    def of(
        cls,
        corners: ArrayLike,
        triangles: ArrayLike,
        *,
        collide: Collide = "hull",
        name: str = "mesh",
        fit: Literal["volume", "overlap"] = "volume",
        uv: ArrayLike | None = None,
    ) -> Mesh:
        """A mesh from corners (n, 3) in m and triangles (m, 3) of their numbers.

        ``uv`` (m, 3, 2) says where the corners of each triangle lie in a picture: (0, 0) is its lower left.
        """
        made = cls.__new__(cls)
        made.path, made.source, made.scale, made.file_unit = None, name, (1.0, 1.0, 1.0), 1.0
        where = np.zeros((0, 3, 2)) if uv is None else np.asarray(uv, float)
        made._take(np.asarray(corners, float), np.asarray(triangles, np.int64), collide, fit, where)
        return made

    def _take(
        self, corners: Array, triangles: NDArray[np.int64], collide: str, fit: str = "volume", uv: Array | None = None
    ) -> None:
        for what, word, known in (("way to collide", collide, COLLIDE), ("way to fit", fit, FITS)):
            if word not in known:
                raise unknown(what, word, known, self.source)
        if not is_mesh(corners, triangles):
            cure = "give corners (n, 3) and triangles (m, 3) of them"
            raise VeldrainError("not a mesh", where=self.source, cure=cure)
        self.uv = np.zeros((0, 3, 2)) if uv is None else uv
        if self.uv.shape not in ((0, 3, 2), (len(triangles), 3, 2)):
            raise VeldrainError(
                f"texture coordinates {self.uv.shape} of {len(triangles)} triangles",
                where=self.source,
                cure="give (m, 3, 2)",
            )
        self.corners, self.triangles, self.collide, self.fit = corners, triangles, collide, fit
        self.kept: dict[Any, Any] = {}  # what others made of it, so that they make it once

    def colliding(self, collide: Collide, fit: Literal["volume", "overlap"] = "volume") -> Mesh:
        """The same mesh, touched in another way."""
        made = Mesh.__new__(Mesh)
        made.path, made.source, made.scale, made.file_unit = self.path, self.source, self.scale, self.file_unit
        made._take(self.corners, self.triangles, collide, fit, self.uv)
        return made

    def triangles_of(self) -> tuple[Array, NDArray[Any]]:
        return self.corners, self.triangles

    def bounds(self, pose: Pose) -> tuple[Array, Array]:
        at = self.corners @ pose.matrix.T + pose.position
        return at.min(axis=0), at.max(axis=0)

    def holds(self, points: Array) -> NDArray[np.bool_]:
        planes = np.unique(np.round(self.hull.equations, 9), axis=0)  # each plane once
        return np.asarray((points @ planes[:, :3].T + planes[:, 3] <= 0).all(axis=1))

    def fills(self, pose: Pose, grid: Grid, solid_hull: bool = False) -> Bools:
        """Inside is what a ray along z leaves an odd number of times."""
        if solid_hull and self.collide == "hull":
            return super().fills(pose, grid)
        below, _ = crossings(self.corners @ pose.matrix.T + pose.position, self.triangles, grid)
        return np.asarray(below % 2 == 1)

    def rim(self) -> Array:
        return self.corners

    @property
    def said(self) -> str:
        return f"mesh {self.source.rpartition('/')[2]}, {len(self.triangles)} triangles"

    @property
    def collides_as(self) -> str:
        """What is touched of it, in words."""
        told = {"triangles": "its exact triangles", "hull": "its convex hull"}
        if self.collide == "parts":
            return f"{len(self.touched)} convex parts"
        return told.get(self.collide) or self.touched[0][0].said

    @property
    def has_texture(self) -> bool:
        return len(self.uv) > 0

    def scaled(self, factor: float) -> Mesh:
        """The same mesh with all its lengths times a factor."""
        kept: dict[str, Any] = {"collide": self.collide, "fit": self.fit}
        made = Mesh.of(self.corners * factor, self.triangles, name=self.source, uv=self.uv, **kept)
        x, y, z = self.scale
        made.path, made.scale, made.file_unit = self.path, (x * factor, y * factor, z * factor), self.file_unit
        return made

    @cached_property
    def touched(self) -> tuple[tuple[Shape, Pose], ...]:
        """The shapes that are touched, with their poses in the mesh's frame: itself, its convex parts or a fitted one.

        Raises:
            VeldrainError: the mesh is flat and cannot be fitted, or the extra for convex parts is not installed.
        """
        if self.collide in ("hull", "triangles"):
            return ((self, Pose()),)
        if self.collide == "parts":
            clouds = (Mesh.of(corners, [(0, 1, 2)], collide="hull", name=self.source) for corners in self._parts())
            return tuple((cloud.filled_out(), Pose()) for cloud in clouds)
        return (fitted(self, self.collide, self.fit),)

    def filled_out(self) -> Mesh:
        """The mesh's convex hull as a mesh of its own, corners turning left seen from outside."""
        hull = self.hull
        a, b, c = self.corners[hull.simplices].transpose(1, 0, 2)
        outward = np.einsum("ij,ij->i", np.cross(b - a, c - a), hull.equations[:, :3]) > 0
        triangles = np.where(outward[:, None], hull.simplices, hull.simplices[:, ::-1])
        return Mesh.of(self.corners, triangles, collide="hull", name=self.source)

    def _parts(self) -> list[Array]:
        def make() -> list[Array]:
            try:
                import coacd
            except ImportError as error:
                raise VeldrainError(
                    "convex parts need another package",
                    where=self.source,
                    cure="pip install 'veldrain[parts]', or use collide='hull'",
                ) from error
            coacd.set_log_level("error")
            made = coacd.run_coacd(coacd.Mesh(self.corners, self.triangles), threshold=0.05, seed=0)
            return [np.asarray(corners, float) for corners, _ in made]

        return kept_parts(self.corners.tobytes() + self.triangles.tobytes(), make)

    @cached_property
    def hull(self) -> Any:
        """The convex hull, as ``scipy.spatial.ConvexHull`` has it.

        Raises:
            VeldrainError: the mesh is flat.
        """
        from scipy.spatial import ConvexHull, QhullError

        try:
            return ConvexHull(self.corners)
        except (QhullError, ValueError) as error:
            raise VeldrainError(
                "the mesh is flat, so that it has no hull",
                where=self.source,
                cure="use a thin box, or collide='triangles'",
            ) from error

    @cached_property
    def is_closed(self) -> bool:
        """True where every edge has two triangles that turn the same way about the inside."""
        triangles = self.triangles if self.path else joined(self.corners, self.triangles)[1]
        triangles = triangles[(triangles != np.roll(triangles, 1, axis=1)).all(axis=1)]
        starts, ends = triangles.ravel().astype(np.int64), np.roll(triangles, -1, axis=1).ravel()
        count = len(self.corners)
        there, back = np.sort(starts * count + ends), np.sort(ends * count + starts)
        return bool(len(there) and np.array_equal(there, back) and (there[1:] != there[:-1]).all())

    @cached_property
    def _filled(self) -> tuple[float, Array, Array]:
        """Signed volume, centre and inertia about it for 1 kg, as a sum over tetrahedra from the mesh's middle.

        J. Blow and A. J. Binstock, "How to find the inertia tensor of a polyhedron", 2004: the covariance of a
        tetrahedron with a corner at the origin is its determinant / 120 · (Σaᵢ Σaᵢᵀ + Σ aᵢaᵢᵀ).
        """
        middle = self.corners.mean(axis=0)
        at = (self.corners - middle)[self.triangles]
        six = np.einsum("ij,ij->i", at[:, 0], np.cross(at[:, 1], at[:, 2]))
        volume = float(six.sum()) / 6
        if volume == 0:
            return 0.0, middle, np.zeros((3, 3))
        sums = at.sum(axis=1)
        centre = (six @ sums) / 24 / volume
        covariance = (six[:, None] * sums).T @ sums
        for corner in at.transpose(1, 0, 2):
            covariance += (six[:, None] * corner).T @ corner
        covariance = covariance / 120 / volume - np.outer(centre, centre)
        return volume, middle + centre, np.trace(covariance) * np.eye(3) - covariance

    @cached_property
    def _body(self) -> tuple[float, Array, Array]:
        """Volume, centre and inertia for 1 kg."""
        if self.is_closed and self._filled[0] > 0:
            return self._filled
        if self.collide in ("hull", "triangles"):
            broken = "has its inside out" if self.is_closed else "is not closed"
            raise VeldrainError(
                f"the mesh {broken}, so that it has no volume",
                where=self.source,
                cure="close it, or give mass=, com= and inertia= of the link",
            )
        from veldrain.model.inertia import of_parts
        from veldrain.model.shapes import Part

        parts = [Part(shape, pose) for shape, pose in self.touched]
        made = of_parts(parts, 1.0)
        return sum(p.shape.volume for p in parts), made.com, made.inertia

    @property
    def volume(self) -> float:  # type: ignore[override]
        """Volume in m³: of the closed mesh, or of what is touched where a shape was fitted to an open one."""
        return self._body[0]

    @property
    def centre(self) -> Array:
        return self._body[1]

    def unit_inertia(self) -> Array:
        return self._body[2]

    def __deepcopy__(self, memo: dict[int, Any]) -> Mesh:
        return self  # it is never changed, and what was made of it is worth keeping

    def __getstate__(self) -> dict[str, Any]:
        """What describes it, without what was made of it: for another process."""
        words = ("path", "source", "scale", "file_unit", "corners", "triangles", "collide", "fit", "uv")
        return {word: getattr(self, word) for word in words} | {"kept": {}}

    def __eq__(self, other: object) -> bool:
        return (
            isinstance(other, Mesh)
            and (self.collide, self.fit) == (other.collide, other.fit)
            and np.array_equal(self.corners, other.corners)
            and np.array_equal(self.triangles, other.triangles)
        )

    def __hash__(self) -> int:
        return hash((self.source, len(self.triangles)))

    def __repr__(self) -> str:
        return f"Mesh({self.source!r}, {len(self.triangles)} triangles, collide={self.collide!r})"


class HeightField(Mesh):
    """A ground of given heights over a level grid, fixed in the world; touched from above.

    Args:
        heights: (rows, columns) in m: rows go along x, columns along y. The grid's middle is the shape's origin. Where
            a height is not a number there is a hole: no ground.
        spacing: between neighbours, m.

    Raises:
        VeldrainError: less than 2 × 2 heights, one that is infinite, or nothing but holes.

    >>> HeightField(np.zeros((3, 5)), spacing="50 cm").corners[-1].tolist()
    [0.5, 1.0, 0.0]
    """

    def __init__(self, heights: ArrayLike, spacing: Quantity) -> None:
        z = np.asarray(heights, float)
        gap = quantity(spacing, "length", "spacing")
        self.path, self.source, self.scale, self.file_unit = None, "height field", (1.0, 1.0, 1.0), 1.0
        if z.ndim != 2 or min(z.shape) < 2 or np.isinf(z).any() or not 0 < gap < np.inf:
            raise VeldrainError(
                f"heights of shape {z.shape} {gap:g} m apart",
                where=self.source,
                cure="give at least 2 × 2 finite heights and a spacing above zero",
            )
        there = np.isfinite(z)
        cells = there[:-1, :-1] & there[1:, 1:]
        if not (cells & (there[1:, :-1] | there[:-1, 1:])).any():
            raise VeldrainError("nothing but holes", where=self.source, cure="give heights that are numbers")
        self.holes = int(z.size - there.sum())
        self.heights, self.spacing = z, gap
        self.collide, self.fit, self.uv, self.kept = "triangles", "volume", np.zeros((0, 3, 2)), {}

    @cached_property
    def corners(self) -> Array:  # type: ignore[override]
        """The grid's points (rows · columns, 3), m: made when they are asked for, as few have need of them."""
        x, y = np.meshgrid(*(_middled(count) * self.spacing for count in self.heights.shape), indexing="ij")
        return np.stack([x, y, np.nan_to_num(self.heights)], axis=-1).reshape(-1, 3)

    @cached_property
    def triangles(self) -> NDArray[np.int64]:  # type: ignore[override]
        """The numbers of their corners (n, 3), two triangles a cell; none at a hole."""
        k = np.arange(self.heights.size).reshape(self.heights.shape)
        a, b, c, d = k[:-1, :-1], k[1:, :-1], k[1:, 1:], k[:-1, 1:]
        found = np.concatenate([np.stack(t, axis=-1).reshape(-1, 3) for t in ((a, b, c), (a, c, d))])
        return np.asarray(found[np.isfinite(self.heights).ravel()[found].all(axis=1)])

    @property
    def said(self) -> str:
        rows, columns = self.heights.shape
        return f"height field, {rows} × {columns} heights"

    def __getstate__(self) -> dict[str, Any]:
        made = {word: self.__dict__[word] for word in self.__dict__ if word not in ("corners", "triangles")}
        return made | {"kept": {}}

    def __eq__(self, other: object) -> bool:
        return (
            isinstance(other, HeightField)
            and self.spacing == other.spacing
            and np.array_equal(self.heights, other.heights, equal_nan=True)
        )

    def __hash__(self) -> int:
        return hash((self.heights.shape, self.spacing))

    def __repr__(self) -> str:
        return f"HeightField({self.heights.shape[0]} × {self.heights.shape[1]} heights, {self.spacing:g} m apart)"

    def fills(self, pose: Pose, grid: Grid, solid_hull: bool = False) -> Bools:
        """It is solid below: one crossing a column."""
        below, all_of_them = crossings(self.corners @ pose.matrix.T + pose.position, self.triangles, grid)
        return np.asarray((below == 0) & (all_of_them > 0)[:, :, None])

    @classmethod
    def of_function(
        cls, height: Callable[[Array, Array], ArrayLike], size: Sequence[Quantity], *, spacing: Quantity = 0.1
    ) -> HeightField:
        """Heights from a function of x and y (arrays, m) over a rectangle of edges ``size`` about the origin.

        >>> HeightField.of_function(lambda x, y: 0.1 * np.sin(x), (6, 2), spacing="50 cm").corners.shape
        (65, 3)
        """
        gap = quantity(spacing, "length", "spacing")
        x, y = np.meshgrid(*_axes(size, gap), indexing="ij")
        return cls(np.broadcast_to(np.asarray(height(x, y), float), x.shape), gap)

    @classmethod
    def of_image(cls, path: str | Path, height: Quantity, *, spacing: Quantity = 0.1) -> HeightField:
        """Heights from a picture: black is 0, white is ``height``; its top is ahead (x), its left is left (y).

        Raises:
            VeldrainError: the file is not there or no picture.
        """
        from PIL import Image, UnidentifiedImageError

        try:
            with Image.open(path) as picture:
                deep = picture.mode.startswith("I")
                levels = np.asarray(picture if deep else picture.convert("L"), float) / (65535 if deep else 255)
        except (OSError, UnidentifiedImageError) as error:
            said = "no such image" if isinstance(error, FileNotFoundError) else "is not an image"
            raise VeldrainError(said, where=str(path), cure="give a PNG or JPEG file") from error
        return cls(levels[::-1, ::-1] * quantity(height, "length", "height"), spacing)

    @classmethod
    def rough(
        cls, size: Sequence[Quantity], height: Quantity, *, length: Quantity, spacing: Quantity = 0.05, seed: int = 0
    ) -> HeightField:
        """Rough ground over a rectangle: smooth noise of a mean of 0, whose heights deviate by ``height`` (RMS, m).

        Args:
            size: edges of the rectangle, m.
            height: standard deviation of the heights, m.
            length: over which they are correlated: e^(−d²/length²) at a distance d.
            spacing: of the grid, m.
            seed: the same seed, the same ground.
        """
        from scipy.ndimage import gaussian_filter

        gap, far = (quantity(value, "length", "rough") for value in (spacing, length))
        rows, columns = (len(axis) for axis in _axes(size, gap))
        noise = np.random.default_rng(checked_seed(seed)).standard_normal((rows, columns))
        # Noise that is smoothed by a bell of deviation s is correlated by e^(−d²/4s²).
        smooth = gaussian_filter(noise, far / 2 / gap, mode="wrap")
        deviation = smooth.std()
        level = (smooth - smooth.mean()) / deviation if deviation > 0 else smooth
        return cls(level * quantity(height, "length", "rough"), gap)


def _middled(count: int) -> Array:
    return np.arange(float(count)) - (count - 1) / 2


def _axes(size: Sequence[Quantity], gap: float) -> list[Array]:
    edges = quantities(size, "length", "height field", 2)
    if not all(0 < gap <= edge < np.inf for edge in edges):
        told = f"a size of {edges[0]:g} × {edges[1]:g} m with heights {gap:g} m apart"
        raise VeldrainError(told, where="height field", cure="give a size larger than the spacing")
    return [_middled(round(edge / gap) + 1) * gap for edge in edges]
