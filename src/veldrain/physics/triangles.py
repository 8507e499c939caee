"""Meshes of triangles that stand still: a tree of boxes to find the near ones, and one triangle as a shape."""

from __future__ import annotations

from veldrain.kernel import kernel
from veldrain.physics.plant import BOX, CAPSULE, CYLINDER, ELLIPSOID, SPHERE
from veldrain.physics.spatial import add, cross, dot, minus, put, scaled, triple, turned, turned_back

ON_SIDE = 1e-5  # share of a triangle's size within which a point counts as on its side


@kernel
def box_in(g, mesh):
    """Low and high corner of the box around a shape, along the axes of a mesh."""
    low, high, R = triple(g.box), triple(g.box[3:6]), mesh.rot
    mid = turned_back(R, minus(scaled(add(low, high), 0.5), triple(mesh.pos)))
    half = scaled(minus(high, low), 0.5)
    reach = (
        abs(R[0, 0]) * half[0] + abs(R[1, 0]) * half[1] + abs(R[2, 0]) * half[2],
        abs(R[0, 1]) * half[0] + abs(R[1, 1]) * half[1] + abs(R[2, 1]) * half[2],
        abs(R[0, 2]) * half[0] + abs(R[1, 2]) * half[1] + abs(R[2, 2]) * half[2],
    )
    return minus(mid, reach), add(mid, reach)


@kernel
def next_branch(branches, k, low, high):
    """Look at a branch: is it a leaf near a box, where to go on, and the leaf's faces."""
    branch = branches[k]
    near = True
    for r in range(3):
        near = near and low[r] <= branch.box[3 + r] and high[r] >= branch.box[r]
    leaf = branch.end > branch.first
    return near and leaf, (k + 1 if near else branch.skip), branch.first, branch.end


@kernel
def is_in_reach(face, low, high):
    """True where the box around a triangle overlaps another."""
    at = face.at
    for r in range(3):
        if low[r] > max(at[0, r], at[1, r], at[2, r]) or high[r] < min(at[0, r], at[1, r], at[2, r]):
            return False
    return True


@kernel
def is_beside(g, mesh, face, margin):
    """True where a triangle is farther than a margin from the box around a shape, along the shape's own axes."""
    size = g.size
    if g.kind == BOX or g.kind == ELLIPSOID:
        half = (size[0], size[1], size[2])
    elif g.kind == SPHERE:
        half = (size[0], size[0], size[0])
    elif g.kind == CYLINDER:
        half = (size[0], size[0], size[1])
    elif g.kind == CAPSULE:
        half = (size[0], size[0], size[0] + size[1])
    else:
        return False
    pos = minus(triple(mesh.pos), triple(g.pos))
    a = turned_back(g.rot, add(pos, turned(mesh.rot, triple(face.at[0]))))
    b = turned_back(g.rot, add(pos, turned(mesh.rot, triple(face.at[1]))))
    c = turned_back(g.rot, add(pos, turned(mesh.rot, triple(face.at[2]))))
    for r in range(3):
        wide = half[r] + margin
        if min(a[r], b[r], c[r]) > wide or max(a[r], b[r], c[r]) < -wide:
            return True
    return False


@kernel
def set_probe(probe, mesh, face, corners, place):
    """Make the probe the triangle ``face`` of a mesh, in world axes about its centre."""
    centre = scaled(add(add(triple(face.at[0]), triple(face.at[1])), triple(face.at[2])), 1.0 / 3.0)
    probe.node = mesh.node
    for k in range(6):
        probe.surface[k] = mesh.surface[k]
    put(probe.belt, turned(mesh.rot, triple(mesh.belt)))
    put(probe.pos, add(triple(mesh.pos), turned(mesh.rot, centre)))
    for k in range(3):
        corner = turned(mesh.rot, minus(triple(face.at[k]), centre))
        put(corners[k].at, corner)
        put(place.at[k], corner)
    put(place.normal, turned(mesh.rot, triple(face.normal)))
    place.corners = 3
    put(place.lean, triple(face.lean))


@kernel
def side_distance(face, k, point):
    """How far inside of side k of a triangle a point of its plane lies, as a share of the triangle's size."""
    a, b = triple(face.at[k]), triple(face.at[(k + 1) % 3])
    edge = minus(b, a)
    inward = cross(triple(face.normal), edge)
    return dot(inward, minus(point, a)) / dot(edge, edge)


@kernel
def may_lean(face, point, upright):
    """True where a normal at a point may lean away from the triangle's own: on outer sides, as far as their bend."""
    is_near, may = False, True
    for k in range(3):
        if side_distance(face, k, point) < ON_SIDE:
            is_near = True
            may = may and upright >= face.lean[k]
    return is_near and may


@kernel
def within(face, point):
    """True for a point of the triangle's plane inside the triangle."""
    return min(side_distance(face, 0, point), side_distance(face, 1, point), side_distance(face, 2, point)) > -ON_SIDE
