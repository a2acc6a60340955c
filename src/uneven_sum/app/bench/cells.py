"""Cells on the Bench: motion by cell, and what each has given."""

from __future__ import annotations

import base64
from itertools import zip_longest

from ...client import BadUse, Client
from ...client.cell_motions import CellOutput, CellRun, disorder
from ...client.sources import text_of
from ...notebooks.files import is_notebook
from ...notebooks.sheet import Place, cells_in_sheet
from ..widgets.dialogs import Choice, Choose
from ..widgets.sheet import Sheet
from .controller import Controller, background

NO_CELLS = "This text has no cells. A notebook has, and a script whose lines '# %%' begin one."


class Cells(Controller):
    """A controller of the Bench.  `ran`: the cells that have run, as the last pause has told."""

    ran: list[CellRun] = []
    here = 0  # the number of the cell under way

    async def show(self, client: Client) -> None:
        """At a pause: the outputs of the cells, and which ran out of order."""
        if not client.launch.is_notebook:
            return
        try:
            self.ran, self.here = await client.cells()
        except BadUse:
            return
        sheet = self.bench.query_one(Sheet)
        if sheet.path == self.bench.script_path():
            sheet.show_cells({one.number: lines_of(one.outputs) for one in self.ran}, disorder(self.ran))

    def _place(self) -> Place | None:
        """The cell at the cursor."""
        return self.bench.query_one(Sheet).cells.at(self.bench.query_one(Sheet).cursor)

    def _may_move(self) -> Client | None:
        bench = self.bench
        if not bench.query_one(Sheet).cells.places:
            bench.notify(NO_CELLS)
            return None
        return bench.client if bench.state == "paused" and bench.facts is not None else None

    async def action_next_cell(self) -> None:
        """On to the beginning of the next cell."""
        client, sheet = self._may_move(), self.bench.query_one(Sheet)
        if client is None:
            return
        if client.launch.is_notebook:
            await self.bench.stepping.run(client.to_next_cell)
            return
        here = sheet.cells.at(sheet.at_line)
        after = [p for p in sheet.cells.places if here and p.number > here.number and p.kind == "code"]
        if not after:
            self.bench.notify("This is the last cell.")
            return
        await self.bench.stepping.run(lambda: client.run_to(sheet.path, after[0].first))

    @background(group="dialog")
    async def action_run_cell(self) -> None:
        """The cell at the cursor, once more."""
        bench, client, cell = self.bench, self._may_move(), self._place()
        if client is None or cell is None:
            return
        if not client.launch.is_notebook:
            await self._in_script(client, cell)
            return
        if cell.kind != "code":
            bench.notify(f"Cell {cell.number} is text: there is nothing to run.")
            return
        point = client.point_before_cell(cell.number)
        choices = [Choice("now", f"run cell {cell.number} again", "on the values of now; pauses before the next cell")]
        if point is not None:
            about = "goes back to its beginning first, with all values"
            choices.append(Choice("before", f"run cell {cell.number} again, as it was before", about))
        choices.append(Choice("on", f"run from cell {cell.number}", "on the values of now, and all cells after it"))
        chosen = await bench.app.push_screen_wait(Choose(bench.palette, f"Cell {cell.number}", choices))
        if chosen is not None:
            await self.run_again(client, cell.number, chosen)

    async def run_again(self, client: Client, number: int, how: str) -> None:
        """`how`: now, before (back at its beginning first), on (and all cells after it), before-on.  With the text of
        the file."""
        bench, path = self.bench, self.bench.script_path()
        point = client.point_before_cell(number) if how.startswith("before") else None

        async def go() -> None:
            if point is not None:
                await client.back_to(point)
            await client.take_up_cells(path)
            for text in bench.book.follow_edits():
                bench.notify(text, severity="warning")
            bench.texts.pop(path, None)
            bench.book.placed(await client.set_lookouts(bench.book.wanted()))
            await client.run_from_cell(number, not how.endswith("on"))

        await bench.stepping.run(go)

    def to_run_again(self, client: Client | None, path: str) -> tuple[int, bool]:
        """After an edit: the number of the first cell whose text has changed (0: none, or no notebook), and whether
        it stands above the one under way."""
        if client is None or not client.launch.is_notebook or path != self.bench.script_path():
            return 0, False
        old, new = self.bench.sources.text_of(path), text_of(path)
        pairs = zip_longest(cells_in_sheet(old), cells_in_sheet(new))
        changed = next((n for n, (a, b) in enumerate(pairs, 1) if (a and a.source) != (b and b.source)), self.here)
        return (changed, True) if changed < self.here else (self.here, False)

    async def _in_script(self, client: Client, cell: Place) -> None:
        """Of a script: its first line is made the next one."""
        sheet = self.bench.query_one(Sheet)
        last = next((p.first for p in sheet.cells.places if p.number > cell.number and p.kind == "code"), 0)

        async def go() -> None:
            await client.make_next(sheet.path, cell.first)
            await client.session.stopped()
            if last:
                await client.run_to(sheet.path, last)
            else:
                await client.go_on()

        await self.bench.stepping.run(go)

    def action_fold_cell(self) -> None:
        """The text and the output of the cell at the cursor in full, or folded."""
        if not self.bench.query_one(Sheet).fold_cell():
            self.bench.notify(NO_CELLS)

    @background(group="dialog")
    async def action_show_output(self) -> None:
        """What the cell at the cursor gives, or the nearest one above that gives a figure, an array or a frame."""
        from ..closeup.figure import FigureView  # with matplotlib, which takes long to import

        bench, here = self.bench, self._place()
        if bench.client is None or bench.state != "paused" or here is None:
            bench.notify("Outputs of cells are shown at a pause." if here is not None else NO_CELLS)
            return
        able = [c for c in self.ran if c.number <= here.number and (c.grid or _figures(c))]
        if not able:
            bench.notify(f"No figure, array or frame up to cell {here.number}.")
            return
        cell = able[-1]
        choices = [Choice(str(n), f"figure {k}", cell.outputs[n].text) for k, n in enumerate(_figures(cell), 1)]
        if cell.grid:
            choices.append(Choice("value", "value", "of its last expression, as a grid"))
        chosen: str | None = choices[0].key
        if len(choices) > 1:
            chosen = await bench.app.push_screen_wait(Choose(bench.palette, f"Output of cell {cell.number}", choices))
        if chosen == "value":
            bench.values.open_closeup([f"get_ipython().values[{cell.number}]"])
        if chosen is None or chosen == "value":
            return
        at = int(chosen)
        try:
            data = base64.b64decode(await bench.client.cell_output(cell.number, at, "image/png"))
        except BadUse as e:
            bench.notify(str(e), severity="warning")
            return
        bench.app.push_screen(FigureView(bench, bench.palette, cell.number, data, bench.script_path()))

    async def pause_at_cells(self) -> None:
        """A pause before each cell, or no longer."""
        from ...protocol import Lookout

        bench = self.bench
        found = [n for n, kept in bench.book.kept.items() if kept.lookout.where == "cell"]
        if found:
            bench.book.remove(found)
        elif not is_notebook(bench.script_path()):
            bench.notify("Only a notebook pauses before each cell.")
            return
        else:
            bench.book.add(Lookout(where="cell"))
        await bench.breakpoints.send_lookouts()
        bench.notify("No pause before cells." if found else "Pauses before each cell; Lookouts lists it.")


def _figures(cell: CellRun) -> list[int]:
    """The places of the figures among the outputs of a cell."""
    return [n for n, one in enumerate(cell.outputs) if "image/png" in one.data]


def lines_of(outputs: list[CellOutput]) -> list[str]:
    """Outputs as lines; of a figure that there is one."""
    lines: list[str] = []
    for one in outputs:
        text = one.text.rstrip("\n")
        lines += text.split("\n") if one.kind != "figure" else [f"figure  {text}"]
    return lines
