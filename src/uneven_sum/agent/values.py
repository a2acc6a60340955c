"""Summaries of values: one line each, made where the data is.

One registry maps a type to the function that summarises it; the first match along the type's ancestors
counts.  A summary runs none of the script's own code (no `__repr__` of the user's classes), never copies
a large array, and never raises.
"""

from __future__ import annotations

import base64
import io
import itertools
import struct
import types
from collections.abc import Callable
from typing import Any

from . import nonfinite
from .scope import MISSING, kind_name, read_attribute, safe_kind

TEXT_SHOWN = 120
SCANNED = 2_000_000  # cells above which a one-line summary of an array says shape only

Summary = dict[str, Any]
Maker = Callable[[Any], Summary]


def number(value: Any, digits: int = 6) -> str:
    """A float with at most six significant digits; whole floats keep their `.0`."""
    if value != value:
        return "nan"
    if value in (float("inf"), float("-inf")):
        return "inf" if value > 0 else "-inf"
    text = f"{float(value):.{digits}g}"
    return text if any(c in text for c in ".en") else text + ".0"


def clean(text: str, limit: int = TEXT_SHOWN) -> str:
    """Text that is safe to send to a terminal: one line, no control characters, no lone surrogates."""
    cut = text[: limit + 1]
    shown = "".join(c if c.isprintable() else repr(c)[1:-1] for c in cut)
    return shown[:limit] + "…" if len(text) > limit else shown


def plural(count: int, word: str) -> str:
    return f"{count} {word}" if count == 1 else f"{count} {word}s"


def summary(value: Any) -> Summary:
    """`text`, `type`, `shape`, `dtype`, `nonfinite` and `kind` of a value; numbers of arrays as text."""
    kind = type(value)
    base: Summary = {"type": kind_name(kind), "shape": None, "dtype": None, "nonfinite": 0, "kind": "object"}
    try:
        base.update(_maker(kind)(value))
        if not base["nonfinite"] and base["kind"] != "array":
            base["nonfinite"] = nonfinite.count(value)
    except Exception as e:
        base["text"] = f"{base['type']} that cannot be shown: {type(e).__name__}"
    return base


def text_of(value: Any) -> str:
    """The one-line text of a value."""
    return str(summary(value)["text"])


def _maker(kind: type) -> Maker:
    for base in kind.__mro__:
        found = MAKERS.get(base) or NAMED.get(f"{base.__module__}.{base.__qualname__}")
        if found is not None:
            return found
    np, pd = nonfinite.module("numpy"), nonfinite.module("pandas")
    if np is not None:
        if issubclass(kind, np.ndarray):
            return _array
        if issubclass(kind, np.generic):
            return _numpy_scalar
    if pd is not None:
        if issubclass(kind, pd.DataFrame):
            return _frame
        if issubclass(kind, pd.Series):
            return _series
        if issubclass(kind, pd.Index):
            return _index
    if kind.__module__.startswith("scipy.sparse"):
        return _sparse
    if kind.__module__.startswith(("polars.", "pyarrow.")) and hasattr(kind, "schema"):
        return _table
    if kind.__module__.startswith("xarray.") and hasattr(kind, "dims"):
        return _labelled
    if hasattr(kind, "__dataclass_fields__"):
        return _dataclass
    if issubclass(kind, BaseException):
        return _exception
    if hasattr(kind, "__array__") and np is not None and not kind.__module__.startswith("__"):
        return _offers_array
    return _object


# -- scalars ----------------------------------------------------------------------------------------


def _plain(value: Any) -> Summary:
    return {"text": repr(value), "kind": "scalar"}


def _int(value: int) -> Summary:
    bits = value.bit_length()
    if bits > 400:
        return {"text": f"int of about {int(bits * 0.30103) + 1} digits", "kind": "scalar"}
    return {"text": int.__repr__(value), "kind": "scalar"}


def _float(value: float) -> Summary:
    return {"text": number(value), "kind": "scalar"}


def _complex(value: complex) -> Summary:
    sign = "-" if str(value.imag).startswith("-") else "+"
    return {"text": f"{number(value.real)} {sign} {number(abs(value.imag))}j", "kind": "scalar"}


