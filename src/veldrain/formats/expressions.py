"""Expressions of xacro files, evaluated without Python: numbers, texts, lists, tables, comparison, named functions.

An expression is parsed, never compiled. What it may do is here; what is not here it may not.
"""

from __future__ import annotations

import ast
import math
import operator
import re
from collections.abc import Callable, Iterable, Mapping
from typing import Any

from veldrain.errors import VeldrainError

MOST = 100_000  # characters or items that a value may hold
MOST_BITS = 64  # of a whole number
MOST_WIDTH = 100  # of a number in a text's format

_MATH = (
    "acos asin atan atan2 ceil cos cosh degrees exp fabs floor fmod hypot isclose isfinite isinf isnan log log10 log2 "
    "radians sin sinh sqrt tan tanh trunc copysign acosh asinh atanh expm1 log1p"
)
_CONSTANTS = {"pi": math.pi, "e": math.e, "tau": math.tau, "inf": math.inf, "nan": math.nan}


def _range(*bounds: int) -> list[int]:
    made = range(*bounds)
    if len(made) > MOST:
        raise VeldrainError(f"a range of {len(made)} numbers")
    return list(made)


FUNCTIONS: dict[str, Callable[..., Any]] = {
    **{name: getattr(math, name) for name in _MATH.split()},
    "pow": lambda base, exponent: _power(base, exponent),
    "abs": abs, "all": all, "any": any, "bool": bool, "dict": dict, "enumerate": lambda x, s=0: list(enumerate(x, s)),
    "float": float, "int": int, "len": len, "list": list, "max": max, "min": min, "range": _range, "round": round,
    "sorted": sorted, "str": str, "sum": sum, "tuple": tuple, "zip": lambda *x: list(zip(*x, strict=False)),
}  # fmt: skip
_TEXT = (
    "lower upper strip lstrip rstrip split startswith endswith find index count isdigit isalpha capitalize title "
    "removeprefix removesuffix"
)
METHODS: dict[type, frozenset[str]] = {
    str: frozenset([*_TEXT.split(), "replace", "join"]),
    list: frozenset(["index", "count"]),
    tuple: frozenset(["index", "count"]),
    dict: frozenset(["keys", "values", "items", "get"]),
}
_BINARY: dict[type[ast.operator], Callable[[Any, Any], Any]] = {
    ast.Add: operator.add, ast.Sub: operator.sub, ast.Div: operator.truediv, ast.FloorDiv: operator.floordiv,
}  # fmt: skip
_UNARY: dict[type[ast.unaryop], Callable[[Any], Any]] = {
    ast.USub: operator.neg, ast.UAdd: operator.pos, ast.Not: operator.not_,
}  # fmt: skip
_COMPARED: dict[type[ast.cmpop], Callable[[Any, Any], Any]] = {
    ast.Eq: operator.eq, ast.NotEq: operator.ne, ast.Lt: operator.lt, ast.LtE: operator.le, ast.Gt: operator.gt,
    ast.GtE: operator.ge, ast.In: lambda a, b: a in b, ast.NotIn: lambda a, b: a not in b,
    ast.Is: operator.is_, ast.IsNot: operator.is_not,
}  # fmt: skip


def evaluate(expression: str, names: Mapping[str, Any], functions: Mapping[str, Callable[..., Any]]) -> Any:
    """The value of an expression.

    Args:
        expression: such as ``2 * pi * radius``.
        names: values by name; what can be called of them is not.
        functions: what may be called beside ``FUNCTIONS``, also as ``xacro.name``.

    Raises:
        VeldrainError: a name, call or operation that it may not use, or a value of more than it may hold.
        SyntaxError, TypeError, ValueError, ArithmeticError, LookupError: as Python has them.

    >>> evaluate("max(width, 2) * 3", {"width": 1.5}, {})
    6
    """
    try:
        tree = ast.parse(expression.strip(), mode="eval")
    except (RecursionError, MemoryError):
        raise VeldrainError("an expression that is nested too deeply") from None
    return _Evaluator(names, functions).value(tree.body)


