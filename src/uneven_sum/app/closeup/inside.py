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
from ...safe_text import cut
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

    def __init__(self, screen: CloseUp) -> None:
        super().__init__(screen)
        self.window: Message = {}  # of a long text: what is shown of it

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

    async def find_text(self, wanted: str) -> None:
        """Go to the next place where a text is, from the cursor on, then from the top; all of the text is searched."""
        screen = self.screen
        client = screen.bench.client
        trees, areas = screen.query(Tree), screen.query(TextView)
        in_tree = _find_in_tree(trees.first(), wanted) if trees else None
        if in_tree is not None:
            screen.say(f"{wanted}: {in_tree}")
            return
        if client is None or not self.window:
            screen.say(f"{wanted} is not in these parts.", bad=True)
            return
        area = areas.first() if areas else None
        shown = _offset(area) if area is not None else 0
        found = await screen.ask(client.find_text(screen.expression, screen.frame, wanted, self.window, shown))
        if found is None:
            return
        if found["at"] < 0:
            screen.say(f"{wanted} is not in this text.", bad=True)
            return
        place = f"line {found['line']:,} of {self.window['lines']:,}"
        if area is None:
            screen.say(f"{wanted} is at {place}, in a part that the tree does not show.")
            return
        if "window" in found:
            self._show_window(area, found["window"])
        _select(area, found["at"], found["width"])
        screen.say(f"{wanted}: {place}")

    async def go_to_line(self, line: int) -> None:
        """Show a line of the text, counted from 1."""
        screen = self.screen
        client, area = screen.bench.client, screen.query_one(TextView)
        line = max(1, min(line, self.window["lines"]))
        if not 0 <= line - 1 - self.window["line"] < area.document.line_count - 1:
            found = await screen.ask(client.read_text(screen.expression, screen.frame, line)) if client else None
            if found is None:
                return
            self._show_window(area, found)
        area.move_cursor((line - 1 - self.window["line"], 0), center=True)
        screen.say(f"line {line:,} of {self.window['lines']:,}")

    def _show_window(self, area: TextArea, window: Message) -> None:
        self.window = window
        area.load_text(window["text"])

    async def reader(self, body: Horizontal) -> None:
        screen = self.screen
        client = screen.bench.client
        if client is None:
            return
        try:
            self.window = await client.read_text(screen.expression, screen.frame)
        except BadUse as e:
            screen.say(str(e), bad=True)
            return
        text, whole = str(self.window["text"]), self.window["last"] == self.window["size"]
        tree = folded(text) if whole else None
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
        if not whole:
            lines = self.window["lines"]
            part = f"lines 1 to {text.count(chr(10)) + 1:,} of {lines:,}" if lines > 1 else f"{len(text):,} characters"
            screen.say(f"{part} of {self.window['size']:,}: / searches all, g goes to a line")


def _page(data: str) -> tuple[str, int]:
    owner, _, start = data.partition(MORE)
    return owner, int(start or 0)


def _offset(area: TextArea) -> int:
    """The end of the selection, in characters of the shown text."""
    row, column = area.selection.end
    return sum(len(line) + 1 for line in area.document.lines[:row]) + column


def _select(area: TextArea, at: int, width: int) -> None:
    """Select characters of the shown text, and show them."""
    lines, ends = area.document.lines, []
    for place in (at, at + width):
        row = 0
        while row < len(lines) - 1 and place > len(lines[row]):
            place -= len(lines[row]) + 1
            row += 1
        ends.append((row, place))
    area.selection = Selection(*ends)
    area.scroll_cursor_visible(center=True)


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
            return cut(str(node.label), 60)
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
