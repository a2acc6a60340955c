"""Typed asynchronous calls and events for a front end."""

from ..host.launch import BadUse, Launch, SyntaxFault
from .client import Client
from .events import (
    Busy,
    CallEnded,
    CellEnded,
    Ended,
    Event,
    Exited,
    Found,
    LeftOut,
    Output,
    Stopped,
    Tripped,
    Trouble,
    Unwatched,
    Where,
)
from .motions import Goal

__all__ = [
    "BadUse",
    "Busy",
    "CallEnded",
    "CellEnded",
    "Client",
    "Ended",
    "Event",
    "Exited",
    "Found",
    "Goal",
    "Launch",
    "LeftOut",
    "Output",
    "Stopped",
    "SyntaxFault",
    "Tripped",
    "Trouble",
    "Unwatched",
    "Where",
]