def _shown(value: Any) -> Summary:
    return {"text": clean(str(value)), "kind": "scalar"}


def _str(value: str) -> Summary:
    if len(value) > TEXT_SHOWN or "\n" in value:
        lines = value.count("\n") + 1 if len(value) < 10_000_000 else 0
        size = f"{len(value)} characters" + (f", {lines} lines" if lines > 1 else "")
        return {"text": f"'{clean(value, 60)}' ({size})", "kind": "text"}
    return {"text": clean(repr(value)), "kind": "text"}


def _bytes(value: bytes) -> Summary:
    return {
        "text": clean(f"{bytes(value[:40])!r}{'…' if len(value) > 40 else ''} ({len(value)} bytes)"),
        "kind": "text",
    }


def _numpy_scalar(value: Any) -> Summary:
    np = nonfinite.module("numpy")
    dtype = str(value.dtype)
    if isinstance(value, np.complexfloating):
        text = _complex(complex(value))["text"]
    elif isinstance(value, np.floating):
        text = number(float(value))
    else:
        text = clean(str(value))
    return {"text": text, "dtype": dtype, "shape": [], "kind": "scalar"}


# -- collections ------------------------------------------------------------------------------------


def _element(value: Any) -> str:
    if isinstance(value, (list, tuple, dict, set, frozenset)):
        return f"{type(value).__name__} of {len(value)}"
    text = text_of(value)
    return text if len(text) <= 40 else clean(text, 39)


def _sequence(value: Any) -> Summary:
    size = len(value)
    opening, closing = ("(", ")") if isinstance(value, tuple) else ("[", "]")
    first = [_element(v) for v, _ in zip(value, range(5))]
    if size <= 5:
        tail = "," if size == 1 and isinstance(value, tuple) else ""
        return {"text": f"{opening}{', '.join(first)}{tail}{closing}", "kind": "sequence"}
    kinds = {type(v).__name__ for v, _ in zip(value, range(1000))}
    word = next(iter(kinds)) if len(kinds) == 1 else "mixed"
    bad = nonfinite.count(value)
    told = f", {bad} not finite" if bad else ""
    return {"text": f"{size} elements {word}{told}: {opening}{', '.join(first)}, …{closing}", "kind": "sequence"}


def _named_tuple(value: Any) -> Summary:
    shown = ", ".join(f"{n}={_element(v)}" for n, v in zip(value._fields[:6], value))
    return {"text": f"{type(value).__name__}({shown}{', …' if len(value) > 6 else ''})", "kind": "sequence"}


def _tuple(value: Any) -> Summary:
    return _named_tuple(value) if hasattr(type(value), "_fields") else _sequence(value)


def _set(value: Any) -> Summary:
    first = ", ".join(_element(v) for v, _ in zip(value, range(5)))
    dots = ", …" if len(value) > 5 else ""
    return {"text": f"{plural(len(value), 'element')} {{{first}{dots}}}", "kind": "sequence"}


def _mapping(value: Any) -> Summary:
    first = ", ".join(f"{_element(k)}: {_element(v)}" for (k, v), _ in zip(value.items(), range(4)))
    dots = ", …" if len(value) > 4 else ""
    return {"text": f"{plural(len(value), 'key')} {{{first}{dots}}}", "kind": "mapping"}


def _range(value: range) -> Summary:
    return {"text": f"{value!r}, {plural(len(value), 'number')}", "kind": "sequence"}


# -- objects ----------------------------------------------------------------------------------------


def attributes(value: Any) -> dict[str, Any]:
    """The attributes that an object holds itself; nothing of the script's is run to read them."""
    found: dict[str, Any] = {}
    try:
        own = object.__getattribute__(value, "__dict__")
        if isinstance(own, dict):
            found.update(own)
    except (AttributeError, TypeError):
        pass
    for base in type(value).__mro__:
        slots = base.__dict__.get("__slots__", ())
        for name in (slots,) if isinstance(slots, str) else slots:
            held = read_attribute(value, name)
            if held is not MISSING and isinstance(name, str):
                found.setdefault(name, held)
    return found


