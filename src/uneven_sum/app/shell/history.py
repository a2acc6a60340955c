"""What was asked, kept from session to session in the user's state folder."""

from __future__ import annotations

import json
from pathlib import Path

from platformdirs import user_state_path

from ...state_files import write_private

MOST = 500  # questions kept


def _path() -> Path:
    return user_state_path("uneven-sum") / "asked.json"


def load() -> list[str]:
    """The questions of earlier sessions, the latest last; none where they cannot be read."""
    try:
        found = json.loads(_path().read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return []
    return [t for t in found if isinstance(t, str)][-MOST:] if isinstance(found, list) else []


def save(history: list[str]) -> None:
    """Keeps them; where that cannot be done they are lost, nothing else."""
    path = _path()
    try:
        write_private(path, json.dumps(history[-MOST:], indent=0).encode())
    except OSError:
        return
