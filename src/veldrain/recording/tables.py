"""Messages as tables, points and pictures."""

from __future__ import annotations

import json
import struct
import warnings
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from rosbags.serde.errors import SerdeError
from rosbags.typesys.store import Typestore

from veldrain.recording.decoding import Part, names_of, parts_of

if TYPE_CHECKING:
    import pandas as pd

# Shorter names for the columns of common messages.
_SHORT = (
    ("pose.pose.position.", ""),
    ("pose.pose.orientation.", "q"),
    ("pose.position.", ""),
    ("pose.orientation.", "q"),
    ("twist.twist.linear.", "v"),
    ("twist.twist.angular.", "w"),
    ("transform.translation.", ""),
    ("transform.rotation.", "q"),
)
_CONTACT = (("point.", ""), ("normal.", "n"), ("force.", "f"))
_LEFT_OUT = ("covariance", "header.")
CLOUD, IMAGE, SCAN = "sensor_msgs/msg/PointCloud2", "sensor_msgs/msg/Image", "sensor_msgs/msg/LaserScan"
PACKED_IMAGE, JOINTS, TEXT = "sensor_msgs/msg/CompressedImage", "sensor_msgs/msg/JointState", "std_msgs/msg/String"
FIELDS = {1: "i1", 2: "u1", 3: "i2", 4: "u2", 5: "i4", 6: "u4", 7: "f4", 8: "f8"}  # sensor_msgs/PointField


def message_of(store: Typestore, data: bytes, message: str) -> Any:
    """A message as an object.

    Raises:
        ValueError: bytes that are no such message.
    """
    try:
        return store.deserialize_cdr(data, message)
    except (SerdeError, LookupError, struct.error, UnicodeDecodeError, TypeError) as error:
        raise ValueError(f"no {message}: {error}") from error


def to_table(store: Typestore, message: str, stamps: np.ndarray, raw: Sequence[bytes]) -> pd.DataFrame:
    """Messages of one type as a table: ``time`` in s, then a column for each field.

    What a message has many of (detections, transforms, contacts, points of a cloud) has a row each. Joint states have a
    column for each joint, such as ``position.front_left``; poses have x, y, z, roll, pitch, yaw, and with a covariance
    what is not 0 of it, such as ``cov_x_yaw``. Arrays of numbers stay
    arrays; of bytes there is the count. Texts that hold JSON with lists of things have a row a thing.

    Raises:
        ValueError: bytes that are no such message.
    """
    if message == CLOUD:
        return cloud_table(store, stamps, raw)
    times = np.asarray(stamps, np.int64) / 1e9
    if message == TEXT and (table := _things(store, times, raw)) is not None:
        return table
    return table_of(parts_of(raw, store, message), times, store, message)


def table_of(found: Sequence[Part], times: np.ndarray, store: Typestore, message: str) -> pd.DataFrame:
    """Parts of messages as one table, in their order."""
    import pandas as pd

    if len(found) == 1 and len(found[0].index) == len(times) and found[0].rows < 0:  # all of one layout, a row each
        columns = _columns(found[0], times, message)
        del columns["_message"]
        return pd.DataFrame(_angles_put_in(columns))
    parts = [pd.DataFrame(_columns(part, times, message)) for part in found]
    some = [part for part in parts if len(part)]
    if not some:
        nothing = np.zeros(0)
        columns = {} if message == JOINTS else dict.fromkeys(names_of(store, message), nothing)
        return pd.DataFrame(_columns(Part(np.zeros(0, int), -1, columns), times, message)).drop(columns="_message")
    table = some[0] if len(some) == 1 else pd.concat(some).sort_values("_message", kind="stable")
    table = table.drop(columns="_message").reset_index(drop=True)
    return pd.DataFrame(_angles_put_in({str(name): table[name] for name in table}))


def _columns(part: Part, times: np.ndarray, message: str) -> dict[str, Any]:
    """The columns of one part, with ``_message``, the number of the message that a row is from."""
    index = part.index if part.rows < 0 else np.repeat(part.index, part.rows)
    columns: dict[str, Any] = {"_message": index, "time": times[index]}
    if message == JOINTS and part.columns:
        return columns | _joints(part)
    own = message == "veldrain_msgs/msg/Contacts"
    for name, values in part.columns.items():
        if name == "pose.covariance":
            columns |= _covariance(values)
        if any(word in name for word in _LEFT_OUT) and not (part.rows >= 0 and name == "header.frame_id" and not own):
            continue
        short = next((s + name.removeprefix(w) for w, s in (_CONTACT if own else _SHORT) if name.startswith(w)), name)
        short = "frame_id" if short == "header.frame_id" else short
        if values.ndim == 1:
            columns[short] = values
        elif values.dtype.itemsize == 1 and values.dtype != bool:  # pictures and the like: nothing for a cell
            columns[f"{short}_bytes"] = np.full(len(values), values.shape[1])
        else:
            columns[short] = list(values)
    if message == SCAN and "header.stamp.sec" in part.columns:  # of the first beam
        columns["stamp"] = part.columns["header.stamp.sec"] + part.columns["header.stamp.nanosec"] * 1e-9
    return columns


