"""Types compared by identity: a metaclass of the script's may define `__eq__` or `__hash__`, which must not run."""

from __future__ import annotations

from typing import Any, Generic, TypeVar

T = TypeVar("T")


class TypeIds(set[int]):
    """Ids of types; the types are kept alive.  `id(kind) in ids` is as fast as it can be."""

    __hash__ = object.__hash__  # type: ignore[assignment]  # it stands among the constants of code objects

    def __init__(self, *kinds: type) -> None:
        super().__init__(map(id, kinds))
        self.kept: list[type] = list(kinds)

    def take(self, *kinds: type) -> None:
        self.kept += kinds
        self.update(map(id, kinds))


class TypeTable(Generic[T]):
    """A mapping whose keys are types; they are kept alive."""

    def __init__(self) -> None:
        self._held: dict[int, tuple[type, T]] = {}

    def get(self, kind: type, default: object = None) -> Any:
        found = self._held.get(id(kind))
        return default if found is None else found[1]

    def __getitem__(self, kind: type) -> T:
        return self._held[id(kind)][1]

    def __setitem__(self, kind: type, value: T) -> None:
        self._held[id(kind)] = (kind, value)


def is_one_of(kind: type, *kinds: type) -> bool:
    return any(kind is one for one in kinds)
