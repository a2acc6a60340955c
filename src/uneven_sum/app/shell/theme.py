"""Our two themes, and the colours by their meaning."""

from __future__ import annotations

from dataclasses import dataclass

from textual.theme import Theme


@dataclass(frozen=True)
class Palette:
    """Colours by meaning; every one of them comes with a word or sign on the screen."""

    name: str
    dark: bool
    ground: str
    panel: str
    text: str
    quiet: str
    at: str  # the line that runs next, or is under way
    changed: str
    breakpoint: str
    nonfinite: str
    error: str
    warning: str
    fine: str
    tint: str  # behind the paused line
    cursor: str  # behind the cursor line
    rule: str
    keyword: str
    string: str

    def theme(self) -> Theme:
        return Theme(
            name=self.name,
            primary=self.breakpoint,
            secondary=self.changed,
            accent=self.at,
            warning=self.warning,
            error=self.error,
            success=self.fine,
            foreground=self.text,
            background=self.ground,
            surface=self.ground,
            panel=self.panel,
            dark=self.dark,
            variables={
                "quiet": self.quiet,
                "rule": self.rule,
                "block-cursor-background": self.at,
                "input-selection-background": self.rule,
                "scrollbar": self.rule,
                "scrollbar-background": self.ground,
                "scrollbar-corner-color": self.ground,
                "scrollbar-hover": self.quiet,
                "scrollbar-active": self.quiet,
                "scrollbar-background-hover": self.ground,
                "scrollbar-background-active": self.ground,
            },
        )


SLATE = Palette(
    "slate",
    True,
    ground="#15191d",
    panel="#1c2228",
    text="#d7dee4",
    quiet="#8793a0",
    at="#b7a6e6",
    changed="#63c7bf",
    breakpoint="#8fb4e8",
    nonfinite="#ff8a75",
    error="#f0679e",
    warning="#e2c48d",
    fine="#9bbf7f",
    tint="#272435",
    cursor="#20272e",
    rule="#323b44",
    keyword="#a9bccf",
    string="#a9bfa6",
)
CHALK = Palette(
    "chalk",
    False,
    ground="#f6f3ec",
    panel="#ece7dc",
    text="#23282d",
    quiet="#5a6269",
    at="#5b45a8",
    changed="#0f6b64",
    breakpoint="#2f5f9e",
    nonfinite="#b3371f",
    error="#a81857",
    warning="#755117",
    fine="#44662a",
    tint="#e4dff0",
    cursor="#ebe6da",
    rule="#cfc8b8",
    keyword="#35506b",
    string="#47602f",
)
PALETTES = {p.name: p for p in (SLATE, CHALK)}
