"""Objects: their attributes, read without running their code; functions, modules, classes, files, errors."""

from __future__ import annotations

import io
import itertools
import re
import types
from collections.abc import Callable
from typing import Any

from ...core.markers import MISSING
from ...core.text import clean, plural
from ..safe_read import kind_name, read_attribute, safe_kind
from .base import Fact, Kind, Pair, Summary, element, register


def attributes(value: object) -> dict[str, Any]:
    """The attributes that an object holds itself; nothing of the script's is run to read them."""
    found: dict[str, object] = {}
    try:
        own = object.__getattribute__(value, "__dict__")
        if isinstance(own, dict):
            found.update((n, v) for n, v in dict.items(own) if isinstance(n, str))
    except (AttributeError, TypeError):
        pass
    for base in type.__dict__["__mro__"].__get__(type(value)):
        slots = base.__dict__.get("__slots__", ())
        for name in (slots,) if isinstance(slots, str) else tuple(slots)[:1000]:
            if not isinstance(name, str) or (name.startswith("__") and name.endswith("__")):
                continue
            if name.startswith("__") and base.__name__.strip("_"):  # a private one: the compiler has changed its name
                name = f"_{base.__name__.lstrip('_')}{name}"
            held = read_attribute(value, name)
            if held is not MISSING:
                found.setdefault(name, held)
    return found


def properties(value: object) -> list[str]:
    """Names whose value would have to be computed by the object's own code."""
    found = []
    for base in type.__dict__["__mro__"].__get__(type(value)):
        found += [n for n, v in base.__dict__.items() if isinstance(v, property) and not n.startswith("__")]
    return list(dict.fromkeys(found))


def _object(value: object) -> Summary:
    kind = type(value)
    held = attributes(value)
    if held:
        shown = ", ".join(f"{n}={element(v)}" for n, v in itertools.islice(held.items(), 4))
        dots = ", …" if len(held) > 4 else ""
        return {"text": f"{kind.__name__}({shown}{dots})", "kind": "object"}
    if safe_kind(kind) and kind.__module__ != "builtins":
        text = clean(" ".join(repr(value).split()))
        if " object at 0x" not in text:
            return {"text": text, "kind": "object"}
    return {"text": f"{kind.__name__} object", "kind": "object"}


def _facts(value: object) -> list[Fact]:
    facts = [("class", kind_name(type(value))), ("attributes", str(len(attributes(value))))]
    bases = [kind_name(b) for b in type.__dict__["__mro__"].__get__(type(value))[1:-1]]
    if bases:
        facts.append(("bases", ", ".join(bases[:5])))
    asked = properties(value)
    if asked:
        facts.append(("properties", ", ".join(asked[:8]) + " (read when asked)"))
    return facts


def _children(value: object, start: int, count: int) -> list[Pair]:
    return list(itertools.islice(attributes(value).items(), start, start + count))


def _count(value: object) -> int:
    return len(attributes(value))


def _dataclass(value: Any) -> Summary:
    names = list(type(value).__dataclass_fields__)
    held = [(n, read_attribute(value, n)) for n in names]
    shown = ", ".join(f"{n}={element(v)}" for n, v in held[:5] if v is not MISSING)
    return {"text": f"{type(value).__name__}({shown}{', …' if len(held) > 5 else ''})", "kind": "object"}


def _exception(value: BaseException) -> Summary:
    args = BaseException.__getattribute__(value, "args")
    return {"text": f"{type(value).__name__}({', '.join(element(a) for a in args[:3])})", "kind": "object"}


def _exception_children(value: BaseException, start: int, count: int) -> list[Pair]:
    pairs: list[Pair] = [("args", BaseException.__getattribute__(value, "args")), *attributes(value).items()]
    return pairs[start : start + count]


def _function(value: Any) -> Summary:
    code = getattr(value, "__code__", None)
    where = f", line {code.co_firstlineno}" if code else ""
    arguments = ", ".join(code.co_varnames[: code.co_argcount]) if code else "…"
    return {"text": f"function {value.__name__}({arguments}){where}", "kind": "callable"}


def _function_facts(value: object) -> list[Fact]:
    code = getattr(value, "__code__", None)
    if code is None:
        return []
    return [("file", clean(code.co_filename)), ("line", str(code.co_firstlineno)), ("module", str(value.__module__))]


def _method(value: types.MethodType) -> Summary:
    inner = value.__func__
    return _function(inner) if hasattr(inner, "__code__") else _named("method")(value)


