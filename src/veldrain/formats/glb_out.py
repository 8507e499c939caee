"""What is seen of a world at its start, as glTF in one file (GLB): y up, as that format has it."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache
from typing import Any

import numpy as np

from veldrain.formats.glb import Glb
from veldrain.model import Mesh, Part, Shape, World
from veldrain.model.colours import rgba
from veldrain.pose import Pose

Y_UP = np.array([[1.0, 0, 0, 0], [0, 0, 1, 0], [0, -1, 0, 0], [0, 0, 0, 1]])


def glb_of(world: World) -> bytes:
    """The bytes of a GLB file; each link and thing is a node by its name path."""
    file = Glb()
    for name, part, pose in _seen(world):
        corners, triangles = triangles_of(part.shape)
        colour = {"baseColorFactor": list(rgba(part.seen_as.colour)), "metallicFactor": 0.0, "roughnessFactor": 1.0}
        mesh = {
            "attributes": {"POSITION": file.array(corners.astype(np.float32), has_bounds=True)},
            "indices": file.array(triangles.astype(np.uint32).reshape(-1, 1)),
            "material": file.add("materials", {"pbrMetallicRoughness": colour}),
        }
        at = np.eye(4)
        at[:3, :3], at[:3, 3] = pose.matrix, pose.position
        node = {"name": name, "mesh": file.add("meshes", {"name": name, "primitives": [mesh]})}
        number = file.add("nodes", node | {"matrix": (Y_UP @ at).T.ravel().tolist()})
        file.document["scenes"][0]["nodes"].append(number)
    return file.to_bytes() if "nodes" in file.document else b""


def _seen(world: World) -> Iterator[tuple[str, Part, Pose]]:
    """Parts that are seen, with their names and poses at the start."""
    for o in world.obstacles.values():
        yield o.name, o.part, o.pose @ o.part.pose
    for b in world.bodies.values():
        yield b.name, b.part, b.pose @ b.part.pose
    for robot in world.placed.values():
        poses = robot.model.poses(robot.joints)
        for name, link in robot.model.links.items():
            for k, part in enumerate(part for part in link.parts if part.role != "collision"):
                yield f"{robot.name}/{name}{f'.{k}' if k else ''}", part, robot.pose @ poses[name] @ part.pose


def triangles_of(shape: Shape) -> tuple[Any, Any]:
    """Corners (n, 3) and triangles (m, 3) of a shape."""
    return shape.triangles_of() if isinstance(shape, Mesh) else _made(shape)


@lru_cache(maxsize=256)
def _made(shape: Any) -> tuple[Any, Any]:
    return shape.triangles_of()  # type: ignore[no-any-return]
