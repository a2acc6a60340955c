"""Plots written by matplotlib, readable on white paper, from the same reduced data as on the screen.

Non-finite places are marks along the lower edge; lines break at them.  Text stays text in SVG.
"""

from __future__ import annotations

import base64
import math
import struct
from typing import TYPE_CHECKING, Any

from .plot_data import Boxes, Frequent, Heat, Histogram, Image, LinePlot, Scatter

if TYPE_CHECKING:
    from collections.abc import Callable

    from matplotlib.axes import Axes

ENDINGS = ("svg", "pdf", "png")
INK, BAD = "#23282d", "#b3371f"
TINTS = ("#2f5f9e", "#0f766e", "#80591a", "#5b45a8", "#4b6f2e", "#a81857")
MARKS = {"n": "$!$", "+": "^", "-": "v"}
WORDS = {"n": "nan", "+": "inf", "-": "-inf"}


def floats(text: str) -> list[float]:
    """float64 numbers from base64 of little-endian bytes."""
    data = base64.b64decode(text)
    return list(struct.unpack(f"<{len(data) // 8}d", data))


def write_plot(kind: str, data: dict[str, object], path: str, title: str) -> None:
    """Writes one plot; the ending says SVG, PDF or PNG.  ValueError for another ending, OSError as open gives it."""
    ending = path.rpartition(".")[2].lower()
    if ending not in ENDINGS:
        raise ValueError(f"a plot is written as {', '.join('.' + e for e in ENDINGS[:-1])} or .{ENDINGS[-1]}")
    import matplotlib
    from matplotlib.figure import Figure

    with matplotlib.rc_context({"svg.fonttype": "none", "pdf.fonttype": 42, "font.size": 9, "axes.edgecolor": INK}):
        figure = Figure(figsize=(7.2, 4.2), layout="constrained")
        axes = figure.add_subplot()
        axes.set_title(title, loc="left", fontsize=10, color=INK)
        _DRAW[kind](axes, data)
        for side in ("top", "right"):
            axes.spines[side].set_visible(kind in ("heat", "image"))
        undated = {"svg": {"Date": None}, "pdf": {"CreationDate": None}}.get(ending)
        figure.savefig(path, format=ending, metadata=undated, dpi=200)


def _line(axes: Axes, data: LinePlot) -> None:
    first, last = data["first"], data["last"]
    for number, one in enumerate(data["series"]):
        lows, highs = floats(one["lows"]), floats(one["highs"])
        count = max(1, len(lows))
        x = [first + (n + 0.5) * (last - first) / count - 0.5 for n in range(len(lows))]
        known = [n for n in range(len(lows)) if one.get("absent", "")[n : n + 1] != "1"]
        x, lows, highs = [x[n] for n in known], [lows[n] for n in known], [highs[n] for n in known]
        signs = [one["marks"][n] for n in known]
        middle = [(a / 2 + b / 2) if a == a else math.nan for a, b in zip(lows, highs)]
        broken = [math.nan if sign != "." and a == b else m for sign, a, b, m in zip(signs, lows, highs, middle)]
        tint = TINTS[number % len(TINTS)]
        axes.fill_between(x, lows, highs, color=tint, alpha=0.35, linewidth=0)
        axes.plot(x, broken, color=tint, linewidth=1.0, label=one["name"], gid=f"line-{number}")
        for mark, sign in MARKS.items():
            at = [place for place, m in zip(x, signs) if m == mark]
            if at:
                axes.plot(
                    at,
                    [0.015] * len(at),
                    linestyle="",
                    marker=sign,
                    color=BAD,
                    markersize=6,
                    transform=axes.get_xaxis_transform(),
                    clip_on=False,
                    label=f"{WORDS[mark]}: {len(at)} places",
                    gid=f"bad-{number}-{WORDS[mark]}",
                )
    if data.get("log"):
        axes.set_yscale("log", nonpositive="mask")
    if len(data["series"]) > 1 or any(m != "." for s in data["series"] for m in s["marks"]):
        axes.legend(frameon=False, fontsize=8)
    present = data.get("at")
    if present is not None:
        axes.axvline(present, color=INK, linewidth=0.8, linestyle=":", gid="now")
    axes.set_xlabel(data.get("x", "place"))


