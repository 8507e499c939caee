"""Where the files that a robot file names are looked for, and which it may not name."""

from __future__ import annotations

from pathlib import Path

from veldrain.errors import VeldrainError


class Folders:
    """The folders of one robot file.

    A file may be named from the robot file's own folder, or from the package around it (the nearest folder above that
    holds a ``package.xml``), and from the search folders: nothing outside of these is ever read.
    """

    def __init__(self, file: Path, search: list[Path]) -> None:
        self.own = file.resolve().parent
        self.search = [folder.resolve() for folder in search]
        above = [self.own, *self.own.parents]
        self.package = next((folder for folder in above if (folder / "package.xml").is_file()), self.own)

    def find(self, name: str, where: str) -> Path:
        """The file that a name in the robot file stands for.

        Raises:
            VeldrainError: it is not there, leads out of the folders, or would have to be fetched.
        """
        scheme, sep, rest = name.partition("://")
        if sep and scheme not in ("package", "file"):
            raise VeldrainError(f"'{name}' would have to be fetched", where=where, cure="put the file beside this one")
        if sep and scheme == "package":
            package, _, inner = rest.partition("/")
            found = self.folder_of(package)
            tried = [folder / inner for folder in ([found] if found else self.search)]
        else:
            tried = [folder / (rest if sep else name) for folder in (self.own, *self.search)]
        allowed = (self.package, *self.search)
        inside = [path for path in (p.resolve() for p in tried) if any(path.is_relative_to(a) for a in allowed)]
        for path in inside:
            if path.is_file():
                return path
        if tried and not inside:
            raise VeldrainError(f"'{name}' leads out of {self.package}", where=where, cure="name its folder in search=")
        looked = ", ".join(str(a) for a in allowed)
        raise VeldrainError(f"no file '{name}'", where=where, cure=f"looked in {looked}; name its folder in search=")

    def folder_of(self, package: str) -> Path | None:
        """The folder of a package: a search folder of that name or with one inside, or one around the file."""
        for folder in self.search:
            if folder.name == package:
                return folder
            if (folder / package).is_dir():
                return folder / package
        around = [f for f in (self.own, *self.own.parents) if f.name == package and f.is_relative_to(self.package)]
        return around[0] if around else None