def _object(value: Any) -> Summary:
    kind = type(value)
    held = attributes(value)
    if held:
        shown = ", ".join(f"{n}={_element(v)}" for n, v in list(held.items())[:4])
        dots = ", …" if len(held) > 4 else ""
        return {"text": f"{kind.__name__}({shown}{dots})", "kind": "object"}
    if safe_kind(kind) and kind.__module__ != "builtins":
        return {"text": clean(repr(value)), "kind": "object"}
    return {"text": f"{kind.__name__} object", "kind": "object"}


def _dataclass(value: Any) -> Summary:
    names = list(type(value).__dataclass_fields__)
    held = [(n, read_attribute(value, n)) for n in names]
    shown = ", ".join(f"{n}={_element(v)}" for n, v in held[:5] if v is not MISSING)
    return {"text": f"{type(value).__name__}({shown}{', …' if len(held) > 5 else ''})", "kind": "object"}


def _exception(value: BaseException) -> Summary:
    args = BaseException.__getattribute__(value, "args")
    return {"text": f"{type(value).__name__}({', '.join(_element(a) for a in args[:3])})", "kind": "object"}


def _function(value: Any) -> Summary:
    code = getattr(value, "__code__", None)
    where = f", line {code.co_firstlineno}" if code else ""
    arguments = ", ".join(code.co_varnames[: code.co_argcount]) if code else "…"
    return {"text": f"function {value.__name__}({arguments}){where}", "kind": "callable"}


def _named(word: str) -> Maker:
    return lambda value: {"text": f"{word} {getattr(value, '__name__', '?')}", "kind": "callable"}


def _class(value: type) -> Summary:
    return {"text": f"class {kind_name(value)}", "kind": "callable"}


def _generator(value: Any) -> Summary:
    frame = getattr(value, "gi_frame", None) or getattr(value, "cr_frame", None)
    state = f"at line {frame.f_lineno}" if frame is not None else "used up"
    return {"text": f"{type(value).__name__} {value.__name__}, {state}", "kind": "object"}


def _file(value: Any) -> Summary:
    state = "closed" if value.closed else "open"
    return {"text": f"file {clean(str(getattr(value, 'name', '?')), 60)}, {state}", "kind": "object"}


def _match(value: Any) -> Summary:
    return {"text": f"match {clean(repr(value.group()), 60)} at {value.start()}…{value.end()}", "kind": "object"}


def _enum(value: Any) -> Summary:
    return {"text": f"{type(value).__name__}.{value._name_} = {_element(value._value_)}", "kind": "scalar"}


# -- arrays and frames ------------------------------------------------------------------------------


def cells(shape: tuple[int, ...]) -> str:
    if len(shape) == 1:
        return plural(shape[0], "cell")
    return " x ".join(str(n) for n in shape) + " cells"


def _range_text(np: Any, value: Any) -> tuple[str, int]:
    """`2.1 … 6.4, mean 3.9` over the finite cells, and the count of the others."""
    good = np.isfinite(value)
    bad = int(value.size - np.count_nonzero(good))
    fine = value[good] if bad else value
    if not fine.size:
        return "no finite cell", bad
    low, high, mean = float(fine.min()), float(fine.max()), float(fine.mean(dtype=float))
    if mean - mean != 0:  # the sum is too large for a float, the mean is not
        mean = float((fine / fine.size).sum(dtype=float))
    return f"{number(low, 4)} … {number(high, 4)}, mean {number(mean, 4)}", bad


def _bad_text(np: Any, value: Any, bad: int) -> str:
    places = np.argwhere(~np.isfinite(value))[:1]
    where = ", ".join(str(int(i)) for i in places[0])
    counts = []
    flat = value[~np.isfinite(value)]
    if flat.dtype.kind == "c":
        counts.append(f"{bad} not finite")
    else:
        for word, n in (
            ("nan", np.isnan(flat).sum()),
            ("inf", (flat == np.inf).sum()),
            ("-inf", (flat == -np.inf).sum()),
        ):
            if n:
                counts.append(f"{int(n)} {word}")
    return (
        f"{' '.join(counts)}, first at {where}" if len(value.shape) == 1 else f"{' '.join(counts)}, first at [{where}]"
    )


