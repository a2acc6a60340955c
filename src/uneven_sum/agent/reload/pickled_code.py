"""Functions that come into a worker pickled by their code: they get probes as those of an imported file do.

`cloudpickle`, which joblib, loky and Dask use, sends a function of `__main__` by its plain code.
"""

from __future__ import annotations

import functools
import os
import sys
import types
from typing import Any

from ..pause import headline
from ..source import plain_code, registry
from .loader import Loader

MODULE = "cloudpickle.cloudpickle"  # joblib and loky may bring one of their own
_watched: set[int] = set()  # the modules, by identity
_roots: dict[str, tuple[types.CodeType | None, types.CodeType | None]] = {}  # code of a file: plain, with probes


def look(loader: Loader) -> None:
    """Stand in what makes such functions as soon as its module has been imported."""
    for name in [n for n in list(sys.modules) if n.endswith(MODULE)]:
        module: object = sys.modules[name]
        if id(module) in _watched or not hasattr(module, "_make_function"):
            continue
        _watched.add(id(module))
        module._make_function = _making(module._make_function, loader)


def _making(original: Any, loader: Loader) -> object:
    @functools.wraps(original)
    def make(code: Any, *rest: object, **named: object) -> object:
        try:
            code = with_probes(code, loader) or code
        except Exception:
            pass  # it runs as it is
        return original(code, *rest, **named)

    return make


def with_probes(code: types.CodeType, loader: Loader) -> types.CodeType | None:
    """The code with probes of a function, under the file name that it came with; None where its file is not the
    user's, or has another text by now."""
    path = code.co_filename if os.path.isfile(code.co_filename) else headline.Main.path  # `cloudpickle` has no name
    if not loader.is_users(path):
        return None
    if path not in _roots and path in registry.files:
        return _of_module(code, path)  # it runs here, and has been pickled for a thread
    if path not in _roots:
        with open(path, "rb") as f:
            made = loader.compile(path, f.read())
        _roots[path] = plain_code.roots.get(path, [None])[-1], made
    plain, made_with_probes = _roots[path]
    if plain is None or made_with_probes is None:
        return None
    found = next((one for one in plain_code.within(plain) if one == code), None)
    if found is None:
        return None
    probed = next((one for one in plain_code.within(made_with_probes) if plain_code.plain(one) is found), None)
    return _under_its_name(probed, code.co_filename, path, plain) if probed is not None else None


def _of_module(code: types.CodeType, path: str) -> types.CodeType | None:
    """The code of the function that this one was pickled from, in the script's own module."""
    found: object = sys.modules.get("__main__")
    for name in code.co_qualname.split("."):
        found = getattr(found, "__dict__", {}).get(name)
    own = getattr(found, "__code__", None)
    if type(own) is not types.CodeType or plain_code.plain(own) != code:
        return None
    return _under_its_name(own, code.co_filename, path, plain_code.roots[path][-1])


def _under_its_name(probed: types.CodeType, name: str, path: str, plain: types.CodeType) -> types.CodeType:
    """Code with probes under the file name that `cloudpickle` gives it; it is still that of its file."""
    if probed.co_filename == name:
        return probed
    probed = _named(probed, name)
    file = registry.files[path]
    file.shown = os.path.abspath(path)
    registry.keep_text(probed, file)
    plain_code.register(name, plain)
    return probed


def _named(code: types.CodeType, name: str) -> types.CodeType:
    inner = tuple(_named(one, name) if isinstance(one, types.CodeType) else one for one in code.co_consts)
    return code.replace(co_filename=name, co_consts=inner)
