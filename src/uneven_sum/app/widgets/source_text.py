"""A source as styled lines, and the names in it with their places."""

from __future__ import annotations

import ast

from pygments.lexers.python import PythonLexer
from pygments.token import Comment, Keyword, Literal, Operator, String, Token
from rich.style import Style
from rich.text import Text

from ...client.sources import as_python
from ..shell.theme import Palette


def highlight(text: str, palette: Palette) -> list[Text]:
    """The source as styled lines."""
    styles = {
        Keyword: Style.parse(f"bold {palette.keyword}"),
        Operator.Word: Style.parse(f"bold {palette.keyword}"),
        Comment: Style.parse(f"italic {palette.quiet}"),
        String: Style.parse(palette.string),
        Literal.String.Doc: Style.parse(f"italic {palette.quiet}"),
    }
    out = Text()
    for token, piece in PythonLexer(stripnl=False, ensurenl=False).get_tokens(text):
        style = None
        while token is not Token and style is None:
            style = styles.get(token)
            token = token.parent or Token
        out.append(piece, style)
    return list(out.split("\n", allow_blank=True))


def readable(path: str, text: str) -> list[tuple[int, int, int, int, str]]:
    """The names, attributes and elements of a source, with their places: first line and byte, last, text."""
    try:
        tree = ast.parse(as_python(path, text.expandtabs(4)))
    except (SyntaxError, ValueError, RecursionError):
        return []
    lines = text.expandtabs(4).encode().split(b"\n")
    found = []
    for node in ast.walk(tree):
        if not isinstance(node, (ast.Name, ast.Attribute, ast.Subscript)):
            continue
        first, last = node.lineno, node.end_lineno or node.lineno
        start, end = node.col_offset, node.end_col_offset or 0
        rows = lines[first - 1 : last]
        rows[-1] = rows[-1][:end]
        rows[0] = rows[0][start:]
        found.append((first, start, last, end, b"\n".join(rows).decode("utf-8", "replace")))
    return found
