"""Where sockets stand: their paths must be short."""

from __future__ import annotations

import os
import tempfile

from .launch import BadUse

LONGEST = 85  # characters of a folder's path without its random end: the system takes 107 for a socket
SHORT = "/tmp"


def base_for(prefix: str) -> str:
    """The temporary folder, or a shorter one where its name is too long."""
    base = tempfile.gettempdir()
    return base if len(os.path.join(base, prefix)) <= LONGEST else SHORT


def folder_for_sockets(prefix: str) -> str:
    """A new folder of the user's alone, not below a temporary folder of a long name.  BadUse where there is no room."""
    base = base_for(prefix)
    try:
        return tempfile.mkdtemp(prefix=prefix, dir=base)
    except OSError as e:
        told = f"No folder can be made in {base}: {e.strerror}. Make room there, or set TMPDIR to another one."
        raise BadUse(told) from None
