"""One way in and one way out for robot files, whatever their format."""

from __future__ import annotations

import logging
from collections.abc import Mapping, Sequence
from pathlib import Path

from veldrain.errors import VeldrainError
from veldrain.files import read_bytes
from veldrain.formats.packages import Folders
from veldrain.formats.urdf_in import UrdfReader
from veldrain.formats.urdf_out import UrdfWriter
from veldrain.model import Model
from veldrain.model.meshes import Collide
from veldrain.xml import parse_xml

ENDINGS = (".urdf", ".xacro", ".xml")
log = logging.getLogger(__name__)


def is_robot_file(name: str) -> bool:
    """True for a name that ends as robot files do."""
    return name.lower().endswith(ENDINGS)


def load_robot(
    path: str | Path,
    *,
    search: Sequence[str | Path] = (),
    meshes: Collide = "hull",
    arguments: Mapping[str, str] | None = None,
    name: str | None = None,
    draft: bool = False,
) -> Model:
    """A model from a URDF file, or from a xacro file (with ``pip install 'veldrain[xacro]'``).

    What the file says and is not used is logged and listed in the model's ``notes``.

    Args:
        path: the file.
        search: folders in which ``package://name/…`` and relative mesh paths are looked for, beside the file's own.
        meshes: how meshes collide, see ``Mesh``.
        arguments: of a xacro file.
        name: of the model; None: the robot's own.
        draft: True keeps mistakes that can be read past in the model's ``faults``, for ``check``, and for
            ``change_link`` and ``change_joint`` to mend; those that are left are raised when it is placed.

    Raises:
        VeldrainError: the first mistake in it, with file and line.

    >>> load_robot("crawler.urdf", search=["meshes"]).joints["front_left"].kind  # doctest: +SKIP
    'continuous'
    """
    file = Path(path)
    folders = Folders(file, [Path(folder) for folder in search])
    content = read_bytes(file, "name a URDF or xacro file")
    root = parse_xml(content, file)
    place = str(file)
    if "xacro" in root.nsmap or file.suffix == ".xacro":
        from veldrain.formats.xacro_in import expanded

        root = parse_xml(expanded(file, folders, arguments or {}), file)
        place = f"{file} (expanded)"
    elif arguments:
        raise VeldrainError("arguments for a file that is no xacro", where=place, cure="leave them out")
    model = UrdfReader(root, place, folders, meshes).model(name)
    if not draft:
        model.settle()
    for note in model.notes:
        log.info("%s", note)
    return model


def save_robot(model: Model, path: str | Path) -> list[str]:
    """Write a model as URDF; ``load_robot`` gives an equal one back.

    What URDF has no words for (gains of motors, springs, loops, surfaces, frames, postures) is written in elements of
    our own namespace, which other readers pass over. Meshes from elsewhere are copied beside the file.

    Args:
        model: the model.
        path: of the file to write.

    Returns:
        What could not be written: sensors. It is logged too.

    >>> save_robot(model, "out/crawler.urdf")  # doctest: +SKIP
    []
    """
    file = Path(path)
    writer = UrdfWriter(model, file)
    try:
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(writer.content())
    except OSError as error:
        raise VeldrainError(f"cannot be written ({error.strerror})", where=str(path), cure="name another") from error
    for left in writer.left:
        log.warning("%s: %s", path, left)
    return writer.left
