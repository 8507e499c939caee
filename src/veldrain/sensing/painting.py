"""Light from surfaces to pixels: one ray a pixel, more where neighbours differ, shadows towards every light.

Surfaces scatter evenly (J. H. Lambert): luminance L = ρ/π·E, with E the illuminance by the sun and lamps that are not
hidden, and by the sky, of which a surface gets the share (1 + n_z)/2. Air of extinction σ takes from a way r all but
e^(−σr) and adds its own haze. Units are lx and cd/m², colours linear.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from veldrain.kernel import entry, inlined, kernel, vector_entry
from veldrain.model import Box, Look, Mesh, Surroundings, World
from veldrain.model.colours import rgba
from veldrain.physics.engine import Engine
from veldrain.physics.plant import BOX, MESH, PLANE
from veldrain.physics.scene import Scene
from veldrain.physics.spatial import add, dot, minus, put, scaled, triple, turned, turned_back
from veldrain.physics.threads import in_parts
from veldrain.physics.tracing import trace
from veldrain.pose import Array

PAINT = np.dtype(
    [(name, np.int64) for name in ("kind", "first", "rows", "columns", "uv")]
    + [("tile", np.float64), ("colour", np.float64, 3), ("other", np.float64, 3)]
)
PLAIN, CHECKER, IMAGE = range(3)
SUN, LAMP = 0.0, 1.0
FEWEST = 500  # rays that are worth a thread
CLEAR = 0.12  # of their sum: what neighbours may differ by and need no more rays
LIFT = 1e-6  # m: shadow rays start this much off a surface


def linear(colour: str) -> Array:
    """A colour's red, green and blue as light (IEC 61966-2-1), 0 to 1."""
    values = np.array(rgba(colour)[:3])
    return np.where(values <= 0.04045, values / 12.92, ((values + 0.055) / 1.055) ** 2.4)


class Paints(NamedTuple):
    """What kernels need beside the scene's view."""

    paints: NDArray[np.void]  # (sights,)
    texels: NDArray[np.uint8]  # (n, 3) of all pictures
    uvs: Array  # (n, 6) of triangles, as the view has them
    light_of: Array  # (256,) of a picture's numbers
    lights: Array  # (n, 7): SUN or LAMP, direction or position, and red, green, blue in lx or cd
    sky: Array  # (3, 3): luminance overhead and at the horizon, cd/m²; illuminance, lx
    haze: Array  # (4,): extinction, 1/m, and the luminance of air, cd/m²


