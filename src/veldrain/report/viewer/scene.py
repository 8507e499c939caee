"""What a page draws of a world: shapes on frames, joints, sensors, the ground."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from veldrain.formats.glb_out import triangles_of
from veldrain.model import Mesh, Part, World
from veldrain.model.colours import rgba
from veldrain.pose import Pose
from veldrain.report.viewer.store import Store

PLAIN = "#c8c8c8"
MOST_TRIANGLES = 400_000  # of one shape; of more every so-manieth is drawn, which the page says


def scene_of(world: World, frames: tuple[str, ...], store: Store) -> tuple[dict[str, Any], list[str]]:
    """What is drawn of a world, and what is left out.

    Args:
        world: at its start.
        frames: names of the frames whose poses the page knows; shapes of others stand where they are at the start.
        store: takes the corners and triangles.
    """
    number, notes = {name: k for k, name in enumerate(frames)}, []
    meshes: list[Any] = []
    known: dict[Any, int] = {}
    parts = []
    for path, part, at, rest in _parts(world):
        key = id(part.shape) if isinstance(part.shape, Mesh) else part.shape  # equal shapes are one
        if key not in known:
            corners, triangles = triangles_of(part.shape)
            if len(triangles) > MOST_TRIANGLES:
                every = -(-len(triangles) // MOST_TRIANGLES)
                notes.append(f"of {path} one triangle of {every} is drawn")
                triangles = triangles[::every]
            known[key] = len(meshes)
            meshes.append({"corners": store.add(corners, "f4"), "triangles": store.add(triangles, "u4")})
        frame = number.get(path, -1)
        parts.append(
            {
                "name": path,
                "frame": frame,
                "mesh": known[key],
                "colour": [round(v, 4) for v in rgba(part.seen_as.colour)],
                "role": part.role,
                "at": place_of(rest if frame >= 0 else at @ rest),
            }
        )
    return {
        "meshes": meshes,
        "parts": parts,
        "ground": None if world.floor is None else world.floor.height,
        "groundColour": [round(v, 4) for v in rgba(world.floor.look.colour)]
        if world.floor is not None and world.floor.look is not None
        else None,
        "robots": [_robot(name, placed.model) for name, placed in world.placed.items()],
        "bodies": list(world.bodies),
        "obstacles": list(world.obstacles),
        "patches": [
            {"name": p.name, "at": place_of(p.pose), "size": [float(v) for v in p.size]} for p in world.patches.values()
        ],
    }, notes


def place_of(pose: Pose) -> list[float]:
    """A pose as x, y, z and a quaternion x, y, z, w."""
    return [round(float(v), 7) for v in (*pose.position, *pose.quaternion)]


def _parts(world: World) -> Iterator[tuple[str, Part, Pose, Pose]]:
    """Name path of what a part is on, the part, the pose of that at the start, and the part's pose on it."""
    for o in world.obstacles.values():
        yield o.name, o.part, o.pose, o.part.pose
    for b in world.bodies.values():
        yield b.name, b.part, b.pose, b.part.pose
    for robot in world.placed.values():
        poses = robot.model.poses(robot.joints)
        for name, link in robot.model.links.items():
            for part in link.parts:
                yield f"{robot.name}/{name}", part, robot.pose @ poses[name], part.pose


def _robot(name: str, model: Any) -> dict[str, Any]:
    joints = [
        {
            "name": joint.name,
            "kind": joint.kind,
            "frame": f"{name}/{joint.parent}",
            "at": place_of(joint.pose),
            "axis": [float(v) for v in np.array(joint.axis) / np.linalg.norm(joint.axis)],
            "child": f"{name}/{joint.child}",
            "limits": [float(v) for v in joint.limits] if joint.limits is not None else None,
        }
        for joint in model.joints.values()
    ]
    sensors = []
    for mounted in model.sensors.values():
        sensor, sight = mounted.sensor, mounted.sensor.sight()
        found: dict[str, Any] = {
            "name": f"{name}/{mounted.name}",
            "kind": type(sensor).__name__,
            "on": f"{name}/{mounted.link}",
            "at": place_of(mounted.pose),
            "period": float(sensor.period),
        }
        if sight is not None:
            found["range"] = min(float(sight.max_range), 1e4)
            found["outline"] = [np.round(lines, 4).tolist() for lines in sensor.outline()]
        if (picture := sensor.picture()) is not None:
            found["view"] = picture
        sensors.append(found)
    return {"name": name, "links": [f"{name}/{link}" for link in model.links], "joints": joints, "sensors": sensors}