def _named(word: str) -> Callable[[object], Summary]:
    return lambda value: {"text": f"{word} {getattr(value, '__name__', '?')}", "kind": "callable"}


def _class(value: type) -> Summary:
    return {"text": f"class {kind_name(value)}", "kind": "callable"}


def _module_facts(value: object) -> list[Fact]:
    names = [n for n in value.__dict__ if not n.startswith("_")]
    return [("file", clean(str(value.__dict__.get("__file__", "built in")))), ("names", plural(len(names), "name"))]


def _generator(value: Any) -> Summary:
    frame = getattr(value, "gi_frame", None) or getattr(value, "cr_frame", None)
    state = f"at line {frame.f_lineno}" if frame is not None else "used up"
    return {"text": f"{type(value).__name__} {value.__name__}, {state}", "kind": "object"}


def _file(value: Any) -> Summary:
    kind = type(value)
    if kind.__module__ != "_io":
        return _object(value)  # a class of the script's: its own `closed` would be run
    if value.closed:
        state = "closed"
    elif kind is io.BytesIO:
        return {"text": f"{plural(value.getbuffer().nbytes, 'byte')} in memory, at {value.tell()}", "kind": "object"}
    elif kind is io.StringIO:
        return {"text": f"text in memory, at {value.tell()}", "kind": "object"}
    else:
        state = "open"
    name = getattr(value, "name", "")
    shown = f"file {clean(str(name), 60)}" if name != "" else kind.__name__
    return {"text": f"{shown}, {state}", "kind": "object"}


def _file_facts(value: Any) -> list[Fact]:
    if type(value).__module__ != "_io":
        return _facts(value)
    facts = [(n, clean(str(found))) for n in ("name", "mode") if (found := getattr(value, n, None)) is not None]
    if not value.closed and getattr(value, "encoding", None):
        facts.append(("encoding", str(value.encoding)))
    return facts


def _match(value: re.Match[str]) -> Summary:
    return {"text": f"match {clean(repr(value.group()), 60)} at {value.start()}…{value.end()}", "kind": "object"}


def _match_children(value: re.Match[str], start: int, count: int) -> list[Pair]:
    pairs: list[Pair] = [("whole", value.group()), *((f"group {n}", g) for n, g in enumerate(value.groups(), 1))]
    return (pairs + list(value.groupdict().items()))[start : start + count]


def _enum(value: object) -> Summary:
    held = object.__getattribute__(value, "__dict__")
    return {"text": f"{type(value).__name__}.{held.get('_name_')} = {element(held.get('_value_'))}", "kind": "scalar"}


def _random(value: object) -> Summary:
    bits = read_attribute(value, "bit_generator")
    name = type(bits).__name__ if bits is not MISSING else ""
    return {"text": f"random generator {name}".strip(), "kind": "object"}


register(Kind(_object, _facts, _count, _children), object)
register(Kind(_function, _function_facts), types.FunctionType)
register(Kind(_named("function")), types.BuiltinFunctionType)
register(Kind(_method), types.MethodType)
register(Kind(_named("module"), _module_facts), types.ModuleType)
register(Kind(_class), type)
register(Kind(_generator), types.GeneratorType, types.CoroutineType)
register(Kind(lambda v: {"text": f"async generator {v.__name__}", "kind": "object"}), types.AsyncGeneratorType)
register(Kind(_file, _file_facts), io.IOBase.__base__ or io.IOBase)  # what the built-in ones have in common
register(Kind(_match, None, lambda v: len(v.groups()) + 1, _match_children), names=("re.Match",))
register(
    Kind(lambda v: {"text": f"pattern {clean(repr(v.pattern), 60)}", "kind": "object"}, None), names=("re.Pattern",)
)
register(
    Kind(lambda v: {"text": clean(str(v)), "kind": "scalar"}), names=("pathlib.PurePath", "pathlib._local.PurePath")
)
register(Kind(_enum), names=("enum.Enum",))
register(Kind(_random), names=("numpy.random._generator.Generator", "numpy.random.mtrand.RandomState", "random.Random"))
register(Kind(_exception, _facts, lambda v: 1 + len(attributes(v)), _exception_children), BaseException)
register(
    Kind(_dataclass, _facts, _count, _children),
    test=lambda kind: "__dataclass_fields__" in kind.__dict__ or hasattr(kind, "__dataclass_fields__"),
)
