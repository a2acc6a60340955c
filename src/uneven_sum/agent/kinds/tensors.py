"""`torch.Tensor` and `jax.Array`: on the processor as NumPy's arrays, elsewhere by shape, type and device."""

from __future__ import annotations

from typing import Any

from .. import tensors
from . import arrays
from .base import Fact, Kind, Pair, Summary, register


def _dtype(value: Any) -> str:
    return str(value.dtype).removeprefix("torch.")


def _more(value: Any) -> str:
    told = ", requires_grad" if getattr(value, "requires_grad", False) else ""
    return told if tensors.is_here(value) else f"{told}, on {value.device}"


def _line(value: Any) -> Summary:
    if tensors.is_traced(type(value)):
        return {"text": f"traced {value.aval}", "kind": "object"}
    cells = tensors.as_numpy(value)
    shape = [int(n) for n in value.shape]
    if cells is None:
        text = f"{arrays.cells(tuple(shape))} {_dtype(value)}{_more(value)}"
        return {"shape": shape, "dtype": _dtype(value), "kind": "array", "text": text, "nonfinite": 0}
    told = arrays._line(cells)
    told["text"] = str(told["text"]).replace(str(cells.dtype), _dtype(value), 1) + _more(value)
    return {**told, "dtype": _dtype(value)}


def _facts(value: Any) -> list[Fact]:
    facts: list[Fact] = [("device", str(getattr(value, "device", "cpu")))]
    if hasattr(value, "requires_grad"):
        facts.append(("requires_grad", "yes" if value.requires_grad else "no"))
    cells = tensors.as_numpy(value)
    return facts + (arrays._facts(cells) if cells is not None else [])


def _children(value: Any, start: int, count: int) -> list[Pair]:
    cells = tensors.as_numpy(value)
    return arrays._children(cells, start, count) if cells is not None else []


def _count(value: Any) -> int:
    cells = tensors.as_numpy(value)
    return arrays._count(cells) if cells is not None else 0


def _grid(value: Any) -> Any:
    cells = tensors.as_numpy(value)
    return arrays._grid(cells) if cells is not None else None


def _plots(value: Any) -> list[str]:
    cells = tensors.as_numpy(value)
    return arrays.plots(cells) if cells is not None else []


register(
    Kind(_line, _facts, _count, _children, _grid, _plots),
    test=lambda kind: tensors.is_tensor(kind) or tensors.is_traced(kind),
)
