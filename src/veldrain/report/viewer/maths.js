// Vectors (3), quaternions x, y, z, w, and 4 × 4 matrices by columns.
const plus = (a, b) => [a[0] + b[0], a[1] + b[1], a[2] + b[2]];
const minus = (a, b) => [a[0] - b[0], a[1] - b[1], a[2] - b[2]];
const times = (a, s) => [a[0] * s, a[1] * s, a[2] * s];
const dot = (a, b) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
const norm = (a) => Math.hypot(a[0], a[1], a[2]);
const unit = (a) => times(a, 1 / (norm(a) || 1));

function turned(q, v) {
  const u = [q[0], q[1], q[2]], t = times(cross(u, v), 2);
  return plus(plus(v, times(t, q[3])), cross(u, t));
}

const joined = (a, b) => [
  a[3] * b[0] + a[0] * b[3] + a[1] * b[2] - a[2] * b[1],
  a[3] * b[1] - a[0] * b[2] + a[1] * b[3] + a[2] * b[0],
  a[3] * b[2] + a[0] * b[1] - a[1] * b[0] + a[2] * b[3],
  a[3] * b[3] - a[0] * b[0] - a[1] * b[1] - a[2] * b[2],
];

// A pose is { p, q }; one in another's axes.
const placed = (a, b) => ({ p: plus(a.p, turned(a.q, b.p)), q: joined(a.q, b.q) });
const poseOf = (row) => ({ p: [row[0], row[1], row[2]], q: unitQuaternion([row[3], row[4], row[5], row[6]]) });

function unitQuaternion(q) {
  const size = Math.hypot(...q) || 1;
  return q.map((v) => v / size);
}

// The shortest turn between two, a share of the way.
function between(a, b, share) {
  let c = a[0] * b[0] + a[1] * b[1] + a[2] * b[2] + a[3] * b[3];
  const sign = c < 0 ? -1 : 1;
  c = Math.min(1, Math.abs(c));
  const angle = Math.acos(c);
  const [x, y] = angle < 1e-4 ? [1 - share, share]
    : [Math.sin((1 - share) * angle) / Math.sin(angle), Math.sin(share * angle) / Math.sin(angle)];
  return unitQuaternion(a.map((v, k) => x * v + sign * y * b[k]));
}

function matrixOf({ p, q: [x, y, z, w] }) {
  return new Float32Array([
    1 - 2 * (y * y + z * z), 2 * (x * y + z * w), 2 * (x * z - y * w), 0,
    2 * (x * y - z * w), 1 - 2 * (x * x + z * z), 2 * (y * z + x * w), 0,
    2 * (x * z + y * w), 2 * (y * z - x * w), 1 - 2 * (x * x + y * y), 0,
    p[0], p[1], p[2], 1,
  ]);
}

function multiplied(a, b) {
  const found = new Float32Array(16);
  for (let c = 0; c < 4; c++)
    for (let r = 0; r < 4; r++)
      found[4 * c + r] = a[r] * b[4 * c] + a[4 + r] * b[4 * c + 1] + a[8 + r] * b[4 * c + 2] + a[12 + r] * b[4 * c + 3];
  return found;
}

function perspective(angle, aspect, near, far) {
  const f = 1 / Math.tan(angle / 2);
  return new Float32Array([
    f / aspect, 0, 0, 0, 0, f, 0, 0, 0, 0, (far + near) / (near - far), -1, 0, 0, (2 * far * near) / (near - far), 0,
  ]);
}

// What takes points of the world to an eye that looks along -z with y up.
function lookingFrom(eye, forward, up) {
  const z = times(unit(forward), -1), x = unit(cross(up, z)), y = cross(z, x);
  return new Float32Array([
    x[0], y[0], z[0], 0, x[1], y[1], z[1], 0, x[2], y[2], z[2], 0, -dot(x, eye), -dot(y, eye), -dot(z, eye), 1,
  ]);
}

// Roll, pitch, yaw (degrees) about fixed axes.
function anglesOf([x, y, z, w]) {
  const degrees = 180 / Math.PI;
  return [
    degrees * Math.atan2(2 * (w * x + y * z), 1 - 2 * (x * x + y * y)),
    degrees * Math.asin(Math.max(-1, Math.min(1, 2 * (w * y - z * x)))),
    degrees * Math.atan2(2 * (w * z + x * y), 1 - 2 * (y * y + z * z)),
  ];
}
