"""The small pictures of a finding: a map of the cells that are meant, and curves by cell or pass."""

from __future__ import annotations

from rich.text import Text

from ...protocol.messages import Picture, PictureLine
from ..shell.theme import Palette
from .canvas import Axis, Canvas, label

WIDTH, HEIGHT = 42, 7
SHADES = " ░▒▓█"


def picture(of: Picture, p: Palette) -> Text:
    return cells(of, p) if of.shares else curves(of, p)


def cells(of: Picture, p: Palette) -> Text:
    """Rows down and columns across; the darker a block, the more of its cells are meant."""
    out = Text()
    rows, columns = of.shape
    for shares in of.shares:
        out.append("".join(_shade(share) for share in shares), f"{p.error} on {p.rule}")
        out.append("\n")
    width = len(of.shares[0])
    last = f"{columns - 1:,}" if rows == 1 else f"{rows:,} rows, {columns:,} columns"
    out.append(f"0{last:>{max(1, width - 1)}}" if rows == 1 else last, p.quiet)
    return out


def _shade(share: float) -> str:
    return " " if share <= 0 else SHADES[max(1, min(4, round(4 * share)))]


def curves(of: Picture, p: Palette) -> Text:
    """One or two curves in a frame of numbers: lowest and highest at the left, first and last place below."""
    known = [v for one in of.lines for v in (*one.lows, *one.highs) if v is not None]
    if not known:
        return Text("no finite value", p.quiet)
    y = Axis(min(known), max(known))
    left = max(len(label(min(known))), len(label(max(known)))) + 1
    canvas = Canvas(WIDTH, HEIGHT)
    tints = [p.fine, p.error] if len(of.lines) > 1 else [p.error]
    for line, tint in zip(of.lines, tints):
        _draw(canvas, line, y, left, tint)
    canvas.text(0, 0, f"{label(max(known)):>{left - 1}}", p.quiet)
    canvas.text(HEIGHT - 1, 0, f"{label(min(known)):>{left - 1}}", p.quiet)
    out = Text()
    for strip in canvas.strips(p.panel, p.text):
        for segment in strip:
            out.append(segment.text, segment.style)
        out.append("\n")
    first, last = f"{of.first:,}", f"{of.size if of.first else of.size - 1:,}"
    out.append(" " * left + first + f"{last:>{max(1, WIDTH - left - len(first))}}", p.quiet)
    if len(of.lines) > 1:
        out.append("\n")
        for line, tint in zip(of.lines, tints):
            out.append(f"━ {line.name}   ", tint)
    return out


def _draw(canvas: Canvas, line: PictureLine, y: Axis, left: int, tint: str) -> None:
    wide, tall = 2 * (canvas.width - left), 4 * canvas.height
    count = len(line.lows)
    before: int | None = None
    for x in range(wide):
        at = min(count - 1, x * count // wide)
        low, high = line.lows[at], line.highs[at]
        if low is None or high is None:
            before = None
            continue
        bottom, top = (round((1 - y.place(v)) * (tall - 1)) for v in (low, high))
        canvas.upright(2 * left + x, min(top, before if before is not None else top), max(bottom, before or 0), tint)
        before = (top + bottom) // 2
