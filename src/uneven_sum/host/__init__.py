"""Starts the script's interpreter with the agent, owns its pipes, and ends what it started."""

from .interpreter import Interpreter, find_interpreter
from .launch import BadUse, Launch, SyntaxFault, inspect_script
from .session import Session

__all__ = ["BadUse", "Interpreter", "Launch", "Session", "SyntaxFault", "find_interpreter", "inspect_script"]