class Painter:
    """A scene with its looks and lights.

    Args:
        scene: what there is to see.
        surroundings: its lights and its air.
        looks: what each sight looks like; None: as the scene has them.
    """

    def __init__(self, scene: Scene, surroundings: Surroundings, looks: list[Look] | None = None) -> None:
        self.scene, self.surroundings = scene, surroundings
        self._paints = self._mixed(looks or scene.looks)

    def _mixed(self, looks: list[Look]) -> Paints:
        paints = np.zeros(len(looks), PAINT)
        texels: dict[int, tuple[int, NDArray[np.uint8]]] = {}
        used, uvs, used_uvs = 0, [np.zeros((0, 6))], 0
        for paint, look, sight in zip(paints, looks, self.scene.sights, strict=True):
            paint["colour"], paint["tile"], paint["uv"] = linear(look.colour), look.tile, -1
            if look.checker is not None:
                paint["kind"], paint["other"] = CHECKER, linear(look.checker)
            shape = sight.shape
            if look.image is None or not isinstance(shape, Box | Mesh | None):
                continue
            if isinstance(shape, Mesh):
                if not len(shape.uv):
                    continue
                paint["uv"] = used_uvs - self.scene.first_triangle[id(shape)]
                uvs.append(shape.uv.reshape(-1, 6)[shape.kept["sight"][0].order])
                used_uvs += len(shape.uv)
            if id(look.image) not in texels:
                texels[id(look.image)] = used, look.image.reshape(-1, 3)
                used += look.image.shape[0] * look.image.shape[1]
            paint["kind"], paint["first"] = IMAGE, texels[id(look.image)][0]
            paint["rows"], paint["columns"] = look.image.shape[:2]
        levels = np.arange(256) / 255
        light_of = np.where(levels <= 0.04045, levels / 12.92, ((levels + 0.055) / 1.055) ** 2.4)
        all_texels = np.concatenate([np.zeros((0, 3), np.uint8), *(rows for _, rows in texels.values())])
        w, sky = self.surroundings, self.surroundings.sky
        top, horizon = linear(sky.colour), linear(sky.horizon)
        mean = (top + horizon) / 2
        mean = mean / max(mean.max(), 1e-9)
        glow = np.stack([top, horizon]) / max(mean.max(), 1e-9) * sky.lux / math.pi
        daylight = w.sun.lux * max(math.sin(w.sun.elevation), 0.0)
        haze = horizon / max(horizon.max(), 1e-9) * (sky.lux + 0.3 * daylight) / math.pi
        return Paints(
            paints,
            np.ascontiguousarray(all_texels),
            np.concatenate(uvs),
            light_of,
            np.zeros((0, 7)),
            np.concatenate([glow, mean[None] * sky.lux]),
            np.array([w.air.extinction, *haze]),
        )

    def _lights(self) -> Array:
        """The lights as they are now: lamps move with what carries them."""
        sun = self.surroundings.sun
        rows = [(LAMP, *at, *(lamp.candela * linear(lamp.colour))) for lamp, at in self.lamp_places()]
        if sun.elevation > 0 and sun.lux > 0:
            rows.append((SUN, *sun.direction, *(sun.lux * linear(sun.colour))))
        return np.array(rows, float).reshape(-1, 7)

    def lamp_places(self) -> list[tuple[Any, Array]]:
        """Lamps with their positions in the world."""
        return [(lamp, self.scene.point_on(lamp.link, np.array(lamp.position))) for lamp in self.surroundings.lamps]

    def shoot(
        self,
        positions: Array,
        axes: Array,
        rows: NDArray[np.int32],
        ways: Array,
        near: float,
        far: float,
        is_flat: bool = True,
        is_shaded: bool = True,
    ) -> tuple[NDArray[np.float32], Array, NDArray[np.int32]]:
        """Luminance (n, 3), distances (n,) and sights (n,) (−1: nothing) along rays.

        Args:
            positions: (rows, 3) of the eye.
            axes: (rows, 3, 3) of the eye.
            rows: (n,) which of them each ray has.
            ways: (n, 3) unit directions in the eye's axes.
            near: where seeing begins, m.
            far: where it ends.
            is_flat: True measures near and far along x of the eye, False along the ray.
            is_shaded: False leaves the luminance undefined.
        """
        count = len(ways)
        light, distances, sights = np.empty((count, 3), np.float32), np.empty(count), np.empty(count, np.int32)
        paints = self._paints._replace(lights=self._lights())
        self.scene.stack(0)

        def part(first: int, end: int, thread: int) -> None:
            paint(
                self.scene.view,
                paints,
                *self.scene.stack(thread),
                positions,
                axes,
                rows[first:end],
                ways[first:end],
                near,
                far,
                is_flat,
                is_shaded,
                light[first:end],
                distances[first:end],
                sights[first:end],
            )

        in_parts(count, FEWEST, part)
        return light, distances, sights


@kernel
def texel(p, paint, row, column):
    """A picture's light at a row and column."""
    at = paint.first + row * paint.columns + column
    return p.light_of[p.texels[at, 0]], p.light_of[p.texels[at, 1]], p.light_of[p.texels[at, 2]]


@kernel
def picture_at(p, paint, u, v, repeats):
    """A picture's light at (u, v), (0, 0) being its lower left: between the four nearest points."""
    x, y = u * paint.columns - 0.5, (1.0 - v) * paint.rows - 0.5
    i, j = math.floor(y), math.floor(x)
    a, b = y - i, x - j
    if repeats:
        i0, i1, j0, j1 = i % paint.rows, (i + 1) % paint.rows, j % paint.columns, (j + 1) % paint.columns
    else:
        i0, i1 = min(max(i, 0), paint.rows - 1), min(max(i + 1, 0), paint.rows - 1)
        j0, j1 = min(max(j, 0), paint.columns - 1), min(max(j + 1, 0), paint.columns - 1)
    top = add(scaled(texel(p, paint, i0, j0), 1.0 - b), scaled(texel(p, paint, i0, j1), b))
    low = add(scaled(texel(p, paint, i1, j0), 1.0 - b), scaled(texel(p, paint, i1, j1), b))
    return add(scaled(top, 1.0 - a), scaled(low, a))


