"""Small vectors and rotations, as tuples of floats, so that nothing is allocated.

Spatial vectors are six numbers, the angular three first, in world axes about one reference point a tree
(R. Featherstone, Rigid Body Dynamics Algorithms, Springer 2008, chapter 2).
"""

from __future__ import annotations

import math

from veldrain.kernel import kernel


@kernel
def cross(a, b):
    """a × b of two triples."""
    return (a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0])


@kernel
def dot(a, b):
    """a · b of two triples."""
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@kernel
def norm(a):
    """|a|."""
    return math.sqrt(a[0] * a[0] + a[1] * a[1] + a[2] * a[2])


@kernel
def add(a, b):
    """a + b of two triples."""
    return (a[0] + b[0], a[1] + b[1], a[2] + b[2])


@kernel
def minus(a, b):
    """a − b of two triples."""
    return (a[0] - b[0], a[1] - b[1], a[2] - b[2])


@kernel
def scaled(a, s):
    """s · a of a triple."""
    return (a[0] * s, a[1] * s, a[2] * s)


@kernel
def triple(row):
    """The first three numbers of an array row."""
    return (row[0], row[1], row[2])


@kernel
def six(row):
    """The first six numbers of an array row."""
    return (row[0], row[1], row[2], row[3], row[4], row[5])


@kernel
def turned(R, a):
    """R·a: from local to outer axes."""
    return (
        R[0, 0] * a[0] + R[0, 1] * a[1] + R[0, 2] * a[2],
        R[1, 0] * a[0] + R[1, 1] * a[1] + R[1, 2] * a[2],
        R[2, 0] * a[0] + R[2, 1] * a[1] + R[2, 2] * a[2],
    )


@kernel
def turned_back(R, a):
    """Rᵀ·a: from outer to local axes."""
    return (
        R[0, 0] * a[0] + R[1, 0] * a[1] + R[2, 0] * a[2],
        R[0, 1] * a[0] + R[1, 1] * a[1] + R[2, 1] * a[2],
        R[0, 2] * a[0] + R[1, 2] * a[1] + R[2, 2] * a[2],
    )


@kernel
def multiply(A, B, out):
    """out = A·B of two 3 × 3 matrices; out is neither of them."""
    for i in range(3):
        for j in range(3):
            out[i, j] = A[i, 0] * B[0, j] + A[i, 1] * B[1, j] + A[i, 2] * B[2, j]


@kernel
def across(n):
    """Two unit vectors that make a right-handed frame with the unit vector n."""
    if abs(n[2]) < 0.7:
        length = math.sqrt(n[0] * n[0] + n[1] * n[1])
        first = (-n[1] / length, n[0] / length, 0.0)
    else:
        length = math.sqrt(n[1] * n[1] + n[2] * n[2])
        first = (0.0, -n[2] / length, n[1] / length)
    return first, cross(n, first)


@kernel
def matrix_of_quaternion(q, at, out):
    """The rotation matrix of the unit quaternion x, y, z, w that starts at q[at]."""
    x, y, z, w = q[at], q[at + 1], q[at + 2], q[at + 3]
    out[0, 0] = 1 - 2 * (y * y + z * z)
    out[0, 1] = 2 * (x * y - z * w)
    out[0, 2] = 2 * (x * z + y * w)
    out[1, 0] = 2 * (x * y + z * w)
    out[1, 1] = 1 - 2 * (x * x + z * z)
    out[1, 2] = 2 * (y * z - x * w)
    out[2, 0] = 2 * (x * z - y * w)
    out[2, 1] = 2 * (y * z + x * w)
    out[2, 2] = 1 - 2 * (x * x + y * y)


@kernel
def unit_quaternion(q):
    """Make four numbers a unit quaternion."""
    n = 1.0 / math.sqrt(q[0] * q[0] + q[1] * q[1] + q[2] * q[2] + q[3] * q[3])
    q[0], q[1], q[2], q[3] = q[0] * n, q[1] * n, q[2] * n, q[3] * n


@kernel
def turn_quaternion(q, at, turn):
    """Turn the quaternion x, y, z, w at q[at] by the rotation vector ``turn`` (world axes), exactly."""
    angle = math.sqrt(dot(turn, turn))
    s = 0.5 - angle * angle / 48.0 if angle < 1e-4 else math.sin(0.5 * angle) / angle
    ax, ay, az, aw = turn[0] * s, turn[1] * s, turn[2] * s, math.cos(0.5 * angle)
    bx, by, bz, bw = q[at], q[at + 1], q[at + 2], q[at + 3]
    x = aw * bx + ax * bw + ay * bz - az * by
    y = aw * by - ax * bz + ay * bw + az * bx
    z = aw * bz + ax * by - ay * bx + az * bw
    w = aw * bw - ax * bx - ay * by - az * bz
    q[at], q[at + 1], q[at + 2], q[at + 3] = x, y, z, w
    unit_quaternion(q[at : at + 4])


@kernel
def rotation_vector_between(p, q):
    """The rotation vector (outer axes) that takes the unit quaternion p to q, the short way."""
    x = q[0] * p[3] - q[3] * p[0] - q[1] * p[2] + q[2] * p[1]
    y = q[1] * p[3] - q[3] * p[1] - q[2] * p[0] + q[0] * p[2]
    z = q[2] * p[3] - q[3] * p[2] - q[0] * p[1] + q[1] * p[0]
    w = q[0] * p[0] + q[1] * p[1] + q[2] * p[2] + q[3] * p[3]
    square = x * x + y * y + z * z  # of the sine of half the angle
    if square < 4e-4:  # the series of asin, to the last digit
        scale = 2.0 + square * (1.0 / 3.0 + square * (3.0 / 20.0 + square * (5.0 / 56.0 + square * (35.0 / 576.0))))
    else:
        sine = math.sqrt(square)
        scale = 2.0 * math.atan2(sine, abs(w)) / sine
    scale = math.copysign(scale, w)
    return (x * scale, y * scale, z * scale)


@kernel
def rotated(a, turn):
    """The vector a turned by a rotation vector (Rodrigues)."""
    angle = math.sqrt(dot(turn, turn))
    if angle < 1e-12:
        return a
    axis = scaled(turn, 1.0 / angle)
    c, s = math.cos(angle), math.sin(angle)
    return add(add(scaled(a, c), scaled(cross(axis, a), s)), scaled(axis, dot(axis, a) * (1.0 - c)))


@kernel
def put(row, a):
    """Write a triple to an array row."""
    row[0], row[1], row[2] = a
