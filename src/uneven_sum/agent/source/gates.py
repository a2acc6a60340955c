"""Gates of blocks: whether the fast form of a block of arithmetic may run (see `rewrite/blocks.py`).

A gate is open when its list has something in it: rewritten code keeps the list, and asks for its truth.  Gates close at
each pause and for as long as lines are traced.  Each opens again when its block has run in its precise form once, which
forgets what the block knew about the types of its names.
"""

from __future__ import annotations

from .source_file import Position

MOST_DOUBTS = 1000  # of one block: from then on it runs in its precise form


class Gate:
    """The gate of one block."""

    __slots__ = ("doubts", "off", "open")

    def __init__(self) -> None:
        self.open: list[bool] = [True]
        self.off: list[bool] = []  # with something in it, the gate stays closed, and the precise form does not ask
        self.doubts = 0

    def close(self, for_now: bool) -> None:
        """Close it: `for_now`, or until the precise form has run once; after many doubts for good."""
        self.open.clear()
        self.off[:] = [True] if for_now or self.doubts > MOST_DOUBTS else []


gates: list[Gate] = []  # by their number
_numbers: dict[tuple[str, Position], int] = {}
_traced = False


def number_of(path: str, block: Position) -> int:
    """The number of the gate of a block; one gate for all versions of its code."""
    key = (path, block)
    if key not in _numbers:
        _numbers[key] = len(gates)
        gates.append(Gate())
        if _traced:
            gates[-1].close(True)
    return _numbers[key]


def close() -> None:
    """Let each block run in its precise form at least once."""
    for gate in gates:
        gate.open.clear()


def trace(wanted: bool) -> None:
    """Keep all gates closed for as long as lines are traced."""
    global _traced
    if wanted is not _traced:
        _traced = wanted
        for gate in gates:
            gate.close(wanted)


def doubt(number: int) -> None:
    """The fast form of a block could not tell that all is well: it runs again, in its precise form."""
    gate = gates[number]
    gate.doubts += 1
    gate.close(_traced)


def reopen(number: int) -> None:
    """The precise form of a block begins."""
    gate = gates[number]
    if not gate.off and not gate.open:
        gate.open.append(True)
