"""Cameras: colour, grey, depth and labels, through a pinhole or a fisheye lens."""

from __future__ import annotations

import io
import itertools
import json
import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from veldrain.errors import VeldrainError
from veldrain.model.sensor import Fields, Message, Mount, Sensor, Sight, looking
from veldrain.pose import Array, Pose
from veldrain.sensing.lenses import Lens
from veldrain.sensing.painting import Painter, developed, edges, within
from veldrain.sheet import Choice, Flag, Made, Maybe, Number, Whole
from veldrain.units import Quantity, quantities

OUTPUTS = {"rgb": "rgb8", "grey": "mono8", "depth": "32FC1", "labels": "mono16"}
ENCODINGS = ("raw", "png", "jpeg")
OPTICAL = Pose.of(np.zeros(3), np.array([[0.0, 0, 1], [-1, 0, 0], [0, -1, 0]]))  # z forward, x right, y down
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
        gain: of an automatic exposure, where its longest time is not enough: 1 elsewhere.
        names: of labels, from 1 on: what each number stands for.
        boxes: of labels: name, and the least and greatest column and row, (left, top, right, bottom), of what is seen.
    """

    pixels: NDArray[Any]
    exposure: float = 0.0
    names: tuple[str, ...] = ()
    boxes: tuple[tuple[str, tuple[int, int, int, int]], ...] = ()
    gain: float = 1.0


def _whole(value: Any, where: str) -> tuple[int, ...]:
    return tuple(value) if hasattr(value, "__len__") else (value,)


def _floats(value: Any, where: str) -> tuple[float, ...]:
    return quantities(value, "ratio", where, len(value) if hasattr(value, "__len__") else 0)


class Camera(Sensor):
    """A camera that looks along +x of its mount, y to its left, z up.

    Use it for what a program sees: colour, grey, depth or labels. Its numbers: luminance L in cd/m² exposes a pixel by
    H = π/4·L·t/N² lx·s, which is white at 78/S for the speed S (ISO 12232). An automatic exposure makes the mean of
    each picture 18 % of white, as far as its longest time and then its largest gain go: beyond them it is dark. With
    ``full_well`` it counts electrons: their number varies as Poisson's law has it (deviation √n), and reading adds its
    own noise.

    Raises:
        VeldrainError: a pinhole of 180° or more, no pixels, near beyond far, a distortion that folds the picture over.

    >>> round(Camera(size=(640, 480), field_of_view="90 deg").focal_length, 6)
    320.0
    """

    optical = OPTICAL

    period: Number = Number("period", default=0.1, above=0.0, kw_only=False, doc="between pictures, or their rate")
    size: Made[Sequence[int], tuple[int, ...]] = Made(_whole, default=(640, 480), doc="(columns, rows) in pixels")
    field_of_view: Maybe[Quantity, float] = Maybe(
        Number("angle"), default=None, doc="horizontal; left out where focal_length is given: else 90°"
    )
    focal_length: Maybe[Quantity, float] = Maybe(
        Number("ratio"), default=None, doc="in pixels, instead of field_of_view"
    )
    output: Choice = Choice(
        *OUTPUTS, default="rgb", doc="what its pictures show: depth in m, labels: which link or thing"
    )
    looks: Choice = looking()
    near: Number = Number(
        "length", default=0.01, least=0.0, doc="near plane: what is nearer along its axis is not seen"
    )
    far: Number = Number("length", default=1e3, above=0.0, doc="far plane: nor what is farther")
    distortion: Made[Sequence[float], tuple[float, ...]] = Made(
        _floats,
        default=(),
        doc="(k1, k2, p1, p2, k3) of a pinhole (D. C. Brown, Photogrammetric Engineering 37, 1971), or (k1 … k4) of a "
        "fisheye: r = f·(θ + k1·θ³ + k2·θ⁵ + …); left out: none",
    )
    fisheye: Flag = Flag(default=False, doc="True: equidistant, equal angles at equal distances")
    exposure: Maybe[Quantity, float] = Maybe(
        Number("time", above=0.0), default=None, doc="time; None: automatic, the mean of a picture is 18 % of white"
    )
    max_exposure: Maybe[Quantity, float] = Maybe(
        Number("time", above=0.0), default=None, doc="longest time of an automatic exposure; None: the period"
    )
    max_gain: Number = Number(
        "ratio",
        default=16.0,
        least=1.0,
        doc="what an automatic exposure multiplies by at most where its time is longest",
    )
    f_number: Number = Number("ratio", default=2.8, above=0.0, doc="N of the lens")
    iso: Number = Number("ratio", default=100.0, above=0.0, doc="speed S")
    full_well: Maybe[Quantity, float] = Maybe(
        Number("ratio", above=0.0),
        default=None,
        exact=None,
        doc="electrons of a white pixel at ISO 100; None: no noise",
    )
    read_noise: Number = Number("ratio", default=0.0, least=0.0, exact=0.0, doc="standard deviation, electrons")
    depth_noise: Number = Number(
        "ratio", default=0.0, least=0.0, exact=0.0, doc="of depth: its standard deviation is this times depth², 1/m"
    )
    linear: Flag = Flag(
        default=False,
        doc="True: linear response, as of cameras for measuring; False: sRGB, which moves edges by some 0.3 pixels "
        "into the dark",
    )
    rolling_shutter: Number = Number(
        "time",
        default=0.0,
        least=0.0,
        doc="readout time, from the first row to the last, each from where the camera then is; 0: global shutter",
    )
    antialiasing: Whole = Whole(
        default=2, least=1, doc="samples along each edge of pixels where neighbours differ: 2 are 4 a pixel"
    )
    encoding: Choice = Choice(*ENCODINGS, default="raw", doc="of its messages")

    def aim(self) -> str:
        return self.looks

    def check(self) -> None:
        if self.encoding != "raw" and self.output == "depth":
            raise VeldrainError("depth cannot be encoded as a picture", where="Camera encoding", cure="write raw")
        if self.encoding == "jpeg" and self.output == "labels":
            raise VeldrainError("labels do not survive JPEG", where="Camera encoding", cure="write png or raw")
        if self.near >= self.far:
            raise VeldrainError(
                f"near is {self.near:g} m and far {self.far:g} m", where="Camera", cure="near is less than far"
            )
        if self.rolling_shutter > self.period:
            raise VeldrainError(
                f"rolling_shutter is {self.rolling_shutter:g} s and period {self.period:g} s",
                where="Camera",
                cure="reading takes a period at most",
            )
        if self.max_exposure is not None and self.max_exposure > self.period:
            raise VeldrainError(
                f"max_exposure is {self.max_exposure:g} s and period {self.period:g} s",
                where="Camera",
                cure="exposing takes a period at most",
            )
        self.fill(focal_length=self.lens.focal)

    @cached_property
    def lens(self) -> Lens:
        """The lens over its pixels."""
        return Lens(self.size, self.field_of_view, self.focal_length, self.distortion, self.fisheye)

    @property
    def message(self) -> str:
        return "sensor_msgs/msg/Image" if self.encoding == "raw" else "sensor_msgs/msg/CompressedImage"

    @property
    def companions(self) -> tuple[str, ...]:
        return ("camera_info", "boxes") if self.output == "labels" else ("camera_info",)

    def age(self, reading: Any) -> float:
        return self.rolling_shutter

    def picture(self) -> tuple[float, int, int]:
        columns, rows = self.lens.size
        return float(self.matrix[1, 1]), int(columns), int(rows)

    @property
    def matrix(self) -> Array:
        """The matrix K (3, 3) of the optical frame: focal length and the picture's middle, in pixels."""
        return self.lens.matrix

    def sight(self) -> Sight:
        return Sight(self.lens.some_rays(), self.far, self.near, is_picture=True)

    def looks_along(self) -> Array:
        return self.lens.some_rays(201, 151)

    def outline(self) -> list[Array]:
        columns, rows = self.lens.size
        edge = np.linspace(0, 1, 11)[:, None]
        c = np.array([(0, 0), (columns - 1, 0), (columns - 1, rows - 1), (0, rows - 1), (0, 0)], float)
        return [self.lens.rays_of(np.concatenate([a + edge * (b - a) for a, b in itertools.pairwise(c)]))]

    def project(self, points: ArrayLike) -> Array:
        """Pixels (n, 2), column and row, of points (n, 3) in the mount's axes, m; nan behind the camera.

        >>> Camera(size=(640, 480), focal_length=500).project([(2.0, 0.1, 0.0)]).tolist()
        [[294.5, 239.5]]
        """
        return self.lens.project(np.asarray(points, float))

    def automatic(self, mean: float) -> tuple[float, float]:
        """Time (s) and gain with which light of a mean luminance (cd/m²) is 18 % of white, or comes nearest to it."""
        wanted = self.white(1.0) * MIDDLE / max(mean, 1e-12)
        time = min(wanted, self.period if self.max_exposure is None else self.max_exposure)
        return time, min(wanted / time, self.max_gain)

    def white(self, exposure: float) -> float:
        """Luminance that is just white, cd/m²."""
        return 4 * self.f_number**2 * 78 / (math.pi * exposure * self.iso)

    def start(self, mount: Mount, random: np.random.Generator) -> CameraAtWork:
        return CameraAtWork(self, random)

    def paint(
        self, painter: Painter, positions: Array, axes: Array
    ) -> tuple[NDArray[np.float32], Array, NDArray[np.int32]]:
        """Luminance (rows, columns, 3); distances and sights (rows·columns,) of rays through the pixels' middles."""
        lens = self.lens
        (columns, rows), is_flat = lens.size, not lens.fisheye
        row = np.repeat(np.arange(rows, dtype=np.int32), columns)
        is_shaded = self.output in ("rgb", "grey")
        light, distances, sights = painter.shoot(
            positions, axes, row, lens.rays, self.near, self.far, is_flat, is_shaded
        )
        light = light.reshape(rows, columns, 3)
        if self.antialiasing > 1 and is_shaded:
            v, u = np.nonzero(edges(light))
            ways = within(lens.corners, u, v, self.antialiasing)
            many = self.antialiasing**2
            finer, _, _ = painter.shoot(
                positions, axes, np.repeat(v.astype(np.int32), many), ways, self.near, self.far, is_flat
            )
            light[v, u] = finer.reshape(-1, many, 3).mean(axis=1)
        return light, distances, sights

    def eyes(self, mount: Mount) -> tuple[Array, Array]:
        """Where the camera is at each row's time: positions (rows, 3) and axes (rows, 3, 3)."""
        from scipy.spatial.transform import Rotation

        rows = self.lens.size[1]
        position, axes = mount.position(), mount.axes()
        if self.rolling_shutter == 0:
            return np.broadcast_to(position, (rows, 3)).copy(), np.broadcast_to(axes, (rows, 3, 3)).copy()
        linear, angular, _ = mount.motion()
        lead = (np.arange(1, rows + 1) / rows - 1) * self.rolling_shutter
        turns = Rotation.from_rotvec(lead[:, None] * angular).as_matrix()
        return position + lead[:, None] * linear, turns @ axes

    def counted(
        self, light: NDArray[np.float32], white: float, gain: float, random: np.random.Generator
    ) -> NDArray[np.float32]:
        """Light as counted electrons tell it."""
        assert self.full_well is not None
        well = self.full_well * 100 / (self.iso * gain)
        electrons = np.minimum(light / white, 1.0) * well
        noise = random.standard_normal(light.shape, np.float32) * np.sqrt(electrons + self.read_noise**2)
        return np.asarray((electrons + noise) * (white / well), np.float32)

    def messages(self, reading: Image) -> dict[str, Message]:
        columns, rows = self.lens.size
        k, lens = self.matrix, self.lens
        info = Fields(
            height=rows,
            width=columns,
            distortion_model="equidistant" if lens.fisheye else "plumb_bob",
            d=np.array(lens.distortion or (0.0,) * (4 if lens.fisheye else 5)),
            k=k.ravel(),
            r=np.eye(3).ravel(),
            p=np.column_stack([k, np.zeros(3)]).ravel(),
            binning_x=0,
            binning_y=0,
            roi=Fields(x_offset=0, y_offset=0, height=0, width=0, do_rectify=False),
        )
        found = {"": Message(self.message, self._picture(reading.pixels))}
        found["camera_info"] = Message("sensor_msgs/msg/CameraInfo", info)
        if self.output == "labels":
            seen = [
                {"name": name, "left": b[0], "top": b[1], "right": b[2], "bottom": b[3]} for name, b in reading.boxes
            ]
            numbers = {name: k for k, name in enumerate(reading.names, start=1)}
            text = json.dumps({"labels": numbers, "boxes": seen})
            found["boxes"] = Message("std_msgs/msg/String", Fields(data=text))
        return found

    def _picture(self, pixels: NDArray[Any]) -> Fields:
        if self.encoding != "raw":
            from PIL import Image as Pillow

            out = io.BytesIO()
            level = {"compress_level": 1} if self.encoding == "png" else {}
            Pillow.fromarray(pixels).save(out, self.encoding, **level)
            data = np.frombuffer(out.getvalue(), np.uint8)
            return Fields(format=f"{OUTPUTS[self.output]}; {self.encoding} compressed", data=data)
        return Fields(
            height=pixels.shape[0],
            width=pixels.shape[1],
            encoding=OUTPUTS[self.output],
            is_bigendian=0,
            step=pixels.strides[0],
            data=np.ascontiguousarray(pixels).reshape(-1).view(np.uint8),
        )