def _covariance(values: np.ndarray) -> dict[str, np.ndarray]:
    """Columns such as ``cov_x_yaw`` for what is not 0 all along of covariances (n, 36) of poses."""
    whole = values.reshape(-1, 6, 6)
    names = ("x", "y", "z", "roll", "pitch", "yaw")
    pairs = ((i, j) for i in range(6) for j in range(i, 6) if whole[:, i, j].any())
    return {f"cov_{names[i]}_{names[j]}": whole[:, i, j] for i, j in pairs}


def _joints(part: Part) -> dict[str, np.ndarray]:
    """A column for each joint's position, velocity and effort; nan where a message has no such joint or field.

    Joints go by name: messages may name others, fewer, or in another order, as several publishers of one stream do.
    """
    found: dict[str, np.ndarray] = {}
    names = np.array([values for name, values in part.columns.items() if name.startswith("name[")], object)
    for field in ("position", "velocity", "effort"):
        values = part.columns[field]
        if values.shape[1] != len(names):  # not given: empty, or of no use
            continue
        for k, column in enumerate(names):
            for name in dict.fromkeys(column):
                whole = found.setdefault(f"{field}.{name}", np.full(len(part.index), np.nan))
                whole[column == name] = values[column == name, k]
    return found


def _angles_put_in(columns: dict[str, Any]) -> dict[str, Any]:
    """Columns with roll, pitch and yaw behind a quaternion."""
    from scipy.spatial.transform import Rotation

    if not {"qx", "qy", "qz", "qw"} <= set(columns) or not len(columns["qx"]):
        return columns
    quaternions = np.column_stack([np.asarray(columns[name], float) for name in ("qx", "qy", "qz", "qw")])
    with np.errstate(over="ignore", invalid="ignore"):
        length = np.sqrt((quaternions**2).sum(axis=1))
    good = np.isfinite(length) & (length > 0)
    angles = np.full((len(quaternions), 3), np.nan)
    if good.any():
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", UserWarning)  # straight up or down, yaw is said to be 0
            angles[good] = Rotation.from_quat(quaternions[good]).as_euler("xyz")
    found: dict[str, Any] = {}
    for name, values in columns.items():
        found[name] = values
        if name == "qw":
            found |= dict(zip(("roll", "pitch", "yaw"), angles.T, strict=True))
    return found


def _things(store: Typestore, times: np.ndarray, raw: Sequence[bytes]) -> pd.DataFrame | None:
    """Rows out of texts that are JSON objects with one list of objects each; None for other texts."""
    import pandas as pd

    texts = [str(message_of(store, data, TEXT).data) for data in raw]
    if not texts or not all(text.startswith("{") for text in texts):
        return None
    rows = []
    for time, text in zip(times, texts, strict=True):
        try:
            lists = [value for value in json.loads(text).values() if isinstance(value, list)]
        except ValueError:
            return None
        if len(lists) != 1 or not all(isinstance(thing, dict) for thing in lists[0]):
            return None
        rows += [{"time": time} | thing for thing in lists[0]]
    return pd.DataFrame(rows) if rows else pd.DataFrame({"time": []})


def cloud_of(message: Any) -> np.ndarray:
    """The points of a cloud as records of its fields; rows beyond its bytes are refused."""
    fields = [(f.name, FIELDS[f.datatype], f.offset, f.count) for f in message.fields if f.datatype in FIELDS]
    order = ">" if message.is_bigendian else "<"
    kinds = [order + kind if count <= 1 else (order + kind, (count,)) for _, kind, _, count in fields]
    # A point's own time, as spinning lidars tell it, is not the time of its message.
    names = ["beam_time" if name == "time" else name for name, *_ in fields]
    offsets = [offset for _, _, offset, _ in fields]
    kind = np.dtype({"names": names, "formats": kinds, "offsets": offsets, "itemsize": message.point_step})
    data, width = np.asarray(message.data, np.uint8).tobytes(), message.width * message.point_step
    if message.row_step < width or message.row_step * message.height > len(data):
        raise ValueError(f"a cloud of {message.width} × {message.height} points in {len(data)} bytes")
    if message.row_step == width:
        return np.frombuffer(data, kind, message.width * message.height)
    lines = [np.frombuffer(data, kind, message.width, k * message.row_step) for k in range(message.height)]
    return np.concatenate(lines) if lines else np.zeros(0, kind)


