"""Typed asynchronous calls and events for a front end."""

from ..host.launch import BadUse, Launch, SyntaxFault
from .client import Client
from .events import Busy, CallEnded, Ended, Event, Exited, Found, Output, Stopped, Tripped, Trouble, Unwatched, Where
from .motions import Goal

__all__ = [
    "BadUse",
    "Busy",
    "CallEnded",
    "Client",
    "Ended",
    "Event",
    "Exited",
    "Found",
    "Goal",
    "Launch",
    "Output",
    "Stopped",
    "SyntaxFault",
    "Tripped",
    "Trouble",
    "Unwatched",
    "Where",
]