@dataclass
class CameraAtWork:
    """The random stream of its noise."""

    sheet: Camera
    random: np.random.Generator

    def measure(self, mount: Mount) -> Image:
        sheet, scene = self.sheet, mount.scene()
        painter = mount.kept(mount.surroundings, lambda: Painter(scene, mount.surroundings))
        columns, rows = sheet.lens.size
        scene.follow()
        light, distances, sights = sheet.paint(painter, *sheet.eyes(mount))
        if sheet.output == "depth":
            depth = distances * sheet.lens.rays[:, 0] if not sheet.lens.fisheye else distances
            if sheet.depth_noise > 0:
                off = self.random.standard_normal(len(depth)) * sheet.depth_noise
                depth = depth + off * np.where(np.isfinite(depth), depth, 0.0) ** 2
            return Image(depth.reshape(rows, columns).astype(np.float32))
        if sheet.output == "labels":
            names = tuple(dict.fromkeys(scene.names))
            label_of = np.array([0, *(names.index(name) + 1 for name in scene.names)], np.uint16)
            labels = label_of[sights + 1].reshape(rows, columns)
            return Image(labels, names=names, boxes=_boxes(labels, names))
        exposure, gain = sheet.exposure, 1.0
        if exposure is None:
            exposure, gain = sheet.automatic(float((light @ GREY).mean()))
        white = sheet.white(exposure) / gain
        if sheet.output == "grey":
            light = (light @ GREY)[..., None]
        if sheet.full_well is not None:
            light = sheet.counted(light, white, gain, self.random)
        pixels = developed(light, white, sheet.linear)
        return Image(pixels[..., 0] if sheet.output == "grey" else pixels, exposure, gain=gain)


def _boxes(labels: NDArray[np.uint16], names: Sequence[str]) -> tuple[tuple[str, tuple[int, int, int, int]], ...]:
    """The box around each label that is seen."""
    from scipy.ndimage import find_objects

    spans = find_objects(labels.astype(np.int32))
    return tuple(
        (names[k], (columns.start, rows.start, columns.stop - 1, rows.stop - 1))
        for k, span in enumerate(spans)
        if span is not None
        for rows, columns in (span,)
    )
