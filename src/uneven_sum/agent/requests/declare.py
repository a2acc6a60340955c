"""Declares a request once: its name, its typed arguments, and what it does to the run.

The table that dispatches requests, the lists that the host keeps, and the test of `docs/protocol.md` come from here.
"""

from __future__ import annotations

import dataclasses
import inspect
import types
import typing
from collections.abc import Callable
from typing import Any, TypeVar

from ..core.errors import Refused
from ..core.records import fact

F = TypeVar("F", bound=Callable[..., object])
Body = dict[str, Any]
PREFIX = "unevenSum/"
ABSENT: Any = object()  # the default of an argument for which null means something


@fact
class Declaration:
    """`while_running`: may come while the script runs.  `moves`: may set the script going.  `rerun`: which of those
    that were sent a rerun repeats: none (empty), the `last`, or `all`."""

    name: str
    while_running: bool = False
    moves: bool = False
    rerun: str = ""


def request(name: str, *, while_running: bool = False, moves: bool = False, rerun: str = "") -> Callable[[F], F]:
    """Mark a method as the answer to a request.

    Its parameters are the arguments, by their types: `frame_id: int = 0` is `frameId`.  A parameter whose type is a
    dataclass takes its fields from the arguments; one that is called `arguments` takes them all as they are.
    """

    def mark(method: F) -> F:
        # mypy: read by `declared`
        method.declaration = Declaration(name, while_running, moves, rerun)  # type: ignore[attr-defined]
        return method

    return mark


@fact
class Argument:
    """A parameter of a request's method; `fields` where its type is a dataclass."""

    name: str
    kind: Any
    default: object
    fields: tuple[Argument, ...] = ()

    @property
    def key(self) -> str:
        """Its name on the wire: `frame_id` is `frameId`, `as_` is `as`."""
        first, *rest = self.name.rstrip("_").split("_")
        return first + "".join(part.capitalize() for part in rest)


@fact
class Answered:
    """A request and what answers it."""

    declaration: Declaration
    method: Callable[..., Body]
    arguments: tuple[Argument, ...]

    def keys(self) -> list[str]:
        """The arguments by their names on the wire."""
        return [part.key for a in self.arguments for part in a.fields or (a,) if a.name != "arguments"]

    def __call__(self, given: Body) -> Body:
        """The answer.  Refused when an argument is missing or of another type."""
        return self.method(**{a.name: given if a.name == "arguments" else _taken(given, a) for a in self.arguments})


def declared(part: object) -> dict[str, Answered]:
    """The requests that an object answers, by name."""
    found = {}
    for name in dir(type(part)):
        declaration = getattr(getattr(type(part), name), "declaration", None)
        if declaration is not None:
            method = getattr(part, name)
            found[declaration.name] = Answered(declaration, method, _arguments(method))
    return found


def _arguments(method: Callable[..., object]) -> tuple[Argument, ...]:
    hints = typing.get_type_hints(method)
    found = []
    for name, parameter in inspect.signature(method).parameters.items():
        kind = hints[name]
        fields: tuple[Argument, ...] = ()
        if dataclasses.is_dataclass(kind):
            own = typing.get_type_hints(kind)
            fields = tuple(Argument(f.name, own[f.name], f.default) for f in dataclasses.fields(kind))
        found.append(Argument(name, kind, parameter.default, fields))
    return tuple(found)


def _taken(given: Body, argument: Argument) -> object:
    if argument.fields:
        return argument.kind(**{f.name: _taken(given, f) for f in argument.fields})
    key, default = argument.key, argument.default
    if key not in given or (given[key] is None and default is not ABSENT):
        if default in (inspect.Parameter.empty, dataclasses.MISSING):
            raise Refused(f"The argument {key} is missing.")
        return default
    try:
        return _converted(given[key], argument.kind)
    except (TypeError, ValueError):
        raise Refused(f"The argument {key} is of the wrong type: {given[key]!r}.") from None


def _converted(value: object, kind: Any) -> object:
    origin = typing.get_origin(kind)
    if origin in (typing.Union, types.UnionType):
        kinds = [k for k in typing.get_args(kind) if k is not type(None)]
        return None if value is None else _converted(value, kinds[0])
    if origin is list:
        if not isinstance(value, (list, tuple)):
            raise TypeError
        (inner,) = typing.get_args(kind)
        return [_converted(v, inner) for v in value]
    if origin is dict or kind is dict:
        if not isinstance(value, dict):
            raise TypeError
        return value
    if kind in (int, float, bool):
        return kind(value)
    return str(value) if kind is str else value