class _Evaluator:
    def __init__(self, names: Mapping[str, Any], functions: Mapping[str, Callable[..., Any]]) -> None:
        self.names, self.functions = names, functions

    def value(self, node: ast.expr) -> Any:
        """The value of a part of an expression."""
        act: Callable[[Any], Any] | None = getattr(self, f"_{type(node).__name__.lower()}", None)
        if isinstance(node, ast.ListComp | ast.SetComp | ast.DictComp | ast.GeneratorExp | ast.Lambda):
            raise VeldrainError(f"a loop or function in an expression: '{ast.unparse(node)[:60]}'")
        if act is None:
            raise VeldrainError(f"'{ast.unparse(node)[:60]}' is not for an expression")
        return bounded(act(node))

    def _constant(self, node: ast.Constant) -> Any:
        if node.value is not None and not isinstance(node.value, bool | int | float | str):
            raise VeldrainError(f"'{ast.unparse(node)[:60]}' is not for an expression")
        return node.value

    def _name(self, node: ast.Name) -> Any:
        if node.id in self.names:
            found = self.names[node.id]
            if not callable(found):
                return found
        if node.id in _CONSTANTS:
            return _CONSTANTS[node.id]
        raise VeldrainError(f"no name '{node.id}'" if node.id not in FUNCTIONS else f"'{node.id}' is to be called")

    def _attribute(self, node: ast.Attribute) -> Any:
        if isinstance(node.value, ast.Name) and node.value.id == "math" and node.attr in _CONSTANTS:
            return _CONSTANTS[node.attr]
        owner = self.value(node.value)
        if isinstance(owner, dict) and node.attr in owner and not callable(owner[node.attr]):
            return owner[node.attr]
        raise VeldrainError(f"no '{node.attr}' in '{ast.unparse(node.value)[:40]}'")

    def _call(self, node: ast.Call) -> Any:
        if any(isinstance(a, ast.Starred) for a in node.args) or any(k.arg is None for k in node.keywords):
            raise VeldrainError(f"'{ast.unparse(node)[:60]}' is not for an expression")
        act = self._called(node.func)
        given = [self.value(argument) for argument in node.args]
        return act(*given, **{str(k.arg): self.value(k.value) for k in node.keywords})

    def _called(self, node: ast.expr) -> Callable[..., Any]:
        if isinstance(node, ast.Attribute):
            space = node.value.id if isinstance(node.value, ast.Name) else ""
            if space in ("math", "python", "xacro"):
                table = self.functions if space == "xacro" else FUNCTIONS
                if node.attr in table:
                    return table[node.attr]
                raise VeldrainError(f"no function '{space}.{node.attr}' for an expression")
            owner = self.value(node.value)
            kind = next((k for k in METHODS if isinstance(owner, k)), None)
            if kind is None or node.attr not in METHODS[kind]:
                raise VeldrainError(f"no function '{node.attr}' of '{ast.unparse(node.value)[:40]}'")
            if kind is str and node.attr in ("replace", "join"):
                return lambda *given: _grown(owner, node.attr, *given)
            found = getattr(kind, node.attr)  # of the kind itself, whatever the value's own class makes of it
            return lambda *given: _settled(found(owner, *given))
        if isinstance(node, ast.Name) and (node.id in self.functions or node.id in FUNCTIONS):
            return self.functions.get(node.id) or FUNCTIONS[node.id]
        raise VeldrainError(f"no function '{ast.unparse(node)[:60]}' for an expression")

    def _binop(self, node: ast.BinOp) -> Any:
        left, right = self.value(node.left), self.value(node.right)
        if isinstance(node.op, ast.Pow):
            return _power(left, right)
        if isinstance(node.op, ast.Mult):
            for many, count in ((left, right), (right, left)):
                if isinstance(many, str | list | tuple) and isinstance(count, int) and len(many) * count > MOST:
                    raise VeldrainError(f"a text or list that is multiplied to {len(many) * count} characters or items")
            return left * right
        if isinstance(node.op, ast.Mod):
            if isinstance(left, str) and any(int(w) > MOST_WIDTH for w in re.findall(r"\d+", left)) | ("*" in left):
                raise VeldrainError(f"a format that is too wide: '{left[:40]}'")
            return left % right
        if type(node.op) not in _BINARY:
            raise VeldrainError(f"'{ast.unparse(node)[:60]}' is not for an expression")
        return _BINARY[type(node.op)](left, right)

    def _unaryop(self, node: ast.UnaryOp) -> Any:
        if type(node.op) not in _UNARY:
            raise VeldrainError(f"'{ast.unparse(node)[:60]}' is not for an expression")
        return _UNARY[type(node.op)](self.value(node.operand))

    def _boolop(self, node: ast.BoolOp) -> Any:
        found: Any = None
        for part in node.values:
            found = self.value(part)
            if bool(found) is isinstance(node.op, ast.Or):
                break
        return found

    def _compare(self, node: ast.Compare) -> bool:
        left = self.value(node.left)
        for op, part in zip(node.ops, node.comparators, strict=True):
            right = self.value(part)
            if not _COMPARED[type(op)](left, right):
                return False
            left = right
        return True

    def _ifexp(self, node: ast.IfExp) -> Any:
        return self.value(node.body if self.value(node.test) else node.orelse)

    def _subscript(self, node: ast.Subscript) -> Any:
        owner = self.value(node.value)
        if isinstance(node.slice, ast.Slice):
            ends = (node.slice.lower, node.slice.upper, node.slice.step)
            return owner[slice(*(None if end is None else self.value(end) for end in ends))]
        return owner[self.value(node.slice)]

    def _list(self, node: ast.List) -> list[Any]:
        return [self.value(part) for part in node.elts]

    def _tuple(self, node: ast.Tuple) -> tuple[Any, ...]:
        return tuple(self.value(part) for part in node.elts)

    def _dict(self, node: ast.Dict) -> dict[Any, Any]:
        if None in node.keys:
            raise VeldrainError(f"'{ast.unparse(node)[:60]}' is not for an expression")
        return {self.value(k): self.value(v) for k, v in zip(node.keys, node.values, strict=True) if k is not None}


