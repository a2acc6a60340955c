"""Functions that another compiler reads: it gets the plain code, and they are not watched.

Which ones these are shows when the compiler asks a function for its code; by their names alone, `vectorize` or `jit`
could be anybody's.
"""

from __future__ import annotations

import types
from collections.abc import Callable

from ..core.records import record
from ..source import plain_code, registry

# Packages that compile a function's bytecode, and how they are called.
COMPILERS = {
    "numba": "numba",
    "numba_cuda": "numba",
    "numba_dpex": "numba",
    "torch._dynamo": "torch.compile",
    "torch.fx": "torch.fx",
}


@record
class Unwatched:
    """One function that is left alone; `first` and `last` are its lines."""

    file: str
    function: str
    first: int
    last: int
    by: str

    @property
    def why(self) -> str:
        return f"{self.function} is compiled by {self.by}"


left: list[Unwatched] = []
heard: Callable[[Unwatched], None] | None = None  # called for each one
_codes: dict[int, types.CodeType] = {}


def is_left(code: types.CodeType) -> bool:
    return id(code) in _codes


def at(file: str, line: int) -> Unwatched | None:
    """The function around a line, if it is left alone."""
    return next((one for one in left if one.file == file and one.first <= line <= one.last), None)


def asked(function: object, frame: types.FrameType | None) -> None:
    """Somebody reads the code of a function; `frame` is the call that does."""
    if type(function) is not types.FunctionType or frame is None:
        return
    by = _compiler(str(frame.f_globals.get("__name__", "")))
    if not by or _busy.on:
        return
    _busy.on = True
    try:
        code = function.__code__
        plain = plain_code.plain(code)
        if plain is not code:
            _codes[id(plain)] = plain
            function.__code__ = plain
            _note(plain, by)
    finally:
        _busy.on = False


class _Busy:
    on = False


_busy = _Busy()


def _compiler(module: str) -> str:
    while module:
        if module in COMPILERS:
            return COMPILERS[module]
        module = module.rpartition(".")[0]
    return ""


def _note(code: types.CodeType, by: str) -> None:
    if registry.files.get(code.co_filename) is None:
        return
    lines = [line for _, _, line in code.co_lines() if line is not None]
    found = Unwatched(code.co_filename, code.co_qualname.rpartition(".")[2], code.co_firstlineno, max(lines), by)
    if found not in left:
        left.append(found)
        if heard is not None:
            heard(found)
