"""Typed asynchronous calls and events for a front end."""

from ..host.launch import BadUse, Launch, SyntaxFault
from ..host.processes import OneProcess
from ..host.sockets import scratch_prefix
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
    ProcessEnded,
    ProcessesWait,
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
    "OneProcess",
    "Output",
    "ProcessEnded",
    "ProcessesWait",
    "Stopped",
    "SyntaxFault",
    "Tripped",
    "Trouble",
    "Unwatched",
    "Where",
    "scratch_prefix",
]
