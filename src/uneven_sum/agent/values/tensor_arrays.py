"""Tensors of PyTorch and arrays of JAX as NumPy's, without a copy where that is possible."""

from __future__ import annotations

import sys
from typing import Any


def is_tensor(kind: type) -> bool:
    """True for `torch.Tensor` and its own kin, and for JAX's arrays."""
    home = str(type.__getattribute__(kind, "__module__"))
    if home.partition(".")[0] not in ("torch", "jax", "jaxlib"):
        return False
    torch = sys.modules.get("torch")
    tensor = getattr(torch, "Tensor", None)
    if isinstance(tensor, type) and issubclass(kind, tensor):
        return True
    return home.startswith("jax") and hasattr(kind, "addressable_shards")


def is_traced(kind: type) -> bool:
    """True for what stands for a value while JAX traces a function."""
    home = str(type.__getattribute__(kind, "__module__"))
    return home.startswith(("jax.", "jaxlib.")) and "Tracer" in kind.__name__


def is_here(value: object) -> bool:
    """True for a tensor whose cells are in the processor's memory."""
    device = getattr(value, "device", None)
    return str(getattr(device, "type", None) or getattr(device, "platform", "cpu")) in ("cpu", "callable")


def as_numpy(value: object) -> Any:
    """A tensor's cells as a NumPy array; None for one that is elsewhere, traced or of a layout of its own.

    PyTorch's short floats become 32-bit ones.
    """
    np = sys.modules.get("numpy")
    kind = type(value)
    if np is None or not is_tensor(kind) or is_traced(kind) or not is_here(value):
        return None
    try:
        if hasattr(value, "detach"):
            plain = value.detach()
            if "strided" not in str(plain.layout):
                return None
            if str(plain.dtype) in ("torch.bfloat16", "torch.float8_e4m3fn", "torch.float8_e5m2"):
                plain = plain.float()
            return plain.resolve_conj().resolve_neg().numpy()
        return np.asarray(value)
    except Exception:
        return None