def _array(value: Any) -> Summary:
    np = nonfinite.module("numpy")
    dtype = value.dtype
    base: Summary = {"shape": list(value.shape), "dtype": str(dtype), "kind": "array"}
    head = f"{cells(value.shape)} {dtype}" if value.ndim else f"array of one {dtype}"
    if isinstance(value, np.ma.MaskedArray):
        hidden = int(np.ma.getmaskarray(value).sum())
        bad = nonfinite.count(value)
        shown = value.compressed()
        told = _range_text(np, shown)[0] if dtype.kind in "fiub" and shown.size else ""
        return {**base, "text": f"{head}, {hidden} masked{', ' + told if told else ''}", "nonfinite": bad}
    if not value.size:
        return {**base, "text": f"{head}, empty"}
    if value.size > SCANNED:
        bad = nonfinite.count(value)
        return {**base, "text": head + (f", {bad} not finite" if bad else ""), "nonfinite": bad}
    if value.ndim == 0:
        return {**base, "text": f"{head}: {_element(value[()])}", "nonfinite": nonfinite.count(value)}
    if dtype.kind == "f":
        with np.errstate(all="ignore"):
            told, bad = _range_text(np, value)
            if bad:
                told += ", " + _bad_text(np, value, bad)
        if value.size <= 6 and value.ndim == 1:
            told = "[" + " ".join(number(float(v)) for v in value) + "]"
        return {**base, "text": f"{head}, {told}", "nonfinite": bad, **picture(np, value)}
    if dtype.kind in "iu":
        low, high = int(value.min()), int(value.max())
        if value.size <= 6 and value.ndim == 1:
            return {**base, "text": f"{head}, [{' '.join(str(v) for v in value.tolist())}]"}
        return {**base, "text": f"{head}, {low} … {high}", **picture(np, value)}
    if dtype.kind == "b":
        return {**base, "text": f"{head}, {int(value.sum())} true"}
    if dtype.kind == "c":
        bad = nonfinite.count(value)
        return {**base, "text": head + (f", {_bad_text(np, value, bad)}" if bad else ""), "nonfinite": bad}
    if dtype.kind in "mM":
        missing = int(np.isnat(value).sum())
        told = f", {missing} NaT" if missing else f", {value.min()} … {value.max()}"
        return {**base, "text": head + told}
    if dtype.names:
        return {**base, "text": f"{cells(value.shape)} with fields {', '.join(dtype.names)}"}
    first = ", ".join(_element(v) for v in value.ravel()[:3].tolist())
    return {**base, "text": f"{head}: {first}{', …' if value.size > 3 else ''}", "nonfinite": nonfinite.count(value)}


COLUMNS = 48


def picture(np: Any, value: Any) -> Summary:
    """The course of a one-dimensional array in at most COLUMNS columns: minimum, maximum and bad cells of
    each, as base64 of little-endian float64 pairs and a string of 0 and 1."""
    if value.ndim != 1 or value.size < 8:
        return {}
    edges = np.linspace(0, value.size, min(COLUMNS, value.size) + 1).astype(int)
    lows, marks = [], []
    for start, end in itertools.pairwise(edges):
        part = value[start:end]
        good = part[np.isfinite(part)]
        marks.append("1" if good.size < part.size else "0")
        lows += [float(good.min()), float(good.max())] if good.size else [float("nan")] * 2
    return {"picture": base64.b64encode(struct.pack(f"<{len(lows)}d", *lows)).decode(), "marks": "".join(marks)}


def _series(value: Any) -> Summary:
    np = nonfinite.module("numpy")
    base: Summary = {"shape": [len(value)], "dtype": str(value.dtype), "kind": "frame"}
    name = f"{value.name}, " if value.name is not None else ""
    head = f"{name}{len(value)} rows {value.dtype}"
    bad = nonfinite.count(value)
    told = ""
    picture_: Summary = {}
    if getattr(value.dtype, "kind", "O") in "fiu" and len(value) and len(value) <= SCANNED:
        data = value.to_numpy(dtype=float, na_value=float("nan"))
        told = ", " + _range_text(np, data)[0]
        picture_ = picture(np, data)
    if bad:
        where = int(np.argmax(nonfinite.mask(value)))
        told += f", {bad} missing or infinite, first at row {where} ({clean(str(value.index[where]), 20)})"
    return {**base, "text": clean(head, 80) + told, "nonfinite": bad, **picture_}


