"""What a rule is: which terms it wants to see, and what it does with each.  One file a rule; `RULES` lists them."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar

if TYPE_CHECKING:
    from ..auditor import Auditor
    from ..running_sums import Running

BINARY = ("add", "sub", "mul", "truediv", "floordiv", "mod", "pow", "matmul")


class Rule:
    """`WANTS`: names of operators and comparisons, `neg`, `in`, `changed`, `call:NAME`, `store`, `index`, `iter`,
    `handled`, `unused:NAME`.

    `SCALARS`: it wants operators on plain floats and ints; `SCREEN`: "cancels", only differences of nearly equal
    numbers; "floats", all whose result is a float; "every", all of them; else those whose result is tiny, or whose
    operands are near.
    `OTHERS`: it wants those on anything else, where an operand (of a store, the target) is of a category of `TAKES`.
    `WEAK`: off unless named.
    `AT_ONCE`: it tells in the statement itself and takes nothing back, so that a breakpoint can wait for it.
    """

    NAME: ClassVar[str]
    WANTS: ClassVar[tuple[str, ...]] = ()
    SCALARS: ClassVar[bool] = False
    SCREEN: ClassVar[str] = ""
    OTHERS: ClassVar[bool] = True
    TAKES: ClassVar[frozenset[str]] = frozenset({"array"})
    WEAK: ClassVar[bool] = False
    AT_ONCE: ClassVar[bool] = True

    def __init__(self, auditor: Auditor) -> None:
        self.auditor = auditor

    def scalars(self, name: str, a: object, b: object, result: object, site: int) -> None:
        """An operator on plain numbers: on the hot path, so it must be short."""

    def operator(self, name: str, a: object, b: object, result: object, site: int) -> None:
        """An operator or comparison on other values."""

    def alternates(self, b: object, running: Running, site: int) -> None:
        """The increment of a running sum has another sign than the one before."""

    def before(self, function: object, args: tuple[object, ...], named: dict[str, object], site: int) -> None:
        """Before a call."""

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, object], result: object, site: int
    ) -> None:
        """After a call."""

    def before_store(self, target: object, index: object, value: object, site: int) -> None:
        """Before `target[index] = value`."""

    def store(self, target: object, index: object, value: object, site: int) -> None:
        """After `target[index] = value`."""

    def changed(self, target: object, site: int) -> None:
        """After `target op= value` that has changed the object itself."""

    def indexed(self, value: object, site: int) -> None:
        """A computed index, before it is used."""

    def iterated(self, value: object, site: int) -> None:
        """A loop begins over a value."""

    def handled(self, error: BaseException | None, site: int) -> None:
        """A handler that leaves no trace has caught an error."""

    def unused(self, value: object, site: int) -> None:
        """The result of a call that is thrown away."""

    def finish(self) -> None:
        """At the end of the script."""

    def forked(self) -> None:
        """In a forked process: forget what is judged at the end, where the process that has forked it judges it."""
