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


@dataclass(frozen=True)
class Meta:
    """Of one setting: its label and explanation, what it may be, and its unit."""

    label: str
    about: str
    allowed: tuple[str, ...] = ()
    bounds: tuple[float, float] | None = None
    unit: str = ""


def setting(default: object, label: str, about: str, **more: Any) -> Any:
    """A setting, declared once: the screen, `uneven-sum settings` and the checks read it."""
    meta = {"setting": Meta(label, about, **more)}
    if isinstance(default, (list, dict)):
        return field(default_factory=lambda: type(default)(default), metadata=meta)
    return field(default=default, metadata=meta)


@dataclass
class Settings:
    """The settings for all cases; a case's own file goes before them."""

    theme: str = setting("slate", "theme", "colours: slate (dark) or chalk (light)", allowed=THEMES)
    pause_on: list[str] = setting(
        list(TRIPS), "pause on", "what pauses a script; a case can override it", allowed=PAUSES
    )
    record: str = setting(
        "chosen", "record loops", "chosen loops, or always all loops of your code", allowed=("chosen", "always")
    )
    stepped_over: list[str] = setting([], "skipped by step into", "files and functions that stepping skips")
    number_style: str = setting("general", "number format", "for values without their own", allowed=STYLES)
    digits: int = setting(6, "digits", "significant digits; for fixed, decimals", bounds=(1, 17))
    thousands: bool = setting(False, "group digits", "by three")
    not_looked_for: list[str] = setting(
        [], "source checks off", "kinds of findings that are not shown", allowed=tuple(KINDS)
    )
    trial_seconds: float = setting(
        5.0, "evaluation time limit", "of an evaluation in a copy of the script", bounds=(0.1, 600), unit="s"
    )
    return_points: bool = setting(True, "make snapshots", "so that you can go back")
    most_return_points: int = setting(
        40, "most snapshots", "kept at pauses; older ones are thinned out", bounds=(4, 1000)
    )
    return_point_memory: float = setting(
        0.25, "snapshot memory", "share of the machine's memory for all snapshots (0.25 = 25 %)", bounds=(0.01, 0.9)
    )
    hold_others: bool = setting(False, "hold processes", "all processes of the script wait while one is paused")
    output_lines: int = setting(5000, "output kept", "of the script's output", bounds=(100, 1_000_000), unit="lines")
    keys: dict[str, dict[str, str]] = setting({}, "keys", "changed keys, by screen")

    def fit(self, launch: Launch) -> None:
        """Puts the limits on a run, and switches return points off where they are."""
        launch.hold_others = self.hold_others
        launch.return_points = launch.return_points and self.return_points
        launch.limits = Limits(self.trial_seconds, self.most_return_points, self.return_point_memory)


def meta(name: str) -> Meta:
    found: Meta = next(f.metadata["setting"] for f in fields(Settings) if f.name == name)
    return found


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
    """The settings, and a sentence for each that cannot be used; its default is used."""
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
    bounds = meta(name).bounds
    if bounds is not None and not bounds[0] <= value <= bounds[1]:
        return f"{name} is {value:g}, which is not between {bounds[0]:g} and {bounds[1]:g}"
    if name == "keys":
        wrong = next((k for k, v in value.items() if not _is_texts(v)), None)
        return f"keys.{wrong} is not a table of keys" if wrong else ""
    if isinstance(value, list) and not all(isinstance(v, str) for v in value):
        return f"{name} is a list of texts"
    allowed = meta(name).allowed
    for one in (value if isinstance(value, list) else [value]) if allowed else []:
        if one not in allowed:
            return f"{name} knows {', '.join(allowed)}, not {one!r}"
    return ""


def _is_texts(value: object) -> bool:
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


def in_words(name: str, value: object) -> str:
    """A setting's value, for people."""
    if isinstance(value, dict):
        return (
            ", ".join(f"{screen}: {old} → {new}" for screen, ks in value.items() for old, new in ks.items()) or "none"
        )
    if isinstance(value, list):
        return ", ".join(value) or "nothing"
    if isinstance(value, bool):
        return "yes" if value else "no"
    unit = f" {meta(name).unit}" if meta(name).unit else ""
    return (f"{value:g}" if isinstance(value, float) else str(value)) + unit


def choices(name: str) -> str:
    """What a setting can be, in words."""
    about = meta(name)
    if about.bounds is not None:
        return f"{about.bounds[0]:g} to {about.bounds[1]:g}" + (f" {about.unit}" if about.unit else "")
    if about.allowed:
        return ", ".join(about.allowed)
    texts: dict[type, str] = {bool: "true, false", list: "a list of texts", dict: "a table for each screen"}
    return texts[type(getattr(Settings(), name))]


def told() -> str:
    """The settings file, and each setting with what it may be."""
    found, wrong = load()
    path = place()
    lines = [f"{path}{'' if path.exists() else ' (no file yet; all defaults)'}", ""]
    width = max(len(f.name) for f in fields(Settings))
    for one in fields(Settings):
        value = getattr(found, one.name)
        lines.append(f"{one.name:<{width}}  {in_words(one.name, value)}   ({choices(one.name)})")
    return "\n".join([*lines, *([""] if wrong else []), *wrong])