def _frame(value: Any) -> Summary:
    rows, columns = value.shape
    names = ", ".join(clean(str(c), 20) for c in value.columns[:5]) + (", …" if columns > 5 else "")
    bad = nonfinite.columns(value)
    told = ""
    if bad:
        told = "; missing: " + ", ".join(f"{clean(str(n), 20)} {c}" for n, c in list(bad.items())[:3])
    text = f"{rows} rows x {columns} columns: {names}{told}"
    return {"shape": [rows, columns], "dtype": None, "kind": "frame", "text": text, "nonfinite": sum(bad.values())}


def _index(value: Any) -> Summary:
    first = f": {clean(str(value[0]), 30)} … {clean(str(value[-1]), 30)}" if len(value) else ""
    return {"shape": [len(value)], "dtype": str(value.dtype), "kind": "frame", "text": f"{len(value)} labels{first}"}


def _sparse(value: Any) -> Summary:
    shape = list(value.shape)
    text = f"{' x '.join(map(str, shape))} sparse {value.dtype}, {value.nnz} stored"
    return {
        "shape": shape,
        "dtype": str(value.dtype),
        "kind": "array",
        "text": text,
        "nonfinite": nonfinite.count(value),
    }


def _table(value: Any) -> Summary:
    shape = list(value.shape)
    names = [str(n) for n in (getattr(value, "columns", None) or value.schema.names)]
    if not all(isinstance(n, str) for n in names) or len(names) > 10_000:
        names = []
    shown = ", ".join(clean(n, 20) for n in names[:5])
    return {"shape": shape, "kind": "frame", "text": f"{shape[0]} rows x {shape[-1]} columns: {shown}"}


def _labelled(value: Any) -> Summary:
    sizes = dict(value.sizes)
    text = ", ".join(f"{n} {k}" for n, k in sizes.items())
    bad = nonfinite.count(value)
    return {
        "shape": list(sizes.values()),
        "kind": "array",
        "text": f"{text}{f', {bad} not finite' if bad else ''}",
        "nonfinite": bad,
    }


def _offers_array(value: Any) -> Summary:
    shape = getattr(value, "shape", None)
    dims = [int(n) for n in shape] if shape is not None else None
    dtype = str(getattr(value, "dtype", "")) or None
    size = cells(tuple(dims)) if dims else "array-like"
    return {"shape": dims, "dtype": dtype, "kind": "array", "text": f"{size} {dtype or ''}".strip()}


MAKERS: dict[type, Maker] = {
    bool: _plain,
    type(None): _plain,
    type(Ellipsis): _plain,
    type(NotImplemented): _plain,
    int: _int,
    float: _float,
    complex: _complex,
    str: _str,
    bytes: _bytes,
    bytearray: _bytes,
    memoryview: lambda v: {"text": f"memoryview of {v.nbytes} bytes", "kind": "text"},
    list: _sequence,
    tuple: _tuple,
    set: _set,
    frozenset: _set,
    dict: _mapping,
    types.MappingProxyType: _mapping,
    range: _range,
    slice: _plain,
    types.FunctionType: _function,
    types.BuiltinFunctionType: _named("function"),
    types.MethodType: lambda v: _function(v.__func__) if hasattr(v.__func__, "__code__") else _named("method")(v),
    types.ModuleType: _named("module"),
    type: _class,
    types.GeneratorType: _generator,
    types.CoroutineType: _generator,
    types.AsyncGeneratorType: lambda v: {"text": f"async generator {v.__name__}", "kind": "object"},
    io.IOBase: _file,
}

# By name, so that the modules are not imported for a script that does without them.
NAMED: dict[str, Maker] = {
    "decimal.Decimal": _shown,
    "fractions.Fraction": _shown,
    "datetime.date": _shown,
    "datetime.time": _shown,
    "datetime.timedelta": _shown,
    "datetime.tzinfo": _shown,
    "enum.Enum": _enum,
    "collections.deque": _sequence,
    "array.array": _sequence,
    "pathlib.PurePath": _shown,
    "re.Match": _match,
    "re.Pattern": lambda v: {"text": f"pattern {clean(repr(v.pattern), 60)}", "kind": "object"},
    "pathlib._local.PurePath": _shown,
}