def _settled(value: Any) -> Any:
    """Views of a table as lists."""
    return list(value) if isinstance(value, Iterable) and not isinstance(value, str | list | tuple | dict) else value


def _power(base: Any, exponent: Any) -> Any:
    if isinstance(base, int) and isinstance(exponent, int) and base.bit_length() * max(exponent, 0) > 2 * MOST_BITS:
        raise VeldrainError(f"a power that is too large: {base} ** {exponent}")
    return base**exponent


def _grown(text: str, word: str, *given: Any) -> str:
    """A text with parts replaced, or put between others; what it would hold is known before it is made."""
    if word == "replace":
        old, new = given
        length = len(text) + (text.count(old) if old else len(text) + 1) * len(new)
        act: Callable[[], str] = lambda: text.replace(old, new)  # noqa: E731
    else:
        (parts,) = given
        length = sum(map(len, parts)) + len(text) * len(parts)
        act = lambda: text.join(parts)  # noqa: E731
    if length > MOST:
        raise VeldrainError(f"a text of {length} characters")
    return act()


def bounded(value: Any) -> Any:
    """A value, if it holds no more than it may, in all that it holds.

    Raises:
        VeldrainError: a whole number of too many digits, a text that is too long, a list of too many things.
    """
    left, waiting = MOST, [value]
    while waiting:
        one = waiting.pop()
        if isinstance(one, int) and one.bit_length() > MOST_BITS:
            raise VeldrainError(f"a number of more than {MOST_BITS} bits")
        if isinstance(one, str | list | tuple | dict):
            left -= len(one) + 1
            if isinstance(one, dict):
                waiting += [*one.keys(), *one.values()]
            elif not isinstance(one, str):
                waiting += one
        if left < 0:
            raise VeldrainError(f"a value of more than {MOST} characters or items")
    return value
