"""The case of the first-run guide: a copy of a shipped one."""

from __future__ import annotations

import shutil
from pathlib import Path

from platformdirs import user_state_path

from ...client import BadUse, Launch
from ...demo import FOLDER

FILES = ("rating_year.py", "stage_2031.csv")


def prepared() -> Launch:
    """The guide's case, copied again: it will be changed.  BadUse when it cannot be copied."""
    folder = user_state_path("uneven-sum") / "guide"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name in FILES:
            shutil.copy(FOLDER / name, folder / name)
    except OSError as e:
        raise BadUse(f"The guide needs a copy of its case in {folder}: {e.strerror}.") from None
    return Launch(str(Path(folder) / FILES[0]), cwd=str(folder), keep_case=False)
