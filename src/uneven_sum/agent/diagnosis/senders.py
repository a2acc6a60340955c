"""Says of a call that it passes on what a worker, a thread of a pool or another process has made."""

from __future__ import annotations

import ast
import types
from collections.abc import Iterable

from ..frames.namespace import Scope
from ..source.sites import callee
from ..values import nonfinite
from ..values.safe_read import read_attribute
from . import provenance

SENDERS = {  # by the module of what is called or asked: from where its result comes
    "multiprocessing.pool": "a worker",
    "concurrent.futures": "a worker",
    "joblib.parallel": "a worker",
    "dask.delayed": "a worker",
    "distributed": "a worker",
    "multiprocessing.queues": "another process",
    "multiprocessing.connection": "another process",
    "multiprocessing.managers": "another process",
}


def _sender_of(homes: Iterable[str]) -> str:
    """Who sends, by the names of modules."""
    for home in homes:
        for module, name in SENDERS.items():
            if home == module or home.startswith(module + "."):
                return name
    return ""


def _homes(kind: type) -> list[str]:
    """The modules of a class and its bases."""
    return [str(read_attribute(one, "__module__")) for one in type.mro(kind)]


def sender(function: object, operands: list[object]) -> str:
    """`a worker` where a call passes on what another process or a pool has made; else empty."""
    held = [next(iter(nonfinite.plain_list(v)), None) for v in operands if isinstance(v, (list, tuple))]
    bound = type(function) in (types.MethodType, types.BuiltinFunctionType)
    for value in [getattr(function, "__self__", None) if bound else function, *operands, *held]:
        if isinstance(value, types.GeneratorType):
            homes = [str(value.gi_frame.f_globals.get("__name__", ""))] if value.gi_frame is not None else []
        elif isinstance(value, types.FunctionType):
            homes = [str(value.__module__)]
        else:
            homes = _homes(type(value))
        if _sender_of(homes):
            return _sender_of(homes)
    return ""


def sender_made(func: ast.expr, scope: Scope) -> str:
    """`sender` where the pool is made in the expression: `ThreadPool(2).map`, `Parallel(n_jobs=2)`."""
    made = func.value if isinstance(func, ast.Attribute) else func
    if not isinstance(made, ast.Call):
        return ""
    try:
        kind = provenance.read(made.func, scope)
    except provenance.Unreadable:
        return ""
    return _sender_of(_homes(kind)) if isinstance(kind, type) else ""


def sender_inside(node: ast.AST, scope: Scope) -> str:
    """`sender` of what a comprehension asks or goes through, as far as that can be read."""
    for one in ast.walk(node):
        if isinstance(one, ast.Call) and callee(one) == "delayed":
            return "a worker"  # Dask's and joblib's
        asked = one.func if isinstance(one, ast.Call) else None
        asked = asked.value if isinstance(asked, ast.Attribute) else asked
        asked = one.iter if isinstance(one, ast.comprehension) else asked
        if asked is None:
            continue
        try:
            value = provenance.read(asked, scope)
        except provenance.Unreadable:
            continue
        items = list(value.values()) if type(value) is dict else value if type(value) in (list, tuple) else []
        found = sender(value, list(items[:1]))
        if found:
            return found
    return ""
