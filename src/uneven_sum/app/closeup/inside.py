"""What is inside a value: parts that unfold, long texts."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text
from textual.binding import Binding
from textual.containers import Horizontal
from textual.widgets import TextArea, Tree
from textual.widgets.text_area import Selection
from textual.widgets.tree import TreeNode

from ...client import BadUse
from ...protocol.messages import Message
from ..shell.controller import Controller
from ..shell.theme import Palette
from .reader import folded

if TYPE_CHECKING:
    from .screen import CloseUp


PAGE = 300  # parts that are shown at once
MORE = "\0"  # before the number of the first part of the next page
WRAPPED = 200_000  # characters up to which lines are wrapped


class TextView(TextArea, inherit_bindings=False):
    """A text to read: a cursor, and no key that edits."""

    BINDINGS = [
        Binding(key, f"cursor_{action}", show=False)
        for key, action in (
            *(("up", "up"), ("down", "down"), ("left", "left"), ("right", "right"), ("pageup", "page_up")),
            *(("pagedown", "page_down"), ("home", "line_start"), ("end", "line_end")),
        )
    ]


class Inside(Controller["CloseUp"]):
    """A controller of the Close-up."""

    screen: CloseUp

    async def on_tree_node_expanded(self, event: Tree.NodeExpanded[str]) -> None:
        screen = self.screen
        node, client = event.node, screen.bench.client
        if node.data is None or node.children or client is None:
            return
        owner, start = _page(node.data)
        found = await screen.ask(client.parts(owner, screen.frame, start, PAGE))
        if found is None:
            return
        target = node.parent if start and node.parent is not None else node  # the next page is beside, not below
        if target is not node:
            node.remove()
        self._add(target, owner, start, found)

    def _add(self, node: TreeNode[str], owner: str, start: int, found: Message) -> None:
        """A page of parts below a node, and a way to the next page."""
        screen = self.screen
        p = screen.palette
        for part in found["parts"]:
            label = Text(part["name"], f"bold {p.text}")
            label.append("  " + part["text"], p.nonfinite if part["nonfinite"] else p.quiet)
            path = _path(owner, part["name"], str(screen.told["summary"]["kind"]) if node.is_root else "")
            if part["parts"] and path:
                node.add(label, data=path)
            else:
                node.add_leaf(label, data=path)
        after = start + len(found["parts"])
        if found["total"] > after:
            label = Text(f"… {found['total'] - after} more: enter shows the next {PAGE}, g goes to any", p.quiet)
            node.add(label, data=f"{owner}{MORE}{after}")

    async def go_to_part(self, number: int) -> None:
        """Show the parts of the value from one on."""
        screen = self.screen
        tree, client = screen.query_one(Tree), screen.bench.client
        owner = tree.root.data
        if client is None or owner is None:
            return
        found = await screen.ask(client.parts(owner, screen.frame, max(0, number), PAGE))
        if found is None:
            return
        if not found["parts"]:
            screen.say(f"There are {found['total']} parts: 0 to {found['total'] - 1}.", bad=True)
            return
        tree.root.remove_children()
        self._add(tree.root, owner, max(0, number), found)
        tree.root.expand()
        tree.cursor_line = 1
        tree.scroll_home(animate=False)

    def find_text(self, wanted: str) -> None:
        """Go to the next place where a text is, from the cursor on, then from the top."""
        screen = self.screen
        found = _find_in_tree(screen.query_one(Tree), wanted) if screen.query(Tree) else None
        if found is None and screen.query(TextArea):
            found = _find_in_text(screen.query_one(TextArea), wanted)
        screen.say(f"{wanted}: {found}" if found else f"{wanted} is not in this text.", bad=not found)

    async def reader(self, body: Horizontal) -> None:
        screen = self.screen
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
        box = TextView(text, id="text", read_only=True, soft_wrap=len(text) <= WRAPPED, compact=True)
        await body.mount(box)
        box.focus()


def _page(data: str) -> tuple[str, int]:
    owner, _, start = data.partition(MORE)
    return owner, int(start or 0)


def _find_in_text(area: TextArea, wanted: str) -> str | None:
    """Select the next place of a text; where it is, None when there is none."""
    text, low = area.text.lower(), wanted.lower()
    row, column = area.selection.end
    lines = area.document.lines
    start = sum(len(line) + 1 for line in lines[:row]) + column
    at = text.find(low, start)
    at = text.find(low) if at < 0 else at
    if at < 0:
        return None
    row = text.count("\n", 0, at)
    column = at - (text.rfind("\n", 0, at) + 1)
    area.selection = Selection((row, column), (row, column + len(wanted)))
    area.scroll_cursor_visible(center=True)
    return f"line {row + 1} of {len(lines)}"


def _find_in_tree(tree: Tree[str], wanted: str) -> str | None:
    nodes: list[TreeNode[str]] = []
    todo = [tree.root]
    while todo:
        node = todo.pop()
        nodes.append(node)
        todo += reversed(node.children)
    at = next((n for n, node in enumerate(nodes) if node is tree.cursor_node), 0)
    for node in [*nodes[at + 1 :], *nodes[: at + 1]]:
        if wanted.lower() in str(node.label).lower():
            outer = node.parent
            while outer is not None:
                outer.expand()
                outer = outer.parent
            tree.call_after_refresh(tree.move_cursor, node)
            return str(node.label)[:60]
    return None


def _path(owner: str, name: str, kind: str) -> str | None:
    """The expression of a part, where its name gives it."""
    if name.startswith("[") and name.endswith("]") and name[1:-1].isdigit():
        return owner + name
    if name.isidentifier():
        return f"{owner}.{name}" if kind != "frame" else f"{owner}[{name!r}]"
    if name[:1] in "'\"" or name.lstrip("-").replace(".", "", 1).isdigit():
        return f"{owner}[{name}]"
    return f"{owner}[{name!r}]" if kind == "frame" else None


def _fill(node: TreeNode[str], parts: list[tuple[str, object]], p: Palette) -> None:
    for label, inner in parts:
        if isinstance(inner, list):
            _fill(node.add(Text(label, p.text)), inner, p)
        else:
            text = Text(label, f"bold {p.text}")
            text.append(f"  {inner}" if inner else "", p.quiet)
            node.add_leaf(text)
