"""Files of the user's own state: written at once or not at all, and readable by the user alone."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path


def write_private(path: Path, data: bytes) -> None:
    """Write a file with mode 0600, and make its folder.  OSError when that cannot be done; an old file then stays."""
    path.parent.mkdir(parents=True, exist_ok=True)
    handle, new = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    try:
        with os.fdopen(handle, "wb") as f:
            f.write(data)
        os.replace(new, path)
    except OSError:
        os.unlink(new)
        raise
