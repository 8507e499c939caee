"""The units of columns: what the definitions of messages say in their comments, as a table."""

from __future__ import annotations

import re

# By message type: patterns of columns, and their unit.
_POSE = {r"x|y|z": "m", r"roll|pitch|yaw": "rad", r"v[xyz]": "m/s", r"w[xyz]": "rad/s"}
_WRENCH = {r"(wrench\.)?force\.[xyz]": "N", r"(wrench\.)?torque\.[xyz]": "N·m"}
_TWIST = {r"(twist\.)?linear\.[xyz]": "m/s", r"(twist\.)?angular\.[xyz]": "rad/s"} | _POSE
_UNITS: dict[str, dict[str, str]] = {
    "nav_msgs/msg/Odometry": _POSE,
    "geometry_msgs/msg/PoseStamped": _POSE,
    "geometry_msgs/msg/PoseWithCovarianceStamped": _POSE,
    "tf2_msgs/msg/TFMessage": _POSE,
    "geometry_msgs/msg/Twist": _TWIST,
    "geometry_msgs/msg/TwistStamped": _TWIST,
    "geometry_msgs/msg/WrenchStamped": _WRENCH,
    "sensor_msgs/msg/Imu": {r"angular_velocity\..": "rad/s", r"linear_acceleration\..": "m/s²"},
    "sensor_msgs/msg/LaserScan": {r"ranges|range_m..": "m", r"angle_.*": "rad", r"scan_time|time_increment": "s"},
    "sensor_msgs/msg/Range": {r"range|min_range|max_range": "m", r"field_of_view": "rad"},
    "sensor_msgs/msg/FluidPressure": {r"fluid_pressure": "Pa", r"variance": "Pa²"},
    "sensor_msgs/msg/MagneticField": {r"magnetic_field\..": "T"},
    "sensor_msgs/msg/Temperature": {r"temperature": "°C"},
    "sensor_msgs/msg/NavSatFix": {r"latitude|longitude": "deg", r"altitude": "m"},
    "sensor_msgs/msg/PointCloud2": {r"x|y|z|range": "m", r"azimuth|elevation": "rad", r"radial_velocity": "m/s"},
    "sensor_msgs/msg/BatteryState": {r"voltage": "V", r"current": "A", r"temperature": "°C"},
    "veldrain_msgs/msg/Contacts": {r"x|y|z|gap": "m", r"f[xyz]": "N"},
}
_JOINT = {"position": ("rad", "m"), "velocity": ("rad/s", "m/s"), "effort": ("N·m", "N")}


def units_of(column: str) -> set[str]:
    """All units that a column of this name has, of whatever message; none where it is not known.

    >>> units_of("linear_acceleration.x")
    {'m/s²'}
    """
    word, dot, _ = column.partition(".")
    found = {unit for units in _UNITS.values() for pattern, unit in units.items() if re.fullmatch(pattern, column)}
    return found | set(_JOINT[word] if dot and word in _JOINT else ())


def unit_of(message: str, column: str, slides: bool = False) -> str:
    """The unit of a column of a table; "" where none is known.

    Args:
        message: type of the stream's messages.
        column: name of the column.
        slides: of a column of joint states: True for a prismatic joint.

    >>> unit_of("sensor_msgs/msg/Imu", "linear_acceleration.x")
    'm/s²'
    """
    if column == "time":
        return "s"
    if message == "sensor_msgs/msg/JointState":
        return _JOINT.get(column.partition(".")[0], ("", ""))[slides]
    return next((unit for pattern, unit in _UNITS.get(message, {}).items() if re.fullmatch(pattern, column)), "")
