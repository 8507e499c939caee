"""XML in and out. Files are not trusted: no entities, nothing fetched, nothing included; errors with their line."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

from veldrain.errors import VeldrainError

MOST = 50e6  # bytes


class XmlReader:
    """What readers of XML formats share: attributes as texts and numbers, each mistake with its line."""

    def __init__(self, root: Any, path: Path) -> None:
        self.root, self.path = root, path

    def at(self, element: Any) -> str:
        """File and line of an element."""
        return f"{self.path}:{element.sourceline}"

    def text(self, element: Any, word: str, default: str | None = None) -> str:
        """An attribute.

        Raises:
            VeldrainError: it is not there, and there is no default.
        """
        value = element.get(word, default)
        if value is None:
            name = element.tag.rpartition("}")[2]
            raise VeldrainError(f"<{name}> has no {word}=", where=self.at(element), cure=f'add {word}="…"')
        return str(value)

    def number(self, element: Any, word: str, default: float | None = None) -> float:
        """An attribute that is a finite number.

        Raises:
            VeldrainError: it is not there and there is no default, or it is none.
        """
        if element.get(word) is None and default is not None:
            return default
        text = self.text(element, word)
        try:
            number = float(text)
        except ValueError:
            number = math.nan
        if not math.isfinite(number) or abs(number) > 1e12:
            name = element.tag.rpartition("}")[2]
            raise VeldrainError(
                f"{word}={text!r} of <{name}> is no number", where=self.at(element), cure="give a finite number"
            )
        return number


def parse_xml(content: bytes, path: Path) -> Any:
    """The root element (lxml) of a file's content, without comments.

    Raises:
        VeldrainError: broken XML, with its line; a DOCTYPE, which can pull in entities and other files.
    """
    from lxml import etree

    if len(content) > MOST:
        raise VeldrainError(f"XML of {len(content) / 1e6:.0f} MB", where=str(path), cure="see that it is the one")
    refused = VeldrainError(
        "has a DOCTYPE, which could pull in other files",
        where=f"{path}:1",
        cure="take the DOCTYPE and its entities out",
    )
    if b"<!DOCTYPE" in content:
        raise refused
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, remove_comments=True, remove_pis=True
    )
    try:
        root = etree.fromstring(content, parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        line = getattr(error, "lineno", None) or 1
        said = " ".join(str(error.msg if isinstance(error, etree.XMLSyntaxError) else error).split())
        raise VeldrainError(
            f"broken XML: {said}", where=f"{path}:{line}", cure="mend it there or just before"
        ) from error
    info: Any = root.getroottree().docinfo
    if info.doctype or any(True for _ in root.iter(etree.Entity)):  # in another encoding
        raise refused
    return root


def add(parent: Any, name: str, /, **words: Any) -> Any:
    """A new element in another one. What is None is left out; a word that Python has for itself ends with ``_``."""
    from lxml import etree

    told = {word.rstrip("_"): _text(value) for word, value in words.items() if value is not None}
    return etree.SubElement(parent, name, told)


def written(root: Any) -> bytes:
    """The bytes of a file."""
    from lxml import etree

    etree.indent(root)
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8"))


def _text(value: Any) -> str:
    if isinstance(value, bool):
        return "true" if value else "false"
    return repr(float(value)) if isinstance(value, float) else str(value)
