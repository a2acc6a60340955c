"""Names of types, and attributes, read without running the script's code."""

from __future__ import annotations

import sys
import types
from typing import Any

from ..core.markers import MISSING


def kind_name(kind: type) -> str:
    """`float`, `numpy.float64`, `pandas.DataFrame`: a type as its users write it."""
    module = getattr(kind, "__module__", "")
    name = getattr(kind, "__qualname__", getattr(kind, "__name__", "?"))
    if not isinstance(module, str) or module in ("builtins", "__main__", ""):
        return str(name)
    top = module.partition(".")[0]
    if top in ("numpy", "pandas", "polars", "xarray") and getattr(sys.modules.get(top), name, None) is kind:
        return f"{top}.{name}"
    return f"{module}.{name}"


LIBRARIES = (
    "numpy",
    "pandas",
    "polars",
    "xarray",
    "scipy",
    "decimal",
    "fractions",
    "datetime",
    "collections",
    "array",
    "torch",
    "jax",
    "jaxlib",
)


def safe_kind(kind: type) -> bool:
    """True for types whose operators, items and attributes run no code of the user's."""
    module = getattr(kind, "__module__", "")
    return module == "builtins" or (isinstance(module, str) and module.partition(".")[0] in LIBRARIES)


def read_attribute(value: Any, name: str) -> object:
    """An attribute that can be had without running the script's code; MISSING otherwise."""
    kind = type(value)  # `isinstance` would ask for `__class__`, which may be code of the script's
    if issubclass(kind, types.ModuleType):
        return types.ModuleType.__getattribute__(value, "__dict__").get(name, MISSING)
    if safe_kind(kind):
        return getattr(value, name, MISSING)
    if issubclass(kind, type):
        for base in value.__mro__:
            if name in base.__dict__:
                found = base.__dict__[name]
                return found.__get__(None, value) if isinstance(found, types.FunctionType) else found
        return MISSING
    try:
        own = object.__getattribute__(value, "__dict__")
    except (AttributeError, TypeError):
        own = {}
    static: object = MISSING
    for base in type(value).__mro__:
        if name in base.__dict__:
            static = base.__dict__[name]
            break
    if isinstance(static, (types.MemberDescriptorType, types.GetSetDescriptorType)):
        try:
            return static.__get__(value, type(value))
        except AttributeError:
            return MISSING
    if static is not MISSING and hasattr(type(static), "__set__"):
        return MISSING  # a property
    if isinstance(own, dict) and name in own:
        return own[name]
    if isinstance(static, (types.FunctionType, classmethod, staticmethod)):
        return static.__get__(value, type(value))
    if static is not MISSING and not hasattr(type(static), "__get__"):
        return static
    return MISSING
