"""What programs are held together with: partial calls, weak references, memory of C's, code, XML.

What a class of the script's may have put in the place of an attribute is passed by: everything is read by the type
that the interpreter or the library has made.
"""

from __future__ import annotations

import functools
import types
import weakref
from typing import TYPE_CHECKING, Any

from ...core.text import clean, plural
from ..nonfinite import module
from ..safe_read import read_attribute
from .base import Fact, Kind, Pair, Summary, element, register

if TYPE_CHECKING:
    from xml.etree.ElementTree import Element

ARGUMENTS = 4  # shown of a partial call
XML_SHOWN = 1_000_000  # characters in the reader


def _partial_parts(value: object) -> tuple[object, tuple[object, ...], dict[str, object]]:
    kind: object = functools.partial
    func, args, named = (getattr(kind, n).__get__(value) for n in ("func", "args", "keywords"))
    return func, args, named


def _partial(value: object) -> Summary:
    func, args, named = _partial_parts(value)
    told = [element(a) for a in args] + [f"{clean(str(n), 20)}={element(v)}" for n, v in named.items()]
    dots = ", …" if len(told) > ARGUMENTS else ""
    return {"text": f"{element(func)} with {', '.join(told[:ARGUMENTS])}{dots}", "kind": "callable"}


def _partial_children(value: object, start: int, count: int) -> list[Pair]:
    return list(zip(("func", "args", "keywords"), _partial_parts(value)))[start : start + count]


def _reference(value: weakref.ref[object]) -> Summary:
    held = weakref.ref.__call__(value)
    return {"text": "weak reference, dead" if held is None else f"weak reference to {element(held)}", "kind": "object"}


def _reference_children(value: weakref.ref[object], start: int, count: int) -> list[Pair]:
    held = weakref.ref.__call__(value)
    return [("value", held)][start : start + count] if held is not None else []


def _simple(value: object) -> Summary:
    """One number or pointer of C's."""
    held = module("ctypes")._SimpleCData.value.__get__(value)
    return {"text": f"{type(value).__name__} {element(held)}", "kind": "scalar"}


def _c_array(value: object) -> Summary:
    kind = module("ctypes").Array
    count = kind.__len__(value)
    first = ", ".join(element(kind.__getitem__(value, k)) for k in range(min(count, 6)))
    return {"shape": [count], "text": f"{plural(count, 'cell')} of C's: [{first}{', …' if count > 6 else ''}]"}


def _c_array_children(value: object, start: int, count: int) -> list[Pair]:
    kind = module("ctypes").Array
    return [(f"[{k}]", kind.__getitem__(value, k)) for k in range(start, min(kind.__len__(value), start + count))]


def _fields(value: object) -> list[Pair]:
    found: list[Pair] = []
    for base in reversed(type.__dict__["__mro__"].__get__(type(value))):
        for one in base.__dict__.get("_fields_", ()):
            found.append((str(one[0]), object.__getattribute__(value, one[0])))
    return found


def _structure(value: object) -> Summary:
    held = _fields(value)
    shown = ", ".join(f"{n}={element(v)}" for n, v in held[:4])
    return {"text": f"{type(value).__name__}({shown}{', …' if len(held) > 4 else ''})", "kind": "object"}


def _is_plain(value: object) -> bool:
    """Whether an element of XML is no class of the script's, whose length could be code."""
    return type(value) is module("xml.etree.ElementTree").Element


def _element(value: Element) -> Summary:
    if not _is_plain(value):
        return {"text": f"{type(value).__name__} object", "kind": "object"}
    count = len(value)
    within = f", text {element(value.text)}" if isinstance(value.text, str) and value.text.strip() else ""
    attributes = f", {plural(len(value.attrib), 'attribute')}" if value.attrib else ""
    return {"text": f"<{clean(str(value.tag), 40)}>{attributes}, {plural(count, 'part')}{within}", "kind": "object"}


def _element_children(value: Element, start: int, count: int) -> list[Pair]:
    if not _is_plain(value):
        return []
    found: list[Pair] = [("attrib", value.attrib), ("text", value.text)]
    found += [(f"[{n}] {clean(str(part.tag), 40)}", part) for n, part in enumerate(value)]
    return found[start : start + count]


def _xml(value: object) -> str:
    if not _is_plain(value):
        return ""
    return str(module("xml.etree.ElementTree").tostring(value, encoding="unicode"))[:XML_SHOWN]


def _call(value: types.FrameType) -> Summary:
    return {"text": f"call of {value.f_code.co_qualname}, line {value.f_lineno}", "kind": "object"}


def _code_facts(value: types.CodeType) -> list[Fact]:
    return [("file", clean(value.co_filename)), ("line", str(value.co_firstlineno)), ("names", str(value.co_nlocals))]


def _operator(value: object) -> Summary:
    """A linear operator: it has a shape, and no cells."""
    found, dtype, name = read_attribute(value, "shape"), read_attribute(value, "dtype"), type(value).__name__
    if not isinstance(found, tuple):
        return {"text": f"{name} object", "kind": "object"}
    shape = [int(n) for n in found]
    text = f"{' x '.join(map(str, shape))} linear operator {dtype}, {name}"
    return {"shape": shape, "dtype": str(dtype), "kind": "object", "text": text}


def _told_by_itself(value: object) -> Summary:
    return {"text": clean(" ".join(str(value).split())), "kind": "object"}


def _scalar(value: Any) -> Summary:
    return {"text": element(value.as_py()), "dtype": str(value.type), "kind": "scalar"}


register(Kind(_partial, None, lambda v: 3, _partial_children), names=("functools.partial",))
register(
    Kind(_reference, None, lambda v: len(_reference_children(v, 0, 1)), _reference_children), weakref.ReferenceType
)
register(Kind(_simple), names=("_ctypes._SimpleCData",))
register(Kind(_c_array, None, lambda v: module("ctypes").Array.__len__(v), _c_array_children), names=("_ctypes.Array",))
register(
    Kind(_structure, None, lambda v: len(_fields(v)), lambda v, start, count: _fields(v)[start : start + count]),
    names=("_ctypes.Structure", "_ctypes.Union"),
)
register(
    Kind(_element, None, lambda v: 2 + len(v) if _is_plain(v) else 0, _element_children, text=_xml),
    names=("xml.etree.ElementTree.Element",),
)
register(Kind(_call), types.FrameType)
register(
    Kind(lambda v: {"text": f"code of {v.co_qualname}, line {v.co_firstlineno}", "kind": "object"}, _code_facts),
    types.CodeType,
)
register(Kind(_told_by_itself), types.GenericAlias)
register(Kind(_operator), names=("scipy.sparse.linalg._interface.LinearOperator",))
register(Kind(_scalar), names=("pyarrow.lib.Scalar",))
register(Kind(_told_by_itself), names=("pyarrow.lib.DataType", "pyarrow.lib.Field", "pyarrow.lib.Schema"))
register(
    Kind(lambda v: {"text": f"buffer of {plural(int(v.size), 'byte')}", "kind": "object"}),
    names=("pyarrow.lib.Buffer",),
)
register(
    Kind(lambda v: {"text": f"polynomial of order {v.order}, coefficients {element(v.coef)}", "kind": "object"}),
    names=("numpy.poly1d", "numpy.lib.polynomial.poly1d", "numpy.lib._polynomial_impl.poly1d"),
)
register(
    Kind(lambda v: {"text": f"flat iterator over {plural(len(v), 'cell')}, at {v.index}", "kind": "object"}),
    names=("numpy.flatiter",),
)