@kernel
def colour_at(p, paint, s, at, n, triangle, x, y):
    """What share of light a point of a sight gives back: red, green, blue."""
    if paint.kind == CHECKER:
        inside = minus(at, scaled(n, 1e-4 * paint.tile))
        odd = 0
        for k in range(3):
            odd += math.floor(inside[k] / paint.tile)
        return triple(paint.colour) if odd % 2 == 0 else triple(paint.other)
    if paint.kind == IMAGE:
        if s.kind == PLANE:
            return picture_at(p, paint, -at[1] / paint.tile, at[0] / paint.tile, True)
        if s.kind == MESH:
            uv = p.uvs[triangle + paint.uv]
            rest = 1.0 - x - y
            return picture_at(
                p, paint, rest * uv[0] + x * uv[2] + y * uv[4], rest * uv[1] + x * uv[3] + y * uv[5], True
            )
        if s.kind == BOX:
            # Right and up as seen from outside: up is z on the sides, x above and below.
            if abs(n[2]) > 0.5:
                u, v = -math.copysign(1.0, n[2]) * at[1] / s.size[1], at[0] / s.size[0]
            elif abs(n[0]) > 0.5:
                u, v = math.copysign(1.0, n[0]) * at[1] / s.size[1], at[2] / s.size[2]
            else:
                u, v = -math.copysign(1.0, n[1]) * at[0] / s.size[0], at[2] / s.size[2]
            return picture_at(p, paint, 0.5 + 0.5 * u, 0.5 + 0.5 * v, False)
    return triple(paint.colour)


@kernel
def sky_at(p, d):
    """Luminance of the sky in a direction."""
    up = math.sqrt(max(d[2], 0.0))
    return add(scaled(triple(p.sky[1]), 1.0 - up), scaled(triple(p.sky[0]), up))


@inlined
def lit(view, p, room, stack, near, at, n):
    """Illuminance of a point with a normal: red, green, blue."""
    got = scaled(triple(p.sky[2]), 0.5 + 0.5 * n[2])
    for k in range(len(p.lights)):
        light = p.lights[k]
        way, far, strength = (light[1], light[2], light[3]), math.inf, 1.0
        if light[0] == LAMP:
            way = minus(way, at)
            far = math.sqrt(dot(way, way))
            if far < 1e-9:
                continue
            way, strength = scaled(way, 1.0 / far), 1.0 / (far * far)
        cosine = dot(way, n)
        if cosine <= 0.0:
            continue
        start = add(at, scaled(n, LIFT * (1.0 + abs(at[0]) + abs(at[1]) + abs(at[2]))))
        hidden = trace(view, room, stack, near, start, way, far, True)
        if hidden[1] < 0:
            got = add(got, scaled((light[4], light[5], light[6]), strength * cosine))
    return got


@vector_entry
def paint(
    view, p, room, stack, nearest, positions, axes, rows, ways, near, far, is_flat, is_shaded, light, distances, sights
):
    """Fill luminance (n, 3), distances (n,) and sights (n,) of rays."""
    for k in range(len(ways)):
        o, local = triple(positions[rows[k]]), triple(ways[k])
        d = turned(axes[rows[k]], local)
        scale = 1.0 / local[0] if is_flat else 1.0
        start = near * scale
        found = trace(view, room, stack, nearest, add(o, scaled(d, start)), d, far * scale - start, False)
        t, sight = found[0] + start, found[1]
        distances[k], sights[k] = t, sight
        if not is_shaded:
            continue
        if sight < 0:
            colour = sky_at(p, d)
            if p.haze[0] > 0.0:
                colour = triple(p.haze[1:])
        else:
            s = view.sights[sight]
            n = (found[2], found[3], found[4])
            at = add(o, scaled(d, t))
            inside = turned_back(s.rot, minus(at, triple(s.pos)))
            share = colour_at(p, p.paints[sight], s, inside, n, found[5], found[6], found[7])
            n = turned(s.rot, n)
            if dot(n, d) > 0.0:
                n = scaled(n, -1.0)
            got = lit(view, p, room, stack, nearest, at, n)
            colour = (share[0] * got[0] / math.pi, share[1] * got[1] / math.pi, share[2] * got[2] / math.pi)
            if p.haze[0] > 0.0:
                left = math.exp(-p.haze[0] * t)
                colour = add(scaled(colour, left), scaled(triple(p.haze[1:]), 1.0 - left))
        for r in range(3):
            light[k, r] = colour[r]


