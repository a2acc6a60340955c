"""Numbers, truth values, None; Decimal, Fraction, dates and times."""

from __future__ import annotations

import math

from ...core.data_types import Array
from ...core.text import clean, number
from ..nonfinite import module
from .base import Fact, Kind, Summary, register


def _plain(value: object) -> Summary:
    return {"text": repr(value), "kind": "scalar"}


def _int(value: int) -> Summary:
    bits = int.bit_length(value)
    if bits > 400:
        return {"text": f"int of about {int(bits * 0.30103) + 1} digits", "kind": "scalar"}
    return {"text": int.__repr__(value), "kind": "scalar"}


def _int_facts(value: int) -> list[Fact]:
    bits = int.bit_length(value)
    facts = [("value", _int(value)["text"]), ("bits", str(bits))]
    if bits <= 400:
        plain = int(value)
        facts += [("hexadecimal", hex(plain)), ("binary", clean(bin(plain), 140))]
    return facts


def _float(value: float) -> Summary:
    return {"text": number(float.__float__(value)), "kind": "scalar"}


def float_facts(value: float) -> list[Fact]:
    """Value, exact and hexadecimal forms, and the distance to the neighbours (ulp)."""
    plain = float.__float__(value)
    facts = [("value", number(plain)), ("exact", float.__repr__(plain)), ("hexadecimal", float.hex(plain))]
    if math.isfinite(plain):
        facts.append(("ulp", f"{math.ulp(plain):.6g}"))
        facts.append(("neighbours", f"{math.nextafter(plain, -math.inf)!r}, {math.nextafter(plain, math.inf)!r}"))
    return facts


def _complex(value: complex) -> Summary:
    sign = "-" if str(value.imag).startswith("-") else "+"
    return {"text": f"{number(value.real)} {sign} {number(abs(value.imag))}j", "kind": "scalar"}


def _complex_facts(value: complex) -> list[Fact]:
    facts = [("value", _complex(value)["text"]), ("real", repr(value.real)), ("imaginary", repr(value.imag))]
    if math.isfinite(value.real) and math.isfinite(value.imag):
        facts.append(("modulus", number(math.hypot(value.real, value.imag))))
        facts.append(("argument", f"{number(math.atan2(value.imag, value.real))} rad"))
    return facts


def _shown(value: object) -> Summary:
    return {"text": clean(str(value)), "kind": "scalar"}


def _numpy(value: Array) -> Summary:
    np = module("numpy")
    dtype = str(value.dtype)
    if isinstance(value, np.complexfloating):
        text = _complex(complex(value))["text"]
    elif isinstance(value, np.floating):
        text = number(float(value))
    elif dtype.startswith("|V") or value.dtype.names:
        text = clean(str(value.item()) if value.dtype.names else f"{value.dtype.itemsize} raw bytes")
    else:
        text = clean(str(value))
    return {"text": text, "dtype": dtype, "shape": [], "kind": "scalar"}


def _numpy_facts(value: Array) -> list[Fact]:
    np = module("numpy")
    facts = [("value", _numpy(value)["text"]), ("dtype", str(value.dtype))]
    if isinstance(value, np.floating):
        facts.append(("exact", np.format_float_positional(value) if 1e-5 < abs(value) < 1e16 else repr(value.item())))
        if np.isfinite(value):
            facts.append(("ulp", f"{float(np.spacing(np.abs(value))):.6g}"))
        if value.dtype == np.float64:
            facts.append(("hexadecimal", float(value).hex()))
    elif isinstance(value, np.integer):
        plain = int(value)
        info = np.iinfo(value.dtype)
        facts += [("hexadecimal", hex(plain)), ("range of the dtype", f"{info.min} … {info.max}")]
    return facts


def _is_numpy(kind: type) -> bool:
    np = module("numpy")
    return np is not None and issubclass(kind, np.generic)


register(Kind(_plain), bool, type(None), type(Ellipsis), type(NotImplemented), slice)
register(Kind(_int, _int_facts), int)
register(Kind(_float, float_facts), float)
register(Kind(_complex, _complex_facts), complex)
register(
    Kind(_shown),
    names=(
        *("decimal.Decimal", "fractions.Fraction", "datetime.date", "datetime.time", "datetime.timedelta"),
        *("datetime.tzinfo", "pandas._libs.tslibs.timestamps.Timestamp", "pandas._libs.tslibs.nattype.NaTType"),
        *("pandas._libs.tslibs.timedeltas.Timedelta", "pandas._libs.missing.NAType"),
        *("pandas.NAType", "pandas.api.typing.NAType"),
    ),
)
register(Kind(_numpy, _numpy_facts), test=_is_numpy)
