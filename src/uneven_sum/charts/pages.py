"""A report's Markdown as PDF pages: A4, the fonts that matplotlib brings, so that any sign of a script can be shown."""

from __future__ import annotations

import html
import logging
import re
from pathlib import Path
from urllib.parse import unquote

FACES = {
    "Text": {"": "DejaVuSans", "B": "DejaVuSans-Bold", "I": "DejaVuSans-Oblique", "BI": "DejaVuSans-BoldOblique"},
    "Mono": {"": "DejaVuSansMono", "B": "DejaVuSansMono-Bold", "I": "DejaVuSansMono-Oblique"},
}
INK, QUIET, RULE = (35, 40, 45), (90, 98, 105), (207, 200, 184)
SIZE = 9.5  # points
FEW, SMALL = 5, 7  # columns from which on a table is set smaller, and how small
WIDE = 92  # characters of a line of code: longer ones are folded, not cut
LOOSE = re.compile(r"(\S{28})(?=\S)")  # what a table's cell could not break


def write_pages(markdown: str, folder: Path, path: str, title: str) -> None:
    """Writes Markdown (with tables, code and pictures) as a PDF.

    A picture `NAME.svg` of `folder` is drawn from its `NAME.png`; without one its name is there.  OSError as
    open gives it.
    """
    from fpdf import FPDF, FontFace, TextStyle
    from markdown_it import MarkdownIt
    from matplotlib import get_data_path

    logging.getLogger("fpdf").setLevel(logging.ERROR)
    logging.getLogger("fontTools").setLevel(logging.ERROR)

    class Pages(FPDF):
        def footer(self) -> None:
            self.set_y(-12)
            self.set_font("Text", size=7.5)
            self.set_text_color(*QUIET)
            self.cell(0, 6, f"{title}   {self.page_no()} of {{nb}}", align="R")

    pages = Pages(format="A4")
    pages.set_margin(18)
    pages.set_title(title)
    for family, faces in FACES.items():
        for style, name in faces.items():
            pages.add_font(family, style, Path(get_data_path(), "fonts", "ttf", f"{name}.ttf"))
    pages.set_font("Text", size=SIZE)
    pages.set_text_color(*INK)
    pages.set_draw_color(*RULE)
    pages.add_page()
    heads: dict[str, object] = {
        f"h{n}": TextStyle("Text", "B", size, INK, t_margin=above, b_margin=1.5)
        for n, size, above in ((1, 17, 0), (2, 12, 6), (3, 10.5, 4))
    }
    styles: dict[str, object] = {
        "code": FontFace("Mono", size_pt=SIZE - 1),
        "pre": TextStyle("Mono", "", SIZE - 1.5, INK, t_margin=2.5, b_margin=3.5),
        "b": FontFace(emphasis="BOLD"),
        "strong": FontFace(emphasis="BOLD"),
    }
    text = MarkdownIt("commonmark").enable("table").render(_folded(markdown))
    pages.write_html(
        _fitted(text, folder),
        tag_styles={**heads, **styles},
        font_family="Text",
        table_line_separators=True,
        li_prefix_color=INK,
    )
    pages.output(path)


def _folded(markdown: str) -> str:
    """Lines of code blocks that are too long for the page go on in the next line."""
    out, code = [], False
    for line in markdown.split("\n"):
        if line.startswith("```"):
            code = not code
        while code and len(line) > WIDE:
            out.append(line[:WIDE])
            line = "      " + line[WIDE:]
        out.append(line)
    return "\n".join(out)


def _fitted(text: str, folder: Path) -> str:
    """Pictures as their drawings, tables as the page's layout wants them."""

    def drawn(found: re.Match[str]) -> str:
        drawing = folder / Path(unquote(found[1])).with_suffix(".png")
        return f'<img src="{drawing}" width="480">' if drawing.is_file() else f"(picture: {unquote(found[1])})"

    text = re.sub(r'<img src="([^"]+)"[^>]*>', drawn, text)
    return re.sub(r"<table>.*?</table>", lambda m: _table(m[0]), text, flags=re.S)


def _table(text: str) -> str:
    def cell(found: re.Match[str]) -> str:
        inside = re.sub(r"</?code>", "", found[2]).replace("\xa0", "\u2800")  # blanks at its begin would be dropped
        plain = html.unescape(re.sub(r"<[^>]+>", "", inside))
        if LOOSE.search(plain):
            inside = html.escape(LOOSE.sub("\\1\u200b", plain))
        return f'<{found[1]} align="left">{inside}</{found[1]}>'

    text = re.sub(r'<(t[hd])(?: style="[^"]*")?>(.*?)</t[hd]>', cell, text, flags=re.S)
    if not re.search(r"<th [^>]*>[^<]", text):  # facts: names and what they are
        text = re.sub(r"<thead>.*?</thead>", "", text, flags=re.S)
        text = text.replace("<td", '<td width="24%"', 1).replace("</td>\n<td", '</td>\n<td width="76%"', 1)
    whole = text.replace("<table>", '<table border="0" width="100%" cellpadding="1">')
    columns = whole.partition("</tr>")[0].count("<t") - whole.partition("<tr>")[0].count("<t") - 1
    return f'<br><font size="{SMALL}">{whole}</font>' if columns > FEW else f"<br>{whole}"