def cloud_table(store: Typestore, stamps: np.ndarray, raw: Sequence[bytes]) -> pd.DataFrame:
    """A row a point: time, then the fields of the clouds."""
    import pandas as pd

    messages = [message_of(store, data, CLOUD) for data in raw]
    clouds = [cloud_of(message) for message in messages]
    first = np.array([m.header.stamp.sec + m.header.stamp.nanosec * 1e-9 for m in messages])
    counts = [len(cloud) for cloud in clouds]
    times = np.repeat(np.asarray(stamps, np.int64) / 1e9, counts)
    names = list(dict.fromkeys(name for cloud in clouds for name in cloud.dtype.names or ()))
    columns: dict[str, Any] = {"time": times}
    for name in names:
        each = [cloud[name] if name in (cloud.dtype.names or ()) else np.full(len(cloud), np.nan) for cloud in clouds]
        whole = np.concatenate(each)
        columns[name] = whole.astype(whole.dtype.newbyteorder("=")) if whole.ndim == 1 else list(whole)
    columns["stamp"] = np.repeat(first, counts)
    return pd.DataFrame(columns)


def points_of(
    store: Typestore, message: str, data: bytes, misses: bool = False
) -> tuple[str, float, dict[str, np.ndarray]]:
    """Frame, header's stamp (s), and the points (n, 3) of one cloud or scan with their other fields, all of length n.

    ``beam_time`` is when each was measured, from the header's stamp on. With ``misses`` beams of a scan that met
    nothing are among them, as far as it can see, and ``missed`` is True for them.

    Raises:
        ValueError: neither of both.
    """
    made: Any = message_of(store, data, message)
    if message == CLOUD:
        cloud = cloud_of(made)
        missing = [axis for axis in "xyz" if axis not in (cloud.dtype.names or ())]
        if missing:
            raise ValueError(f"its points have no {', '.join(missing)}")
        xyz = np.stack([cloud[axis].astype(float) for axis in "xyz"], axis=-1)
        more = {name: cloud[name] for name in cloud.dtype.names or () if name not in ("x", "y", "z")}
    elif message == SCAN:
        angles = made.angle_min + made.angle_increment * np.arange(len(made.ranges))
        ranges = np.asarray(made.ranges, float)
        missed = np.isposinf(ranges)
        if misses:
            ranges = np.where(missed, made.range_max, ranges)
        xyz = np.stack([ranges * np.cos(angles), ranges * np.sin(angles), np.zeros(len(ranges))], axis=-1)
        more = {"intensity": np.asarray(made.intensities)} if len(made.intensities) == len(ranges) else {}
        more |= {"missed": missed} if misses else {}
        if made.time_increment:
            more["beam_time"] = made.time_increment * np.arange(len(ranges))
    else:
        raise ValueError(f"{message} has no points")
    hit = np.isfinite(xyz).all(axis=1)
    stamp = made.header.stamp.sec + made.header.stamp.nanosec * 1e-9
    return made.header.frame_id, stamp, {"xyz": xyz[hit]} | {name: values[hit] for name, values in more.items()}


_ENCODINGS = {
    "rgb8": ("u1", 3), "bgr8": ("u1", 3), "rgba8": ("u1", 4), "bgra8": ("u1", 4), "mono8": ("u1", 1), "8UC1": ("u1", 1),
    "8UC3": ("u1", 3), "mono16": ("u2", 1), "16UC1": ("u2", 1), "32FC1": ("f4", 1), "64FC1": ("f8", 1),
}  # fmt: skip


def image_of(store: Typestore, message: str, data: bytes) -> np.ndarray:
    """A picture: (rows, columns, 3 or 4) red, green, blue (and alpha), or (rows, columns) of one number.

    Raises:
        ValueError: no picture, or of an encoding that is not read here.
    """
    made: Any = message_of(store, data, message)
    if message == PACKED_IMAGE:
        from io import BytesIO

        from PIL import Image

        with Image.open(BytesIO(np.asarray(made.data, np.uint8).tobytes())) as picture:
            return np.asarray(picture)
    if message != IMAGE:
        raise ValueError(f"{message} is no picture")
    if made.encoding not in _ENCODINGS:
        raise ValueError(f"pictures of encoding '{made.encoding}' are not read here")
    code, channels = _ENCODINGS[made.encoding]
    kind = np.dtype((">" if made.is_bigendian else "<") + code)
    width = made.width * channels * kind.itemsize
    rows = np.asarray(made.data, np.uint8)
    if made.step < width or len(rows) < made.step * made.height:
        raise ValueError(f"a picture of {made.width} × {made.height} in {len(rows)} bytes")
    rows = rows[: made.step * made.height].reshape(made.height, made.step)[:, :width]
    shape = (made.height, made.width, channels) if channels > 1 else (made.height, made.width)
    pixels = np.ascontiguousarray(rows).view(kind).reshape(shape)
    pixels = pixels.astype(kind.newbyteorder("="))
    return pixels[..., [2, 1, 0, *([3] if channels == 4 else [])]] if made.encoding.startswith("bgr") else pixels
