"""The Debug Adapter Protocol: framing, messages, and our own extensions to it."""

from .framing import Decoder, MalformedMessage, encode
from .lookouts import Lookout, Placed, Switches, Tripwire, to_wire
from .messages import (
    FILTERS,
    Card,
    Culprit,
    ExceptionFacts,
    Expected,
    Facts,
    Loop,
    Message,
    Note,
    Operand,
    StackFrame,
    Term,
    TrailCall,
    Variable,
)

__all__ = [
    "FILTERS",
    "Card",
    "Culprit",
    "Decoder",
    "ExceptionFacts",
    "Expected",
    "Facts",
    "Lookout",
    "Loop",
    "MalformedMessage",
    "Message",
    "Note",
    "Operand",
    "Placed",
    "StackFrame",
    "Switches",
    "Term",
    "TrailCall",
    "Tripwire",
    "Variable",
    "encode",
    "to_wire",
]