def within(corners: Array, u: NDArray[np.int64], v: NDArray[np.int64], side: int) -> Array:
    """Unit vectors (n·side², 3) spread evenly over pixels (n,), between the vectors (rows + 1, columns + 1, 3) of their
    corners."""
    ways = np.empty((len(u) * side * side, 3))
    in_parts(
        len(u),
        FEWEST,
        lambda first, end, _: spread_rays(
            corners, u[first:end], v[first:end], side, ways[first * side * side : end * side * side]
        ),
    )
    return ways


@entry
def spread_rays(corners, u, v, side, ways):
    """Fill unit vectors, see ``within``."""
    for k in range(len(u)):
        for i in range(side):
            for j in range(side):
                a, b = (i + 0.5) / side, (j + 0.5) / side
                top = add(scaled(triple(corners[v[k], u[k]]), 1.0 - b), scaled(triple(corners[v[k], u[k] + 1]), b))
                low = add(
                    scaled(triple(corners[v[k] + 1, u[k]]), 1.0 - b), scaled(triple(corners[v[k] + 1, u[k] + 1]), b)
                )
                way = add(scaled(top, 1.0 - a), scaled(low, a))
                put(ways[(k * side + i) * side + j], scaled(way, 1.0 / math.sqrt(dot(way, way))))


def edges(light: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Pixels (h, w) whose luminance (h, w, 3) differs clearly from a neighbour's, to the right or below."""
    grey = light @ np.array((0.2126, 0.7152, 0.0722), np.float32)
    found = np.zeros(grey.shape, bool)
    for one, other in (
        ((slice(None), slice(1, None)), (slice(None), slice(None, -1))),
        ((slice(1, None), slice(None)), (slice(None, -1), slice(None))),
    ):
        differs = np.abs(grey[one] - grey[other]) > CLEAR * (grey[one] + grey[other])
        found[one] |= differs
        found[other] |= differs
    return found


_CODES = np.round(
    255
    * np.where((_LEVELS := np.linspace(0, 1, 4096)) <= 0.0031308, 12.92 * _LEVELS, 1.055 * _LEVELS ** (1 / 2.4) - 0.055)
).astype(np.uint8)


def developed(light: NDArray[np.float32], white: float, is_linear: bool = False) -> NDArray[np.uint8]:
    """Luminance as numbers of a picture (sRGB, or linear), ``white`` (cd/m²) and more being 255."""
    level = light * np.float32(4095.0 / white)
    np.clip(level, 0.0, 4095.0, out=level)
    if is_linear:
        return np.asarray(level * np.float32(255 / 4095) + np.float32(0.5), np.float32).astype(np.uint8)
    return np.asarray(_CODES[(level + np.float32(0.5)).astype(np.uint16)])


PAINTERS = 1  # kernels that ``prepare_painting`` compiles


def prepare_painting() -> None:
    """Compile what paints, or load it from the cache: a tiny world is painted once."""
    world = World().ground()
    painter = Painter(Engine(world, 1e-3).scene, world.surroundings)
    ahead, one = np.array([[1.0, 0.0, 0.0]]), np.zeros(1, np.int32)
    painter.shoot(np.zeros((1, 3)), np.eye(3)[None], one, ahead, 0.0, 1.0)
    within(np.ones((2, 2, 3)), np.zeros(1, np.int64), np.zeros(1, np.int64), 1)
