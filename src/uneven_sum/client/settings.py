"""What holds for all cases, in the platform's config folder: readable, unknown keys kept."""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from pathlib import Path
from typing import Any

import tomlkit
from platformdirs import user_config_path
from tomlkit.exceptions import TOMLKitError

from ..host.launch import BadUse
from .before import KINDS
from .edits import write_whole
from .setup import TRIPS

THEMES = ("slate", "chalk")


@dataclass
class Settings:
    """`theme`; `pause_on` by default; `record`: `chosen` loops or `always`; `not_looked_for`: kinds of findings."""

    theme: str = "slate"
    pause_on: list[str] = field(default_factory=lambda: ["error", "warning", "nonfinite"])
    record: str = "chosen"
    return_points: bool = True
    not_looked_for: list[str] = field(default_factory=list)


ALLOWED: dict[str, tuple[str, ...]] = {
    "theme": THEMES,
    "pause_on": TRIPS,
    "record": ("chosen", "always"),
    "not_looked_for": tuple(KINDS),
}


def place() -> Path:
    return user_config_path("uneven-sum") / "settings.toml"


def load() -> tuple[Settings, list[str]]:
    """The settings, and a sentence for each that cannot be taken (its default holds)."""
    try:
        document = _read()
    except BadUse as e:
        return Settings(), [str(e)]
    found, told = Settings(), []
    for one in fields(Settings):
        if one.name not in document:
            continue
        value = document[one.name]
        value = value.unwrap() if hasattr(value, "unwrap") else value
        wrong = _wrong(one.name, value)
        if wrong:
            told.append(f"{place()}: {wrong}; its default holds.")
        else:
            setattr(found, one.name, value)
    return found, told


def _wrong(name: str, value: Any) -> str:
    default = getattr(Settings(), name)
    if type(value) is not type(default):
        return f"{name} is {value!r}, which is no {'list' if isinstance(default, list) else type(default).__name__}"
    allowed = ALLOWED.get(name)
    for one in (value if isinstance(value, list) else [value]) if allowed else []:
        if one not in allowed:  # type: ignore[operator]
            return f"{name} knows {', '.join(allowed or ())}, not {one!r}"
    return ""


def _read() -> tomlkit.TOMLDocument:
    try:
        return tomlkit.parse(place().read_text(encoding="utf-8"))
    except FileNotFoundError:
        return tomlkit.document()
    except (OSError, UnicodeDecodeError) as e:
        raise BadUse(f"{place()} cannot be read: {getattr(e, 'strerror', None) or e}. It is left as it is.") from None
    except TOMLKitError as e:
        raise BadUse(f"{place()} is damaged: {e}. It is left as it is; mend it or move it away.") from None


def save(settings: Settings) -> None:
    """Writes what is not the default; unknown keys stay.  BadUse when it cannot be written, or is damaged."""
    document = _read()
    for one in fields(Settings):
        value = getattr(settings, one.name)
        if value == getattr(Settings(), one.name):
            document.pop(one.name, None)
        else:
            document[one.name] = value
    path = place()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as e:
        raise BadUse(f"{path.parent} cannot be made: {e.strerror}.") from None
    write_whole(str(path), tomlkit.dumps(document).encode())


def told() -> str:
    """Where the settings are, and what holds."""
    found, wrong = load()
    path = place()
    lines = [f"{path}{'' if path.exists() else ' (not there yet: the defaults hold)'}", ""]
    width = max(len(f.name) for f in fields(Settings))
    for one in fields(Settings):
        value = getattr(found, one.name)
        shown = ", ".join(value) or "nothing" if isinstance(value, list) else str(value).lower()
        allowed = ALLOWED.get(one.name, ("true", "false"))
        lines.append(f"{one.name:<{width}}  {shown}   ({', '.join(allowed)})")
    return "\n".join([*lines, *([""] if wrong else []), *wrong])
