"""What an export is: one kind of file that streams, or a whole log, are written to."""

from __future__ import annotations

import logging
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from veldrain.errors import VeldrainError, unknown
from veldrain.files import file_names, new_folder
from veldrain.resolver import allowed_code, code_from_files, load_named

if TYPE_CHECKING:
    from veldrain.progress import Progress
from veldrain.recording.reading import Streams

log_ = logging.getLogger(__name__)


@dataclass(frozen=True)
class Choices:
    """How exports are made. ``frame``: what points are moved into, see ``Log.points``; None: as they were measured."""

    frame: str | None = None


class Export:
    """One kind of file. A new kind is a class below this one, in a module of this folder.

    It says its ``word``, which messages it takes (``fits``), and writes one stream to files whose paths begin with
    ``path``. One of a whole log (``is_whole``) is asked once, with no stream.
    """

    word: ClassVar[str] = ""
    is_whole: ClassVar[bool] = False
    kinds: ClassVar[dict[str, type[Export]]] = {}

    def __init_subclass__(cls) -> None:
        Export.kinds[cls.word] = cls

    def fits(self, message: str) -> bool:
        """True for a type of messages that it takes."""
        return True

    def write(self, log: Streams, stream: str, path: Path, choices: Choices) -> None:
        """Write a stream, or the whole log."""
        raise NotImplementedError(f"{type(self).__name__}.write")


def export(
    log: Streams,
    out: str | Path,
    kinds: Iterable[str],
    streams: Sequence[str] | None = None,
    choices: Choices | None = None,
    progress: Progress | None = None,
) -> list[Path]:
    """Write streams of a log to files of some kinds, in a folder of its own; all of it, or nothing.

    Raises:
        VeldrainError: an unknown kind or stream, a kind that none of the streams fits, a folder that holds something.
    """
    target, wanted = Path(out), [kinds] if isinstance(kinds, str) else list(kinds)
    makers = {kind: _maker(kind) for kind in wanted}
    chosen = list(log.messages)
    if streams is not None:
        for name in streams:
            if not any(fnmatchcase(stream, name) for stream in log.messages):
                raise unknown("stream", name, log.messages, log.where)
        chosen = [s for s in chosen if any(fnmatchcase(s, name) for name in streams)]
    jobs: list[tuple[Export, str]] = []
    for kind in wanted:
        maker = makers[kind]()
        some = [""] if maker.is_whole else [s for s in chosen if log.messages[s] and maker.fits(log.messages[s])]
        if not some:
            raise VeldrainError(
                f"no stream of it can be written as {kind}",
                where=log.where,
                cure="see what it has with veldrain streams",
            )
        jobs += [(maker, stream) for stream in some]
    made = {stream for _, stream in jobs}
    for name in streams or () if "" not in made else ():
        if "*" not in name and name in log.messages and name not in made:
            raise VeldrainError(
                f"stream '{name}' ({log.messages[name]}) cannot be written as {' or '.join(wanted)}",
                where=log.where,
                cure="name another kind, or leave the stream out",
            )
    wholes = [maker.word for maker, stream in jobs if not stream]
    named = file_names([stream for _, stream in jobs if stream], wholes, wanted)
    for stream, name in named.items():
        if name != stream.strip("/").replace("/", "."):
            log_.warning("the files of stream %r are called '%s'", stream[:80], name)
    with new_folder(target) as part:
        for k, (maker, stream) in enumerate(jobs):
            if progress:
                progress(k, len(jobs), stream or maker.word)
            maker.write(log, stream, part / (named[stream] if stream else maker.word), choices or Choices())
    return sorted(path for path in target.rglob("*") if path.is_file())


def _maker(kind: str) -> type[Export]:
    """The class of a kind, by its word, or one of the user's own by ``file.py:Name``."""
    if ":" in kind:
        with code_from_files("none" if allowed_code() == "none" else "all"):  # no file says it: who exports does
            found = load_named(kind, Path.cwd(), "export")
        if not (isinstance(found, type) and issubclass(found, Export)):
            raise VeldrainError(f"'{kind}' is no export", where="export", cure="write a class below Export")
        return found
    if kind not in Export.kinds:
        raise unknown("kind of export", kind, Export.kinds, "export")
    return Export.kinds[kind]


def needed(package: str, extra: str, what: str) -> VeldrainError:
    """What to say where an extra is not installed."""
    return VeldrainError(f"{what} needs {package}", where="export", cure=f"pip install 'veldrain[{extra}]'")