def _histogram(axes: Axes, data: Histogram) -> None:
    counts, low, high = data["counts"], data["low"], data["high"]
    if data.get("log") and low > 0:
        edges = [low * (high / low) ** (n / len(counts)) for n in range(len(counts) + 1)]
        axes.set_xscale("log")
    else:
        edges = [low + (high - low) * n / max(1, len(counts)) for n in range(len(counts) + 1)]
    if counts:
        axes.stairs(counts, edges, fill=True, color=TINTS[0])
    told = [f"{data[k]} {k}" for k in ("nan", "+inf", "-inf") if data.get(k)]
    if told:
        axes.text(
            0.99, 0.97, "not shown: " + ", ".join(told), transform=axes.transAxes, ha="right", va="top", color=BAD
        )
    axes.set_xlabel(data["names"][0] if data.get("names") else "")
    axes.set_ylabel("cells")


def _heat(axes: Axes, data: Heat) -> None:
    rows, columns = data["shape"]
    values = floats(data["data"])
    table = [values[r * columns : (r + 1) * columns] for r in range(rows)]
    height, width = data["of"]
    shown = axes.imshow(table, aspect="auto", cmap="cividis", extent=(-0.5, width - 0.5, height - 0.5, -0.5))
    axes.figure.colorbar(shown, ax=axes)
    bad = [(r, c) for r in range(rows) for c in range(columns) if data["marks"][r][c] != "."]
    if bad:
        x = [(c + 0.5) * width / columns - 0.5 for _, c in bad]
        y = [(r + 0.5) * height / rows - 0.5 for r, _ in bad]
        axes.plot(
            x, y, linestyle="", marker="$!$", color=BAD, markersize=6, gid="bad", label=f"not finite: {len(bad)} places"
        )
        axes.legend(frameon=True, fontsize=8)


def _scatter(axes: Axes, data: Scatter) -> None:
    counts = data["counts"]
    (x0, x1), (y0, y1) = data["x"], data["y"]
    xs, ys, sizes = [], [], []
    for r, strip in enumerate(counts):
        for c, count in enumerate(strip):
            if count:
                xs.append(x0 + (x1 - x0) * (c + 0.5) / len(strip))
                ys.append(y1 - (y1 - y0) * (r + 0.5) / len(counts))
                sizes.append(min(40, 4 + 3 * math.sqrt(count)))
    axes.scatter(xs, ys, s=sizes, color=TINTS[0], alpha=0.6, linewidths=0)
    names = data.get("names", ["", ""])
    axes.set_xlabel(names[0])
    axes.set_ylabel(names[1])
    if data.get("left out"):
        axes.text(
            0.99, 0.97, f"not finite: {data['left out']}", transform=axes.transAxes, ha="right", va="top", color=BAD
        )


def _frequent(axes: Axes, data: Frequent) -> None:
    bars = data["bars"][::-1]
    axes.barh([k[:40] for k, _ in bars], [n for _, n in bars], color=TINTS[0])
    axes.set_xlabel(f"times, of {data['distinct']} distinct values of {data['names'][0]}")


def _box(axes: Axes, data: Boxes) -> None:
    boxes = [b for b in data["boxes"] if b["five"]]
    stats = [
        dict(
            zip(("whislo", "q1", "med", "q3", "whishi"), b["five"]),
            label=f"{b['name']}\n{b['count']}" + (f", {b['bad']} bad" if b["bad"] else ""),
        )
        for b in boxes
    ]
    axes.bxp(stats, showfliers=False)
    axes.set_ylabel(data["names"][0])
    axes.set_xlabel(data["names"][1])


def _image(axes: Axes, data: Image) -> None:
    rows, columns, depth = data["shape"]
    pixels = base64.b64decode(data["data"])
    table = [
        [[pixels[(r * columns + c) * depth + k] / 255 for k in range(3)] for c in range(columns)] for r in range(rows)
    ]
    axes.imshow(table, extent=(-0.5, data["of"][1] - 0.5, data["of"][0] - 0.5, -0.5))


_DRAW: dict[str, Callable[[Axes, Any], None]] = {
    "line": _line,
    "singular": _line,
    "histogram": _histogram,
    "heat": _heat,
    "scatter": _scatter,
    "frequent": _frequent,
    "box": _box,
    "image": _image,
}


def summary_markdown(name: str, kind: str, line: str, facts: list[list[str]], title: str) -> str:
    """A value's summary as a Markdown section with a table."""
    rows = [f"| {_cell(a)} | {_cell(b)} |" for a, b in facts if a or b]
    return "\n".join([f"## {title}", "", f"`{name}`, {kind}: {line}", "", "| | |", "|---|---|", *rows, ""])


def _cell(text: str) -> str:
    return text.replace("|", "\\|").replace("\n", " ")
