"""`torch.Tensor` and `jax.Array`: on the processor as NumPy's arrays, elsewhere by shape, type and device; and
PyTorch's models, by their parameters.
"""

from __future__ import annotations

import sys
from typing import Any

from ...core.data_types import Array
from ...core.text import plural
from .. import tensor_arrays
from . import arrays
from .base import Fact, Kind, Pair, Summary, register
from .grids import array_grid
from .objects import attributes


def _dtype(value: Array) -> str:
    return str(value.dtype).removeprefix("torch.")


def _more(value: Any) -> str:
    told = ", requires_grad" if getattr(value, "requires_grad", False) else ""
    return told if tensor_arrays.is_here(value) else f"{told}, on {value.device}"


def _line(value: Any) -> Summary:
    if tensor_arrays.is_traced(type(value)):
        return {"text": f"traced {value.aval}", "kind": "object"}
    cells = tensor_arrays.as_numpy(value)
    shape = [int(n) for n in value.shape]
    if cells is None:
        text = f"{arrays.cells(tuple(shape))} {_dtype(value)}{_more(value)}"
        return {"shape": shape, "dtype": _dtype(value), "kind": "array", "text": text, "nonfinite": 0}
    told = arrays._line(cells)
    told["text"] = str(told["text"]).replace(str(cells.dtype), _dtype(value), 1) + _more(value)
    return {**told, "dtype": _dtype(value)}


def _facts(value: object) -> list[Fact]:
    facts: list[Fact] = [("device", str(getattr(value, "device", "cpu")))]
    if hasattr(value, "requires_grad"):
        facts.append(("requires_grad", "yes" if value.requires_grad else "no"))
    cells = tensor_arrays.as_numpy(value)
    return facts + (arrays._facts(cells) if cells is not None else [])


def _children(value: object, start: int, count: int) -> list[Pair]:
    cells = tensor_arrays.as_numpy(value)
    return arrays._children(cells, start, count) if cells is not None else []


def _count(value: object) -> int:
    cells = tensor_arrays.as_numpy(value)
    return arrays._count(cells) if cells is not None else 0


def _sliced(value: object, text: str) -> object:
    cells = tensor_arrays.as_numpy(value)
    return array_grid(cells, text) if cells is not None else None


def _plots(value: object) -> list[str]:
    cells = tensor_arrays.as_numpy(value)
    return arrays.plots(cells) if cells is not None else []


MOST = 10_000  # parts of a model that are looked through


def _is_model(kind: type) -> bool:
    torch = sys.modules.get("torch")
    module = getattr(getattr(torch, "nn", None), "Module", None)
    return isinstance(module, type) and issubclass(kind, module)


def _parts(value: object) -> dict[str, object]:
    """The parameters, buffers and models that a model holds."""
    held = attributes(value)
    return {n: v for name in ("_parameters", "_buffers", "_modules") for n, v in dict(held.get(name) or {}).items()}


def _model(value: object) -> Summary:
    torch = sys.modules["torch"]
    size, count, todo = 0, 0, [value]
    seen: set[int] = set()
    while todo and len(seen) < MOST:
        for part in _parts(todo.pop()).values():
            if id(part) in seen or part is None:
                continue
            seen.add(id(part))
            if isinstance(part, torch.nn.Parameter):
                size, count = size + int(part.numel()), count + 1
            elif _is_model(type(part)):
                todo.append(part)
    mode = "in training" if attributes(value).get("training") else "in evaluation"
    return {"text": f"{type(value).__name__}, {plural(size, 'parameter')} in {plural(count, 'tensor')}, {mode}"}


def _model_parts(value: object, start: int, count: int) -> list[Pair]:
    own = {n: v for n, v in attributes(value).items() if not n.startswith("_")}
    return list({**_parts(value), **own}.items())[start : start + count]


register(Kind(_model, None, lambda value: len(_model_parts(value, 0, MOST)), _model_parts), test=_is_model)
register(
    Kind(_line, _facts, _count, _children, None, _plots, sliced=_sliced),
    test=lambda kind: tensor_arrays.is_tensor(kind) or tensor_arrays.is_traced(kind),
)
