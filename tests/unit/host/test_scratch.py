"""Temporary folders of killed processes go; others stay."""

from __future__ import annotations

import os
from pathlib import Path

from uneven_sum.host.sockets import remove_stale


def test_only_folders_of_killed_processes_are_removed(tmp_path: Path) -> None:
    gone = 1 << 22  # above any process number of Linux
    stale = [f"uneven-sum-{gone}-ab_c", f"uneven-{gone}-xyz"]
    kept = [f"uneven-sum-{os.getpid()}-abc", "uneven-sum-abc", f"results-{gone}-a", f"uneven-sum-{gone}-a-b"]
    for name in (*stale, *kept):
        (tmp_path / name / "inner").mkdir(parents=True)
    remove_stale(str(tmp_path))
    assert sorted(os.listdir(tmp_path)) == sorted(kept)
