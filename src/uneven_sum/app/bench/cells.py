"""Cells on the Bench: motion by cell, and what each has given."""

from __future__ import annotations

from ...client import BadUse, Client
from ...client.cell_motions import CellOutput, CellRun, disorder
from ...notebooks.files import is_notebook
from ...notebooks.sheet import Place
from ..widgets.dialogs import Choice, Choose
from ..widgets.sheet import Sheet
from .controller import Controller, background

NO_CELLS = "This text has no cells. A notebook has, and a script whose lines '# %%' begin one."


class Cells(Controller):
    """A controller of the Bench.  `ran`: the cells that have run, as the last pause has told."""

    ran: list[CellRun] = []

    async def show(self, client: Client) -> None:
        """At a pause: the outputs of the cells, and which ran out of order."""
        if not client.launch.is_notebook:
            return
        try:
            self.ran, _ = await client.cells()
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
        """`how`: now, before (back at its beginning first), on (and all cells after it).  With the text of the file."""
        bench, path = self.bench, self.bench.script_path()
        point = client.point_before_cell(number) if how == "before" else None

        async def go() -> None:
            if point is not None:
                await client.back_to(point)
            await client.take_up_cells(path)
            for text in bench.book.follow_edits():
                bench.notify(text, severity="warning")
            bench.texts.pop(path, None)
            bench.book.placed(await client.set_lookouts(bench.book.wanted()))
            await client.run_from_cell(number, how != "on")

        await bench.stepping.run(go)

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


def lines_of(outputs: list[CellOutput]) -> list[str]:
    """Outputs as lines; of a figure that there is one."""
    lines: list[str] = []
    for one in outputs:
        text = one.text.rstrip("\n")
        lines += text.split("\n") if one.kind != "figure" else [f"figure  {text}"]
    return lines
