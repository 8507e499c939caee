"""Cameras: colour, grey, depth and labels, through a pinhole or a fisheye lens."""

from __future__ import annotations

import io
import json
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from types import SimpleNamespace as Fields
from typing import Any, Unpack

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.spatial.transform import Rotation

from veldrain.errors import VeldrainError, unknown
from veldrain.model import Mount
from veldrain.pose import Array, Pose
from veldrain.sensing.lenses import Lens
from veldrain.sensing.noise import above_zero, not_negative
from veldrain.sensing.painting import Painter, developed, edges, within
from veldrain.sensing.timing import Timed, Timing
from veldrain.units import Quantity, quantity

GIVES = {"rgb": "rgb8", "grey": "mono8", "depth": "32FC1", "labels": "mono16"}
CODINGS = ("raw", "png", "jpeg")
OPTICAL = Pose(rotation=Rotation.from_matrix([[0, 0, 1], [-1, 0, 0], [0, -1, 0]]))  # z forward, x right, y down
GREY = np.array((0.2126, 0.7152, 0.0722), np.float32)  # ITU-R BT.709
MIDDLE = 0.18  # of white: what an automatic exposure makes of the mean


@dataclass(frozen=True)
class Image:
    """A picture.

    Attributes:
        pixels: (h, w, 3) of uint8; (h, w) of uint8 in grey; (h, w) of float32 in depth, m along the camera's axis (of a
            fisheye along the ray), inf where there is nothing; (h, w) of uint16 in labels: 0 where there is nothing,
            else a number of ``names``.
        exposure: time in s.
        names: of labels, from 1 on: what each number stands for.
        boxes: of labels: name, and the least and greatest column and row, (left, top, right, bottom), of what is seen.
        age: from the first row to the stamp, s.
    """

    pixels: NDArray[Any]
    exposure: float = 0.0
    names: tuple[str, ...] = ()
    boxes: tuple[tuple[str, tuple[int, int, int, int]], ...] = ()
    age: float = 0.0


