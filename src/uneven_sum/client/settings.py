"""What holds for all cases, in the platform's config folder: readable, unknown keys kept."""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from pathlib import Path
from typing import Any

import tomlkit
from platformdirs import user_config_path
from tomlkit.exceptions import TOMLKitError

from ..host.launch import BadUse, Launch, Limits
from ..protocol import TRIPS
from ..protocol.trips import PAUSES
from .before import KINDS
from .edits import write_whole

THEMES = ("slate", "chalk")
STYLES = ("general", "fixed", "scientific", "engineering", "exact", "hexadecimal", "binary")


@dataclass
class Settings:
    """What holds for all cases; what a case's own file says goes before it."""

    theme: str = "slate"
    pause_on: list[str] = field(default_factory=lambda: list(TRIPS))
    record: str = "chosen"
    stepped_over: list[str] = field(default_factory=list)
    number_style: str = "general"
    digits: int = 6
    thousands: bool = False
    not_looked_for: list[str] = field(default_factory=list)
    trial_seconds: float = 5.0
    return_points: bool = True
    most_return_points: int = 40
    return_point_memory: float = 0.25
    output_lines: int = 5000
    keys: dict[str, dict[str, str]] = field(default_factory=dict)

    def fit(self, launch: Launch) -> None:
        """Puts the limits on a run, and switches return points off where they are."""
        launch.return_points = launch.return_points and self.return_points
        launch.limits = Limits(self.trial_seconds, self.most_return_points, self.return_point_memory)


# What each one is, in words.
ABOUT = {
    "theme": "colours: slate is dark, chalk is light",
    "pause_on": "what pauses a script, where its case says nothing else",
    "record": "the loops of your code that are recorded for the Ledger: the chosen ones, or always all",
    "stepped_over": "files and functions that stepping does not stop in",
    "number_style": "how numbers are shown, where a value has no format of its own",
    "digits": "significant digits; for fixed, decimals",
    "thousands": "groups of three digits are set apart",
    "not_looked_for": "source checks turned off",
    "trial_seconds": "time limit of an evaluation in a copy, in seconds",
    "return_points": "copies of the script to go back to, made at each pause",
    "most_return_points": "return points at pauses that are kept; older ones are thinned",
    "return_point_memory": "share of the machine's memory that all return points may have of their own",
    "output_lines": "lines of a script's output that the drawer keeps",
    "keys": "keys that were changed, by screen",
}
ALLOWED: dict[str, tuple[str, ...]] = {
    "theme": THEMES,
    "pause_on": PAUSES,
    "record": ("chosen", "always"),
    "number_style": STYLES,
    "not_looked_for": tuple(KINDS),
}
BOUNDS: dict[str, tuple[float, float]] = {
    "digits": (1, 17),
    "trial_seconds": (0.1, 600),
    "most_return_points": (4, 1000),
    "return_point_memory": (0.01, 0.9),
    "output_lines": (100, 1_000_000),
}


TYPES = {
    str: "a text",
    bool: "true or false",
    int: "a whole number",
    float: "a number",
    list: "a list",
    dict: "a table",
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
        value = float(value) if type(value) is int and one.type == "float" else value
        wrong = wrong_with(one.name, value)
        if wrong:
            told.append(f"{place()}: {wrong}. Using the default.")
        else:
            setattr(found, one.name, value)
    return found, told


def wrong_with(name: str, value: Any) -> str:
    """What is wrong with a setting's value; empty when it can be."""
    default = getattr(Settings(), name)
    if type(value) is not type(default):
        return f"{name} is {value!r}, which is not {TYPES[type(default)]}"
    if name in BOUNDS and not BOUNDS[name][0] <= value <= BOUNDS[name][1]:
        return f"{name} is {value:g}, which is not between {BOUNDS[name][0]:g} and {BOUNDS[name][1]:g}"
    if name == "keys":
        wrong = next((k for k, v in value.items() if not _is_texts(v)), None)
        return f"keys.{wrong} is no table of keys" if wrong else ""
    if isinstance(value, list) and not all(isinstance(v, str) for v in value):
        return f"{name} is a list of texts"
    allowed = ALLOWED.get(name)
    for one in (value if isinstance(value, list) else [value]) if allowed else []:
        if one not in allowed:  # type: ignore[operator]
            return f"{name} knows {', '.join(allowed or ())}, not {one!r}"
    return ""


def _is_texts(value: Any) -> bool:
    return isinstance(value, dict) and all(isinstance(v, str) for v in value.values())


def _read() -> tomlkit.TOMLDocument:
    try:
        return tomlkit.parse(place().read_text(encoding="utf-8"))
    except FileNotFoundError:
        return tomlkit.document()
    except (OSError, UnicodeDecodeError) as e:
        raise BadUse(f"{place()} cannot be read: {getattr(e, 'strerror', None) or e}. It is unchanged.") from None
    except TOMLKitError as e:
        raise BadUse(f"{place()} cannot be parsed: {e}. Repair or move it; it is unchanged.") from None


def save(settings: Settings) -> None:
    """Writes what has changed and is not the default; unknown keys stay, and so does a value that could not be taken.

    BadUse when it cannot be written, or is damaged.
    """
    document, (present, _) = _read(), load()
    for one in fields(Settings):
        value = getattr(settings, one.name)
        if value == getattr(present, one.name):
            continue
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


def in_words(name: str, value: Any) -> str:
    """A setting's value, for people."""
    if isinstance(value, dict):
        return (
            ", ".join(f"{screen}: {old} → {new}" for screen, ks in value.items() for old, new in ks.items()) or "none"
        )
    if isinstance(value, list):
        return ", ".join(value) or "nothing"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return f"{value:g}" if isinstance(value, float) else str(value)


def choices(name: str) -> str:
    """What a setting can be, in words."""
    if name in BOUNDS:
        return f"{BOUNDS[name][0]:g} to {BOUNDS[name][1]:g}"
    if name in ALLOWED:
        return ", ".join(ALLOWED[name])
    texts: dict[type, str] = {bool: "true, false", list: "a list of texts", dict: "a table for each screen"}
    return texts[type(getattr(Settings(), name))]


def told() -> str:
    """Where the settings are, and what holds."""
    found, wrong = load()
    path = place()
    lines = [f"{path}{'' if path.exists() else ' (no file yet; all defaults)'}", ""]
    width = max(len(f.name) for f in fields(Settings))
    for one in fields(Settings):
        value = getattr(found, one.name)
        lines.append(f"{one.name:<{width}}  {in_words(one.name, value)}   ({choices(one.name)})")
    return "\n".join([*lines, *([""] if wrong else []), *wrong])
