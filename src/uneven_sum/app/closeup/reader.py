"""Long text that has a shape, JSON, XML or HTML, as a tree that folds."""

from __future__ import annotations

import json
from html.parser import HTMLParser
from xml.etree import ElementTree

from ...safe_text import cut

Parts = list[tuple[str, object]]  # a label with the text of a leaf, or with parts
MOST = 2000  # parts of one node that are shown


def folded(text: str) -> tuple[str, Parts] | None:
    """The kind and the tree of a text; None when it has no such shape."""
    start = text.lstrip()[:1]
    if start in ("{", "["):
        try:
            return "JSON", _json(json.loads(text))
        except (ValueError, RecursionError):
            return None
    if start == "<" and "<!ENTITY" not in text:
        try:
            return "XML", [_xml(ElementTree.fromstring(text))]
        except (ElementTree.ParseError, RecursionError):
            return _html(text)
    return _html(text) if start == "<" else None


VOID = {"area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "source", "track", "wbr"}
DEEPEST = 200  # elements within each other


class _Elements(HTMLParser):
    """Builds the tree of an HTML text; elements that are not closed end with what they stand in."""

    def __init__(self) -> None:
        super().__init__()
        self.root: Parts = []
        self.open: list[tuple[str, Parts]] = [("", self.root)]

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        label = " ".join([tag, *(f'{k}="{v or ""}"' for k, v in attrs)])
        inner: Parts = []
        self.open[-1][1].append((label, inner))
        if tag not in VOID and len(self.open) < DEEPEST:
            self.open.append((tag, inner))

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.open[-1][1].append((" ".join([tag, *(f'{k}="{v or ""}"' for k, v in attrs)]), ""))

    def handle_endtag(self, tag: str) -> None:
        at = next((n for n in range(len(self.open) - 1, 0, -1) if self.open[n][0] == tag), 0)
        if at:
            del self.open[at:]

    def handle_data(self, data: str) -> None:
        if data.strip():
            self.open[-1][1].append(("text", cut(" ".join(data.split()), 500)))


def _html(text: str) -> tuple[str, Parts] | None:
    parser = _Elements()
    parser.feed(text)
    parser.close()
    found = [_leaf(part) for part in parser.root]
    return ("HTML", found) if any(isinstance(inner, list) for _, inner in found) else None


def _leaf(part: tuple[str, object]) -> tuple[str, object]:
    """An element with nothing or only a text in it is a leaf."""
    label, inner = part
    if not isinstance(inner, list):
        return part
    inner = [_leaf(one) for one in inner[:MOST]]
    if len(inner) < 2 and all(name == "text" for name, _ in inner):
        return label, inner[0][1] if inner else ""
    return label, inner


def _json(value: dict[str, object] | list[object]) -> Parts:
    pairs = value.items() if isinstance(value, dict) else enumerate(value)
    found: Parts = []
    for key, inner in pairs:
        name = str(key) if isinstance(value, dict) else f"[{key}]"
        if isinstance(inner, (dict, list)) and inner:
            found.append((f"{name}  {len(inner)} parts", _json(inner)))
        else:
            found.append((name, cut(json.dumps(inner, ensure_ascii=False), 500)))
        if len(found) >= MOST:
            found.append(("…", f"{len(value) - MOST} more"))
            break
    return found


def _xml(element: ElementTree.Element) -> tuple[str, object]:
    told = " ".join([element.tag, *(f'{k}="{v}"' for k, v in element.attrib.items())])
    text = (element.text or "").strip()
    inner = [_xml(child) for child in list(element)[:MOST]]
    if not inner:
        return told, cut(text, 500)
    return told, ([("text", cut(text, 500))] if text else []) + inner
