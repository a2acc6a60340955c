"""Types compared by identity: a metaclass of the script's may define `__eq__` or `__hash__`, which must not run."""

from __future__ import annotations

from typing import Any, Generic, TypeVar

T = TypeVar("T")
# What distinguishes one object from all others that are alive.  Not `id`: the interpreter tells audit hooks of each
# call of that, and ours takes five times as long as the call.
key_of = object.__hash__


class TypeIds(set[int]):
    """Keys of types; the types are kept alive.  `key_of(kind) in ids` is as fast as it can be."""

    __hash__ = object.__hash__  # type: ignore[assignment]  # it stands among the constants of code objects

    def __init__(self, *kinds: type) -> None:
        super().__init__(map(key_of, kinds))
        self.kept: list[type] = list(kinds)

    def take(self, *kinds: type) -> None:
        self.kept += kinds
        self.update(map(key_of, kinds))


class TypeTable(Generic[T]):
    """A mapping whose keys are types; they are kept alive."""

    def __init__(self) -> None:
        self._held: dict[int, tuple[type, T]] = {}

    def get(self, kind: type, default: object = None) -> Any:
        found = self._held.get(key_of(kind))
        return default if found is None else found[1]

    def __getitem__(self, kind: type) -> T:
        return self._held[key_of(kind)][1]

    def __setitem__(self, kind: type, value: T) -> None:
        self._held[key_of(kind)] = (kind, value)


def is_one_of(kind: type, *kinds: type) -> bool:
    return any(kind is one for one in kinds)
