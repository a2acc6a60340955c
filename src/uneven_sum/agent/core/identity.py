"""Which code is the agent's own."""

from __future__ import annotations

import os
import types

FOLDER = os.path.dirname(os.path.dirname(__file__)) + os.sep


def is_ours(frame: types.FrameType) -> bool:
    return frame.f_code.co_filename.startswith(FOLDER)
