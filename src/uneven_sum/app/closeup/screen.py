"""The Close-up: one value on the whole screen: facts at the left; grid, plots, parts or text at the right."""

from __future__ import annotations

import textwrap
import time
from collections.abc import Awaitable
from typing import TypeVar

from rich.text import Text
from textual import work
from textual.app import ComposeResult
from textual.containers import Horizontal, VerticalScroll
from textual.screen import Screen
from textual.widgets import Static, Tree

from ...client import BadUse
from ...protocol.messages import Message
from ..plotting.charts import DRAW, NAMES
from ..plotting.number_format import Format
from ..shell.commands import bindings, hints
from ..shell.controller import Controlled
from ..shell.keymap import Keyed
from ..shell.theme import Palette
from ..widgets.bars import Keys, TopLine
from ..widgets.bench_view import BenchView
from ..widgets.dialogs import Prompt
from ..widgets.grid import Grid
from ..widgets.notice import Notice
from ..widgets.plot import Plot
from ..widgets.split import put_beside
from . import commands
from .export import Export
from .formatting import Formatting
from .inside import Inside, TextView
from .plotting import Plotting

WITH_GRID = ("image", "heat", "line")  # plots that are shown with the grid
T = TypeVar("T")


class CloseUp(Keyed, Controlled, Screen[None]):
    """`expressions`: what `tab` goes through; the first is shown."""

    DEFAULT_CSS = """
    CloseUp Horizontal { height: 1fr; }
    CloseUp #facts { width: 44; height: 100%; background: $panel; padding: 0 1; border-right: solid $rule; }
    CloseUp #facts { scrollbar-size-vertical: 1; }
    CloseUp #facts Static { background: $panel; }
    CloseUp #body { width: 1fr; height: 100%; }
    CloseUp #said { height: 1; padding: 0 1; background: $background; }
    CloseUp Tree { background: $background; padding: 0 1; scrollbar-size-vertical: 1; }
    CloseUp #text { padding: 0 1; scrollbar-size-vertical: 1; }
    CloseUp.narrow Horizontal { layout: vertical; }
    CloseUp.narrow #facts { width: 100%; height: 8; border-right: none; border-bottom: solid $rule; }
    """
    KEYS_OF = "closeup"
    HEADING, ACTIONS = commands.TITLE, commands.COMMANDS
    BINDINGS = bindings(commands.COMMANDS)
    CONTROLLERS = (Plotting, Export, Formatting, Inside)

    def __init__(self, bench: BenchView, palette: Palette, expressions: list[str], frame: int, first: str = "") -> None:
        super().__init__()
        self.plotting = Plotting(self)
        self.export = Export(self)
        self.formatting = Formatting(self)
        self.inside = Inside(self)
        self.controllers = [self.plotting, self.export, self.formatting, self.inside]
        self.first = first  # the view to begin with
        self.bench, self.palette, self.expressions, self.frame = bench, palette, expressions, frame
        self.number = 0
        self.told: Message = {}
        self.views: list[str] = []
        self.at_view = 0
        self.slice = self.filter = ""
        self.wanted = ""  # what was searched for last
        self.sort: dict[str, object] | None = None
        self.logarithmic = False
        self.range: tuple[int, int] | None = None
        self.chosen: list[int] = []
        self.busy_since = 0.0
        self.plot_data: dict[str, object] | None = None

    @property
    def expression(self) -> str:
        return self.expressions[self.number]

    @property
    def how(self) -> Format:
        return self.bench.formats.get(self.expression, self.bench.formats[""])

    def compose(self) -> ComposeResult:
        yield TopLine(self.palette)
        with Horizontal():
            with VerticalScroll(id="facts", can_focus=False):
                yield Static("", id="facts-text")
            yield Horizontal(id="body")
        yield Static("", id="said")
        yield Notice(self.palette)
        yield Keys(self.palette)

    async def on_mount(self) -> None:
        self.set_class(self.app.size.width < 100, "narrow")
        self.set_interval(0.2, self._tick)
        self._open()

    def on_resize(self) -> None:
        self.set_class(self.app.size.width < 100, "narrow")

    def say(self, text: str, bad: bool = False) -> None:
        self.query_one("#said", Static).update(Text(text, self.palette.error if bad else self.palette.quiet))

    def _tick(self) -> None:
        """A progress sign for what takes long."""
        if self.busy_since and time.monotonic() - self.busy_since > 0.3:
            self.say(f"computing … {time.monotonic() - self.busy_since:.1f} s   z cancels")

    async def ask(self, how: Awaitable[T]) -> T | None:
        """Send a request, with a progress sign; None, with a message, when it was refused."""
        self.busy_since = time.monotonic()
        try:
            return await how
        except BadUse as e:
            self.say(str(e), bad=True)
            return None
        finally:
            self.busy_since = 0.0

    # -- one value -----------------------------------------------------------------------------------

    @work(exclusive=True, group="open")
    async def _open(self) -> None:
        client = self.bench.client
        if client is None:
            return
        self.query_one(TopLine).show(f"close-up of {self.expression}", self.bench.launch.name)
        told = await self.ask(client.closeup(self.expression, self.frame))
        self.told = told or {}
        self.slice = self.filter = ""
        self.sort, self.range, self.chosen, self.logarithmic = None, None, [], False
        if told is not None:
            self.slice = (told.get("grid") or {}).get("slice", "")
            self.say("")
        self.facts()
        self.views = self._views()
        self.at_view = self.views.index(self.first) if self.first in self.views else 0
        await self._show()

    def _views(self) -> list[str]:
        found = []
        if self.told.get("grid"):
            found.append("grid")
        if self.told.get("reader"):
            found.append("text")
        found += self.told.get("plots", [])
        if self.told.get("children") and not self.told.get("grid"):
            found.insert(0, "parts")
        elif self.told.get("children"):
            found.append("parts")
        return found

    def facts(self) -> None:
        p = self.palette
        told = self.told.get("summary")
        out = Text()
        if told:
            out.append(f"{self.expression}\n", f"bold {p.text}")
            out.append(f"{told['type']}\n", p.quiet)
            bad = told["nonfinite"]
            out.append(told["text"] + "\n", p.nonfinite if bad else p.text)
            out.append("no nan or inf\n" if not bad and told["kind"] in ("array", "frame") else "", p.fine)
            out.append("\n")
        for name, text in self.told.get("facts", []):
            bad = name in ("nan", "+inf", "-inf", "bad cells at", "not finite") and text not in ("0", "")
            out.append(f"{name:<19}" if len(name) < 19 else f"{name} ", p.quiet)
            room = max(16, self.query_one("#facts").size.width - 22)
            pieces = textwrap.wrap(("! " if bad else "") + text, room, break_on_hyphens=False) or [""]
            out.append(("\n" + " " * 19).join(pieces) + "\n", p.nonfinite if bad else p.text)
        if self.told.get("matrix") and not any(n == "rank" for n, _ in self.told.get("facts", [])):
            out.append("\nm: rank, condition, eigenvalues …\n", p.quiet)
        self.query_one("#facts-text", Static).update(out)

    @property
    def view(self) -> str:
        return self.views[self.at_view] if self.views else ""

    async def _show(self) -> None:
        body = self.query_one("#body", Horizontal)
        await body.remove_children()
        self._bottom()
        if self.view == "grid":
            grid = Grid(self.palette, self.page)
            grid.how = self.how
            await body.mount(grid)
            grid.focus()
            body.styles.layout = "horizontal"
            self.call_after_refresh(self._fill)
        elif self.view == "parts":
            tree: Tree[str] = Tree(Text(self.expression, f"bold {self.palette.text}"), data=self.expression)
            await body.mount(tree)
            tree.focus()
            tree.root.expand()
        elif self.view == "text":
            await self.inside.reader(body)
        elif self.view:
            plot = Plot(self.palette)
            await body.mount(plot)
            plot.focus()
            self.call_after_refresh(self.plotting.plot)
        elif self.told:
            await body.mount(Static(Text("This value has no parts.", self.palette.quiet)))

    async def _fill(self) -> None:
        """The cells of the grid, and beside them or below the first plot."""
        grid, body = self.grid(), self.query_one("#body", Horizontal)
        if grid is None:
            return
        await grid.load()
        if self._beside() and not body.query(Plot) and grid.is_attached:
            if await put_beside(body, grid, Plot(self.palette)):
                self.call_after_refresh(self.plotting.plot)

    def _beside(self) -> str:
        """The plot that is shown with the grid; empty where there is no room for one."""
        return "" if self.has_class("narrow") else next((view for view in self.views if view in WITH_GRID), "")

    @property
    def drawn(self) -> str:
        """The plot that is on the screen, if one is."""
        return self.view if self.view in DRAW else self._beside() if self.view == "grid" else ""

    def _bottom(self) -> None:
        many = ["tab"] if len(self.expressions) > 1 else []
        after = self.views[(self.at_view + 1) % len(self.views)] if self.views else ""
        view = [("v", f"show {NAMES.get(after, after)}")] if len(self.views) > 1 else []
        matrix = ["m"] if self.told.get("matrix") else []
        keys: list[tuple[str, str]] = []
        if self.view == "grid":
            keys = hints(commands.COMMANDS, *matrix, "b", "F", "/", "f", "s", "g", "y", "e", "n", "x", "w")
        elif self.view in DRAW:
            keys = [*hints(commands.COMMANDS, "+ -"), ("left right", "pan"), *hints(commands.COMMANDS, "l", "k", "x")]
        elif self.view == "parts":
            keys = [("enter", "unfold"), ("/", "search"), *hints(commands.COMMANDS, "g", "y")]
        elif self.view == "text":
            keys = [("/", "search"), *hints(commands.COMMANDS, "y")]
        self.query_one(Keys).show(
            [*hints(commands.COMMANDS, *many), *view, *keys, *hints(commands.COMMANDS, "escape", "?")]
        )

    async def page(self, where: dict[str, object]) -> Message | None:
        client = self.bench.client
        if client is None:
            return None
        how = {"slice": self.slice, "sort": self.sort, "filter": self.filter, **where}
        found: dict[str, object] | None = await self.ask(client.page(self.expression, self.frame, **how))
        return found

    def on_grid_moved(self) -> None:
        grid = self.query_one(Grid)
        place, exact = grid.cell()
        told = [f"{place}: {exact}"] if place else ["no cells"]
        if self.slice:
            told.append(f"slice {self.slice}")
        if self.filter:
            told.append(f"filter {self.filter}: {grid.rows} rows")
        if self.sort is not None:
            told.append(f"sorted by column {self.sort['column']}{', descending' if self.sort.get('down') else ''}")
        told.append(self.how.name)
        self.say("   ".join(told))

    # -- grid actions --------------------------------------------------------------------------------

    def grid(self) -> Grid | None:
        found = self.query(Grid)
        return found.first() if found else None

    async def action_bad(self, back: bool) -> None:
        client, grid = self.bench.client, self.grid()
        if client is None:
            return
        if grid is None:
            if "grid" in self.views:
                self.at_view = self.views.index("grid")
                await self._show()
                self.call_after_refresh(self.action_bad, back)
            return
        first = grid.page is None or (grid.row, grid.column) == (0, 0)
        row, column = (-1, 0) if first and not back else (grid.row, grid.column)
        if self.sort is not None or self.filter:
            self.sort, self.filter = None, ""
            self.say("The bad cells are shown in the value's own order.")
        found = await self.ask(
            client.find_bad(self.expression, self.frame, slice=self.slice, row=row, column=column, back=back)
        )
        if found is None:
            self.say("No more bad cells that way." if not first else "No bad cell here.")
        else:
            await grid.go(*found)

    async def prompt(self, question: str, value: str, hint: str) -> str | None:
        return await self.app.push_screen_wait(Prompt(self.palette, question, value, hint))

    @work(group="dialog")
    async def action_slice(self) -> None:
        if self.view in ("text", "parts"):
            wanted = await self.prompt("Search for …", self.wanted, "a text; again: the next place")
            if wanted:
                self.wanted = wanted
                await self.inside.find_text(wanted)
            return
        if self.grid() is None:
            return
        text = await self.prompt("Which slice?", self.slice, "like [3, :, ::2]")
        if text is not None:
            await self._try(slice=text.strip())

    @work(group="dialog")
    async def action_filter(self) -> None:
        if self.grid() is None:
            return
        text = await self.prompt("Show only rows where …", self.filter, "like depth < 0; nothing shows all")
        if text is not None:
            await self._try(filter=text.strip())

    async def action_sort(self) -> None:
        """By the cursor's column: rising, falling, not at all."""
        grid = self.grid()
        if grid is None:
            return
        now = self.sort
        if now is None or now["column"] != grid.column:
            await self._try(sort={"column": grid.column})
        elif not now.get("down"):
            await self._try(sort={"column": grid.column, "down": True})
        else:
            await self._try(sort=None)

    async def _try(self, **change: object) -> None:
        """Takes a slice, filter or sort up, unless it is refused."""
        grid = self.grid()
        kept = {n: getattr(self, n) for n in change}
        for name, value in change.items():
            setattr(self, name, value)
        if grid is None:
            return
        grid.row = grid.top = 0
        if await self.page({"row": 0, "column": 0, "rows": 1, "columns": 1}) is None:
            for name, value in kept.items():
                setattr(self, name, value)
            return
        await grid.load()

    @work(group="dialog")
    async def action_go_to(self) -> None:
        if self.view == "parts":
            text = await self.prompt("Go to which part?", "", "its number, from 0")
            if text is not None and text.strip().isdigit():
                await self.inside.go_to_part(int(text))
            return
        if self.view == "text" and self.query(TextView):
            text = await self.prompt("Go to which line?", "", "its number, from 1")
            if text is not None and text.strip().isdigit():
                await self.inside.go_to_line(int(text))
            return
        grid = self.grid()
        if grid is None:
            return
        text = await self.prompt("Go to which cell?", "", "row, or row and column: 41 or 41, 3")
        if not text:
            return
        try:
            numbers = [int(t) for t in text.replace(",", " ").split()]
            await grid.go(numbers[0], numbers[1] if len(numbers) > 1 else grid.column)
        except (ValueError, IndexError):
            self.say(f"{text} is not a cell: a row's number, or a row's and a column's.", bad=True)

    @work(group="dialog")
    async def action_set_cell(self) -> None:
        """Another value for the cursor's cell, for good."""
        grid, client = self.grid(), self.bench.client
        if grid is None or client is None:
            return
        place, exact = grid.cell()
        if self.slice or self.filter or self.sort is not None or not place:
            self.say("A cell is set without slice, filter and sort; or ask for it with !.", bad=True)
            return
        text = await self.prompt(f"New value of {place}, in the script", exact, "an expression")
        if text is None:
            return
        answer = await self.ask(client.set_value(self._cell_text(grid), text, self.frame))
        if answer is not None:
            if self.bench.facts is not None:
                self.bench.facts.hand = answer["hand"]
            self.say(f"{place} is set in the script.")
            await grid.load()
            self.bench.run_worker(self.bench.read_call(client))

    def _cell_text(self, grid: Grid) -> str:
        """The cursor's cell as an expression."""
        kind = (self.told.get("summary") or {}).get("kind")
        index = f"{grid.row}, {grid.column}" if grid.columns > 1 else f"{grid.row}"
        return f"{self.expression}{'.iloc' if kind == 'frame' else ''}[{index}]"

    def action_origin(self) -> None:
        """On the Bench: where the cursor's cell, or the value, came from."""
        grid = self.grid()
        if grid is not None and (self.slice or self.filter or self.sort is not None):
            self.say("The origin of a cell is found without slice, filter and sort.", bad=True)
            return
        text = self._cell_text(grid) if grid is not None and grid.cell()[0] else self.expression
        self.dismiss()
        self.bench.find_origin(text)

    async def on_tree_node_expanded(self, event: Tree.NodeExpanded[str]) -> None:
        await self.inside.on_tree_node_expanded(event)

    def on_plot_read(self) -> None:
        self.plotting.read_plot()

    async def action_view(self, by: int) -> None:
        if self.views:
            self.at_view = (self.at_view + by) % len(self.views)
            self.range, self.plot_data = None, None
            await self._show()

    def action_other(self, by: int) -> None:
        if len(self.expressions) > 1:
            self.number = (self.number + by) % len(self.expressions)
            self._open()

    def action_back(self) -> None:
        self.dismiss()
