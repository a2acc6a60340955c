"""Dataclasses that are compared by identity and have no text of their own.

Each method that `dataclass` makes is compiled when its module is imported: that is much of what a process of the
script's waits for before it begins.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TypeVar, dataclass_transform

T = TypeVar("T")


@dataclass_transform(eq_default=False, field_specifiers=(field,))
def record(cls: type[T]) -> type[T]:
    """For what holds state or facts and is never a key, compared or printed."""
    return dataclass(repr=False, eq=False)(cls)


@dataclass_transform(eq_default=False, frozen_default=True, field_specifiers=(field,))
def fact(cls: type[T]) -> type[T]:
    """A record that nothing changes: the type checker sees to that."""
    return dataclass(repr=False, eq=False)(cls)
