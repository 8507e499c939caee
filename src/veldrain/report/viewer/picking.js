// Points of the world in the picture, and what is under a point of it.
function label(ink, text, x, y, colour, halo, align = "center") {
  ink.textAlign = align;
  ink.textBaseline = "middle";
  ink.lineWidth = 3;
  ink.lineJoin = "round";
  ink.strokeStyle = halo;
  ink.strokeText(text, x, y);
  ink.fillStyle = colour;
  ink.fillText(text, x, y);
}

function screenOf(view, p) {
  const w = view[3] * p[0] + view[7] * p[1] + view[11] * p[2] + view[15];
  if (w <= 0) return null;
  return [0, 1].map((r) => (view[r] * p[0] + view[4 + r] * p[1] + view[8 + r] * p[2] + view[12 + r]) / w);
}

// The direction in the world of a point of the picture, -1 to 1 both ways: the eye is where w is zero.
function rayThrough(view, x, y, at) {
  const row = (r) => [view[r], view[4 + r], view[8 + r]], w = row(3);
  const a = minus(row(0), times(w, x)), b = minus(row(1), times(w, y)), way = unit(cross(a, b));
  return dot(way, w) > 0 ? way : times(way, -1);
}

// How far a ray goes until it meets a mesh at a pose; not under the nearest so far: Infinity. After Möller and Trumbore, 1997.
function metBy(mesh, pose, at, way, nearest) {
  const back = [-pose.q[0], -pose.q[1], -pose.q[2], pose.q[3]];
  const o = turned(back, minus(at, pose.p)), d = turned(back, way), b = dot(o, d);
  if (dot(o, o) - b * b > mesh.radius * mesh.radius) return Infinity;
  const c = mesh.corners, t = mesh.triangles, corner = (k) => [c[3 * t[k]], c[3 * t[k] + 1], c[3 * t[k] + 2]];
  let found = Infinity;
  for (let k = 0; k < t.length; k += 3) {
    const a = corner(k), u = minus(corner(k + 1), a), v = minus(corner(k + 2), a), p = cross(d, v), det = dot(u, p);
    if (Math.abs(det) < 1e-14) continue;
    const s = minus(o, a), x = dot(s, p) / det, q = cross(s, u), y = dot(d, q) / det, far = dot(v, q) / det;
    if (x >= 0 && y >= 0 && x + y <= 1 && far > 1e-6 && far < found) found = far;
  }
  return found < nearest ? found : Infinity;
}
