"""The Debug Adapter Protocol: framing, messages, and our own extensions to it."""

from .framing import Decoder, MalformedMessage, encode
from .lookouts import Lookout, Placed, Switches, Tripwire, to_wire
from .messages import (
    Card,
    Culprit,
    ExceptionFacts,
    Expected,
    Facts,
    LedgerColumn,
    LedgerOf,
    LedgerPasses,
    Loop,
    Message,
    Note,
    Operand,
    Recent,
    StackFrame,
    Term,
    TrailCall,
    Variable,
)
from .trips import FILTERS, TRIPS

__all__ = [
    "FILTERS",
    "TRIPS",
    "Card",
    "Culprit",
    "Decoder",
    "ExceptionFacts",
    "Expected",
    "Facts",
    "LedgerColumn",
    "LedgerOf",
    "LedgerPasses",
    "Lookout",
    "Loop",
    "MalformedMessage",
    "Message",
    "Note",
    "Operand",
    "Placed",
    "Recent",
    "StackFrame",
    "Switches",
    "Term",
    "TrailCall",
    "Tripwire",
    "Variable",
    "encode",
    "to_wire",
]
