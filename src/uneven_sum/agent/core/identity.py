"""Which code is the agent's own."""

from __future__ import annotations

import builtins
import os
import types

FOLDER = os.path.dirname(os.path.dirname(__file__)) + os.sep
OWN: object = globals()["__builtins__"]  # `boot` gives the agent's modules a copy of their own
IS_APART = OWN is not builtins and OWN is not vars(builtins)


def is_ours(frame: types.FrameType) -> bool:
    """True for a call of the agent.  Asked for each call of traced code: audit hooks are told of each `f_code`."""
    if IS_APART:
        return frame.f_builtins is OWN
    return frame.f_code.co_filename.startswith(FOLDER)
