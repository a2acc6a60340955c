"""How numbers are shown: digits and style, per value and in general."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from ...client.settings import STYLES


@dataclass(frozen=True)
class Format:
    """`digits` are significant ones, or decimals for `fixed`; `thousands` puts a narrow gap between groups."""

    style: str = "general"
    digits: int = 6
    thousands: bool = False

    def next_style(self) -> Format:
        return replace(self, style=STYLES[(STYLES.index(self.style) + 1) % len(STYLES)])

    def more(self, by: int) -> Format:
        return replace(self, digits=max(1, min(17, self.digits + by)))

    def kept(self) -> str:
        """As the case file has it; `made` reads it again."""
        return f"{self.style} {self.digits}" + (" thousands" if self.thousands else "")

    @property
    def name(self) -> str:
        return f"{self.style}, {self.digits} digits" + (", thousands" if self.thousands else "")


def made(text: str) -> Format:
    """A format from its text in a case file; what is not understood is left as usual."""
    words = text.split()
    style = words[0] if words and words[0] in STYLES else "general"
    digits = int(words[1]) if len(words) > 1 and words[1].isdigit() else 6
    return Format(style, max(1, min(17, digits)), "thousands" in words)


def shown(value: float | int, how: Format) -> str:
    """A number as text; nothing is inserted that would have to be removed after copying, unless `thousands`."""
    if isinstance(value, int):
        return _whole(value, how)
    if value != value:
        return "nan"
    if math.isinf(value):
        return "inf" if value > 0 else "-inf"
    if how.style == "exact":
        return repr(value)
    if how.style == "hexadecimal":
        return value.hex()
    if how.style == "fixed":
        return f"{value:,.{how.digits}f}" if how.thousands else f"{value:.{how.digits}f}"
    if how.style == "scientific":
        return f"{value:.{max(0, how.digits - 1)}e}"
    if how.style == "engineering":
        return _engineering(value, how.digits)
    text = f"{value:,.{how.digits}g}" if how.thousands else f"{value:.{how.digits}g}"
    return text if any(c in text for c in ".en") else text + ".0"


def _whole(value: int, how: Format) -> str:
    if how.style == "hexadecimal":
        return hex(value)
    if how.style == "binary":
        return bin(value)
    if how.style == "scientific":
        return f"{value:.{max(0, how.digits - 1)}e}"
    return f"{value:,d}" if how.thousands else str(value)


def _engineering(value: float, digits: int) -> str:
    if value == 0:
        return "0.0"
    lead, _, power = f"{value:.{max(digits, 3) - 1}e}".partition("e")
    three = 3 * (int(power) // 3)
    text = f"{float(lead) * 10.0 ** (int(power) - three):.{max(digits, 3)}g}"
    text = text if "." in text or "e" in text else text + ".0"
    return f"{text}e{three:+03d}" if three else text


def aligned(texts: list[str]) -> list[str]:
    """Texts of one column, right-aligned on the decimal point (or their end)."""
    heads, tails = [], []
    for text in texts:
        at = next((n for n, c in enumerate(text) if c in ".e" and n), len(text))
        numeric = text[:1].isdigit() or (text[:1] in "+-." and text[1:2].isdigit())
        heads.append(text[:at] if numeric else text)
        tails.append(text[at:] if numeric else "")
    left = max(map(len, heads), default=0)
    right = max(map(len, tails), default=0)
    out = []
    for text, head, tail in zip(texts, heads, tails):
        if tail or (head == text and text[-1:].isdigit()):
            out.append(head.rjust(left) + tail.ljust(right))
        else:
            out.append(text.rjust(left) + " " * right if len(text) <= left else text.rjust(left + right))
    width = max(map(len, out), default=0)
    return [text.rjust(width) for text in out]
