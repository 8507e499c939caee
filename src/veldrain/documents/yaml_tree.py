"""YAML text as plain maps, lists and values that know their lines.

The nodes come from ruamel.yaml, through its compiled parser where that is installed: a tenth of the time.
"""

from __future__ import annotations

import re
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.constructor import DuplicateKeyError
from ruamel.yaml.error import MarkedYAMLError
from ruamel.yaml.nodes import MappingNode, ScalarNode

MOST_BRACKETS = 200  # open at once: the compiled parser goes that deep without a thought, and falls over far beyond


class Marked:
    """What knows the lines (from 0 on) of what is in it, by key or place."""

    lines: dict[Any, int]


class Map(dict[Any, Any], Marked):
    """A map of a file."""


class Items(list[Any], Marked):
    """A list of a file."""


def tree_of(text: str) -> Any:
    """The data of a text.

    Raises:
        MarkedYAMLError: it is not YAML, or a map has a key twice.
    """
    if not _is_deep(text):
        try:
            return _read(YAML(typ="safe"), text)
        except MarkedYAMLError:
            pass  # the compiled parser knows less of YAML 1.2, such as {use: file.py:Name}; the other one decides
    return _read(YAML(typ="safe", pure=True), text)


def _read(yaml: Any, text: str) -> Any:
    root = yaml.compose(text)
    return None if root is None else _Builder(yaml.constructor).made(root)


def _is_deep(text: str) -> bool:
    """True for what may be nested so deep that a compiled parser runs out of stack."""
    depth = deepest = 0
    for bracket in re.findall(r"[\[\]{}]", text):
        depth += 1 if bracket in "[{" else -1
        deepest = max(deepest, depth)
    indents = max((len(found) for found in re.findall(r"(?m)^[ \-?:]+", text)), default=0)
    return deepest > MOST_BRACKETS or indents > 2 * MOST_BRACKETS


class _Builder:
    """Makes data of nodes; a node that is named again gives the same data."""

    def __init__(self, constructor: Any) -> None:
        self._constructor = constructor
        self._known: dict[int, Any] = {}

    def made(self, node: Any) -> Any:
        """The data of a node."""
        if id(node) in self._known:
            return self._known[id(node)]
        if isinstance(node, ScalarNode) or not node.tag.startswith("tag:yaml.org,2002:"):
            return self._constructor.construct_object(node, deep=True)
        if isinstance(node, MappingNode):
            return self._map(node)
        found = self._known[id(node)] = Items()
        found.lines = {k: item.start_mark.line for k, item in enumerate(node.value)}
        found.extend(self.made(item) for item in node.value)
        return found

    def _map(self, node: Any) -> Map:
        found = self._known[id(node)] = Map()
        found.lines = {}
        merged: list[Any] = []
        for key_node, value_node in node.value:
            if key_node.tag == "tag:yaml.org,2002:merge":
                merged += value_node.value if not isinstance(value_node, MappingNode) else [value_node]
                continue
            key = self.made(key_node)
            if isinstance(key, Map | Items):
                key = str(key)
            if key in found:
                raise DuplicateKeyError(
                    "a map", node.start_mark, f'found duplicate key "{key}"', key_node.start_mark, None, None
                )
            found.lines[key] = key_node.start_mark.line
            found[key] = self.made(value_node)
        for other in merged:
            for key, value in self.made(other).items():
                if key not in found:
                    found[key], found.lines[key] = value, node.start_mark.line
        return found
