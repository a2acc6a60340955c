"""The Debug Adapter Protocol: framing, messages, and our own extensions to it."""

from .framing import Decoder, MalformedMessage, encode
from .messages import (
    FILTERS,
    Card,
    Culprit,
    ExceptionFacts,
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
    "Facts",
    "Loop",
    "MalformedMessage",
    "Message",
    "Note",
    "Operand",
    "StackFrame",
    "Term",
    "TrailCall",
    "Variable",
    "encode",
]
