"""A picture as coloured half blocks, for a terminal."""

from __future__ import annotations

import io

Colour = tuple[int, int, int]


def half_blocks(data: bytes, columns: int, rows: int) -> list[list[tuple[Colour, Colour]]]:
    """A PNG or JPEG, made to fit: rows of cells, each with the colours of its upper and its lower half.

    Transparent parts are white.  ValueError where it is no picture."""
    from PIL import Image, UnidentifiedImageError  # with matplotlib

    try:
        whole = Image.open(io.BytesIO(data)).convert("RGBA")
    except (UnidentifiedImageError, OSError, ValueError) as e:
        raise ValueError(f"this is no picture: {e}") from None
    paper = Image.new("RGBA", whole.size, "white")
    paper.alpha_composite(whole)
    scale = min(columns / whole.width, 2 * rows / whole.height)
    wide, tall = max(1, int(whole.width * scale)), max(2, int(whole.height * scale) // 2 * 2)
    small = paper.convert("RGB").resize((wide, tall), Image.Resampling.LANCZOS)
    raw = small.tobytes()

    def at(x: int, y: int) -> Colour:
        n = 3 * (y * wide + x)
        return raw[n], raw[n + 1], raw[n + 2]

    return [[(at(x, y), at(x, y + 1)) for x in range(wide)] for y in range(0, tall, 2)]