class Camera(Timed):
    """A camera that looks along +x of its mount, y to its left, z up.

    Its numbers: luminance L in cd/m² exposes a pixel by H = π/4·L·t/N² lx·s, which is white at 78/S for the speed S
    (ISO 12232). With ``full_well`` it counts electrons: their number varies as Poisson's law has it (deviation √n), and
    reading adds its own noise.

    Args:
        period: s.
        size: (columns, rows) in pixels.
        field: horizontal field of view, rad; leave it out where ``focal`` is given.
        focal: focal length in pixels.
        gives: ``rgb``, ``grey``, ``depth`` (m) or ``labels`` (which link or thing).
        near: what is nearer along its axis is not seen, m.
        far: nor what is farther, m.
        distortion: (k1, k2, p1, p2, k3) of a pinhole (D. C. Brown, Photogrammetric Engineering 37, 1971), or (k1 … k4)
            of a fisheye: r = f·(θ + k1·θ³ + k2·θ⁵ + …). Left out: none.
        fisheye: True for a lens that puts equal angles at equal distances (equidistant).
        exposure: time, s; None: so that the mean of a picture is 18 % of white.
        f_number: of the lens, N.
        iso: speed, S.
        full_well: electrons of a white pixel at ISO 100; None: no noise.
        read_noise: standard deviation, electrons.
        depth_noise: of depth: its deviation is this times depth², 1/m.
        linear: True: numbers go with light, as in cameras for measuring; False: as in those for looking (sRGB), which
            moves edges by some 0.3 pixels into the dark.
        readout: time from the first row to the last, each from where the camera then is, s. 0: all at once.
        samples: rays a side in pixels where neighbours differ: 2 are 4 rays.
        coding: ``raw``, or ``png`` or ``jpeg`` for compressed pictures.
        timing: see ``Timing``.

    Raises:
        VeldrainError: a pinhole of 180° or more, no pixels, near beyond far, a distortion that folds the picture over.

    >>> round(Camera(size=(640, 480), field="90 deg").focal, 6)
    320.0
    """

    perfect = {"full_well": None, "read_noise": 0.0, "depth_noise": 0.0}
    optical = OPTICAL

    def __init__(
        self,
        period: Quantity = 0.1,
        size: Sequence[int] = (640, 480),
        field: Quantity | None = None,
        focal: float | None = None,
        gives: str = "rgb",
        near: Quantity = 0.01,
        far: Quantity = 1e3,
        distortion: Sequence[float] = (),
        fisheye: bool = False,
        exposure: Quantity | None = None,
        f_number: float = 2.8,
        iso: float = 100.0,
        full_well: float | None = None,
        read_noise: float = 0.0,
        depth_noise: float = 0.0,
        linear: bool = False,
        readout: Quantity = 0.0,
        samples: int = 2,
        coding: str = "raw",
        **timing: Unpack[Timing],
    ) -> None:
        super().__init__(period, **timing)
        if gives not in GIVES:
            raise unknown("kind of picture", gives, GIVES, "Camera gives")
        if coding not in CODINGS:
            raise unknown("coding", coding, CODINGS, "Camera coding")
        if coding != "raw" and gives == "depth":
            raise VeldrainError("depth cannot be coded as a picture", where="Camera coding", cure="write raw")
        if coding == "jpeg" and gives == "labels":
            raise VeldrainError("labels do not survive JPEG", where="Camera coding", cure="write png or raw")
        angle = None if field is None else quantity(field, "angle", "Camera field")
        self.lens = Lens(tuple(size), angle, focal, tuple(distortion), fisheye)
        self.gives, self.coding = gives, coding
        self.near, self.far = quantity(near, "length", "Camera near"), quantity(far, "length", "Camera far")
        if not 0 <= self.near < self.far:
            raise VeldrainError(f"near is {self.near:g} m and far {self.far:g} m", where="Camera",
                                cure="near is less than far")  # fmt: skip
        self.reach = self.far
        self.exposure = None if exposure is None else above_zero(exposure, "time", "Camera exposure")
        self.f_number, self.iso = (
            above_zero(f_number, "ratio", "Camera f_number"),
            above_zero(iso, "ratio", "Camera iso"),
        )
        self.full_well = None if full_well is None else above_zero(full_well, "ratio", "Camera full_well")
        self.read_noise = not_negative(read_noise, "ratio", "Camera read_noise")
        self.depth_noise = not_negative(depth_noise, "ratio", "Camera depth_noise")
        self.readout = not_negative(readout, "time", "Camera readout")
        if self.readout > self.period:
            raise VeldrainError(f"readout is {self.readout:g} s and period {self.period:g} s", where="Camera",
                                cure="readout is at most a period")  # fmt: skip
        if samples < 1:
            raise VeldrainError(f"{samples} samples", where="Camera", cure="give 1 or more")
        self.samples, self.linear = samples, linear

    @property
    def message(self) -> str:  # type: ignore[override]
        """The ROS 2 message of its pictures."""
        return "sensor_msgs/msg/Image" if self.coding == "raw" else "sensor_msgs/msg/CompressedImage"

    @property
    def companions(self) -> dict[str, str]:
        """Streams that go with its own, and their messages."""
        return {"camera_info": "sensor_msgs/msg/CameraInfo"} | (
            {"boxes": "std_msgs/msg/String"} if self.gives == "labels" else {}
        )

    @property
    def focal(self) -> float:
        """Focal length in pixels."""
        return self.lens.focal

    @property
    def matrix(self) -> Array:
        """The matrix K (3, 3) of the optical frame: focal length and the picture's middle, in pixels."""
        return self.lens.matrix

    @cached_property
    def directions(self) -> Array:
        """Unit vectors (n, 3) of some rays over the picture, in the mount: for the check."""
        return self.lens.some_rays()

    def project(self, points: ArrayLike) -> Array:
        """Pixels (n, 2), column and row, of points (n, 3) in the mount's axes, m; nan behind the camera.

        >>> Camera(size=(640, 480), focal=500).project([(2.0, 0.1, 0.0)]).tolist()
        [[294.5, 239.5]]
        """
        return self.lens.project(np.asarray(points, float))

    def white(self, exposure: float) -> float:
        """Luminance that is just white, cd/m²."""
        return 4 * self.f_number**2 * 78 / (math.pi * exposure * self.iso)

    def start(self, mount: Mount, random: np.random.Generator) -> Callable[[], Image]:
        scene = mount.scene()
        painter = Painter(scene, mount.world)
        names = tuple(dict.fromkeys(scene.names))
        label_of = np.array([0, *(names.index(name) + 1 for name in scene.names)], np.uint16)
        columns, rows = self.lens.size

        def measure() -> Image:
            scene.follow()
            positions, axes = self._eyes(mount)
            light, distances, sights = self.paint(painter, positions, axes)
            if self.gives == "depth":
                depth = distances * self.lens.rays[:, 0] if not self.lens.fisheye else distances
                if self.depth_noise > 0:
                    off = random.standard_normal(len(depth)) * self.depth_noise
                    depth = depth + off * np.where(np.isfinite(depth), depth, 0.0) ** 2
                return Image(depth.reshape(rows, columns).astype(np.float32), age=self.readout)
            if self.gives == "labels":
                labels = label_of[sights + 1].reshape(rows, columns)
                return Image(labels, names=names, boxes=_boxes(labels, names), age=self.readout)
            exposure = self.exposure
            if exposure is None:
                mean = max(float((light @ GREY).mean()), 1e-12)
                exposure = self.white(1.0) * MIDDLE / mean
            white = self.white(exposure)
            if self.gives == "grey":
                light = (light @ GREY)[..., None]
            if self.full_well is not None:
                light = self._counted(light, white, random)
            pixels = developed(light, white, self.linear)
            return Image(pixels[..., 0] if self.gives == "grey" else pixels, exposure, age=self.readout)

        return measure

    def paint(
        self, painter: Painter, positions: Array, axes: Array
    ) -> tuple[NDArray[np.float32], Array, NDArray[np.int32]]:
        """Luminance (rows, columns, 3); distances and sights (rows·columns,) of rays through the pixels' middles."""
        lens = self.lens
        (columns, rows), is_flat = lens.size, not lens.fisheye
        row = np.repeat(np.arange(rows, dtype=np.int32), columns)
        is_shaded = self.gives in ("rgb", "grey")
        light, distances, sights = painter.shoot(
            positions, axes, row, lens.rays, self.near, self.far, is_flat, is_shaded
        )
        light = light.reshape(rows, columns, 3)
        if self.samples > 1 and is_shaded:
            v, u = np.nonzero(edges(light))
            ways = within(lens.corners, u, v, self.samples)
            many = self.samples**2
            finer, _, _ = painter.shoot(
                positions, axes, np.repeat(v.astype(np.int32), many), ways, self.near, self.far, is_flat
            )
            light[v, u] = finer.reshape(-1, many, 3).mean(axis=1)
        return light, distances, sights

    def _eyes(self, mount: Mount) -> tuple[Array, Array]:
        """Where the camera is at each row's time: positions (rows, 3) and axes (rows, 3, 3)."""
        rows = self.lens.size[1]
        position, axes = mount.position(), mount.axes()
        if self.readout == 0:
            return np.broadcast_to(position, (rows, 3)).copy(), np.broadcast_to(axes, (rows, 3, 3)).copy()
        linear, angular, _ = mount.motion()
        lead = (np.arange(1, rows + 1) / rows - 1) * self.readout
        turns = Rotation.from_rotvec(lead[:, None] * angular).as_matrix()
        return position + lead[:, None] * linear, turns @ axes

    def _counted(self, light: NDArray[np.float32], white: float, random: np.random.Generator) -> NDArray[np.float32]:
        """Light as counted electrons tell it."""
        assert self.full_well is not None
        well = self.full_well * 100 / self.iso
        electrons = np.minimum(light / white, 1.0) * well
        noise = random.standard_normal(light.shape, np.float32) * np.sqrt(electrons + self.read_noise**2)
        return np.asarray((electrons + noise) * (white / well), np.float32)

    def to_message(self, reading: Image) -> Fields:
        pixels = reading.pixels
        if self.coding != "raw":
            from PIL import Image as Pillow

            out = io.BytesIO()
            Pillow.fromarray(pixels).save(out, self.coding, **({"compress_level": 1} if self.coding == "png" else {}))
            data = np.frombuffer(out.getvalue(), np.uint8)
            return Fields(format=f"{GIVES[self.gives]}; {self.coding} compressed", data=data)
        return Fields(
            height=pixels.shape[0],
            width=pixels.shape[1],
            encoding=GIVES[self.gives],
            is_bigendian=0,
            step=pixels.strides[0],
            data=np.ascontiguousarray(pixels).reshape(-1).view(np.uint8),
        )

    def to_companions(self, reading: Image) -> dict[str, Fields]:
        """Messages of the streams that go with its own."""
        columns, rows = self.lens.size
        k = self.matrix
        info = Fields(
            height=rows, width=columns, distortion_model="equidistant" if self.lens.fisheye else "plumb_bob",
            d=np.array(self.lens.distortion or (0.0,) * (4 if self.lens.fisheye else 5)), k=k.ravel(),
            r=np.eye(3).ravel(), p=np.column_stack([k, np.zeros(3)]).ravel(), binning_x=0, binning_y=0,
            roi=Fields(x_offset=0, y_offset=0, height=0, width=0, do_rectify=False),
        )  # fmt: skip
        if self.gives != "labels":
            return {"camera_info": info}
        seen = [{"name": name, "left": b[0], "top": b[1], "right": b[2], "bottom": b[3]} for name, b in reading.boxes]
        numbers = {name: k for k, name in enumerate(reading.names, start=1)}
        return {"camera_info": info, "boxes": Fields(data=json.dumps({"labels": numbers, "boxes": seen}))}


def _boxes(labels: NDArray[np.uint16], names: Sequence[str]) -> tuple[tuple[str, tuple[int, int, int, int]], ...]:
    """The box around each label that is seen."""
    from scipy.ndimage import find_objects

    spans = find_objects(labels.astype(np.int32))
    return tuple(
        (names[k], (columns.start, rows.start, columns.stop - 1, rows.stop - 1))
        for k, span in enumerate(spans) if span is not None for rows, columns in (span,)
    )  # fmt: skip
