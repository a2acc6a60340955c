"""What is inside a value: parts that unfold, long texts."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, cast

from rich.text import Text
from textual.containers import Horizontal, VerticalScroll
from textual.widgets import Static, Tree

from ...client import BadUse
from ..reader import folded
from ..theme import Palette

if TYPE_CHECKING:
    from ..screens.closeup import CloseUp


class Inside:
    """A part of the Close-up."""

    @property
    def _c(self) -> CloseUp:
        return cast("CloseUp", self)

    async def on_tree_node_expanded(self, event: Tree.NodeExpanded[str]) -> None:
        screen = self._c
        node, client = event.node, screen.bench.client
        if node.data is None or node.children or client is None:
            return
        found = await screen._ask(client.parts(node.data, screen.frame, 0, 300))
        if found is None:
            return
        p = screen.palette
        for part in found["parts"]:
            label = Text(part["name"], f"bold {p.text}")
            label.append("  " + part["text"], p.nonfinite if part["nonfinite"] else p.quiet)
            path = _path(node.data, part["name"], str(screen.told["summary"]["kind"]) if node.is_root else "")
            if part["parts"] and path:
                node.add(label, data=path)
            else:
                node.add_leaf(label, data=path)
        if found["total"] > len(found["parts"]):
            node.add_leaf(Text(f"… {found['total'] - len(found['parts'])} more: ask for a slice of it", p.quiet))

    async def _reader(self, body: Horizontal) -> None:
        screen = self._c
        client = screen.bench.client
        if client is None:
            return
        try:
            text = await client.read_text(screen.expression, screen.frame)
        except BadUse as e:
            screen.say(str(e), bad=True)
            return
        tree = folded(text)
        if tree is not None:
            shown: Tree[str] = Tree(tree[0])
            await body.mount(shown)
            _fill(shown.root, tree[1], screen.palette)
            shown.root.expand()
            shown.focus()
            return
        box = VerticalScroll(Static(Text(text[:200_000], screen.palette.text)), id="text", can_focus=True)
        await body.mount(box)
        box.focus()


def _path(owner: str, name: str, kind: str) -> str | None:
    """The expression of a part, where it can be told from its name."""
    if name.startswith("[") and name.endswith("]") and name[1:-1].isdigit():
        return owner + name
    if name.isidentifier():
        return f"{owner}.{name}" if kind != "frame" else f"{owner}[{name!r}]"
    if name[:1] in "'\"" or name.lstrip("-").replace(".", "", 1).isdigit():
        return f"{owner}[{name}]"
    return f"{owner}[{name!r}]" if kind == "frame" else None


def _fill(node: Any, parts: list[tuple[str, Any]], p: Palette) -> None:
    for label, inner in parts:
        if isinstance(inner, list):
            _fill(node.add(Text(label, p.text)), inner, p)
        else:
            text = Text(label, f"bold {p.text}")
            text.append(f"  {inner}" if inner else "", p.quiet)
            node.add_leaf(text)
