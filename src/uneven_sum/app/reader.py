"""Long text that has a shape, JSON or XML, as a tree that folds."""

from __future__ import annotations

import json
from typing import Any
from xml.etree import ElementTree

Parts = list[tuple[str, Any]]  # a label with the text of a leaf, or with parts
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
            return None
    return None


def _json(value: Any) -> Parts:
    pairs = value.items() if isinstance(value, dict) else enumerate(value)
    found: Parts = []
    for key, inner in pairs:
        name = str(key) if isinstance(value, dict) else f"[{key}]"
        if isinstance(inner, (dict, list)) and inner:
            found.append((f"{name}  {len(inner)} parts", _json(inner)))
        else:
            found.append((name, json.dumps(inner, ensure_ascii=False)[:500]))
        if len(found) >= MOST:
            found.append(("…", f"{len(value) - MOST} more"))
            break
    return found


def _xml(element: ElementTree.Element) -> tuple[str, Any]:
    told = " ".join([element.tag, *(f'{k}="{v}"' for k, v in element.attrib.items())])
    text = (element.text or "").strip()
    inner = [_xml(child) for child in list(element)[:MOST]]
    if not inner:
        return told, text[:500]
    return told, ([("text", text[:500])] if text else []) + inner
