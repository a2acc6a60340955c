"""What a script is compared with, asked of the user."""

from __future__ import annotations

import os
from dataclasses import replace

from textual.screen import Screen

from ...client import BadUse, Launch
from ...client.differing.stored import Stored, is_stored
from ..shell.theme import Palette
from ..widgets.dialogs import Choice, Choose, Prompt
from .screen import Pair

BEFORE, OTHER, ITSELF = "before", "other", "itself"


async def pair_of(screen: Screen[object], palette: Palette, launch: Launch, earlier: dict[str, str]) -> Pair | str:
    """The two runs; a sentence where they cannot be compared, empty where the user has left the dialog.

    `earlier`: the texts of files before an edit: they are compared at once.
    """
    name = launch.name
    if earlier:
        edited = ", ".join(os.path.basename(path) for path in earlier)
        return Pair(
            (replace(launch), replace(launch)), (f"{name} with {edited} before the edit", name), earlier=earlier
        )
    choices = [
        Choice(OTHER, "another script, a revision of git or a stored run …", "by its path, REV:PATH, or FILE.parquet"),
        Choice(ITSELF, "itself: is it deterministic?", "it runs twice"),
    ]
    chosen = await screen.app.push_screen_wait(Choose(palette, f"Compare {name} with", choices))
    if chosen == ITSELF:
        return Pair((replace(launch), replace(launch)), (f"{name}, first run", f"{name}, second run"), twice=True)
    if chosen != OTHER:
        return ""
    given = await screen.app.push_screen_wait(
        Prompt(
            palette, f"Compare {name} with", f"HEAD:{os.path.basename(launch.program)}", "path, REV:PATH, FILE.parquet"
        )
    )
    if not given:
        return ""
    path = os.path.join(launch.cwd or os.getcwd(), os.path.expanduser(given))
    try:
        other = (
            Stored.open(path) if is_stored(path) else replace(launch, program=path if os.path.exists(path) else given)
        )
    except BadUse as e:
        return str(e)
    return Pair((other, replace(launch)), (given, name))
