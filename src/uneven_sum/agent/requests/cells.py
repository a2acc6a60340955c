"""The requests about the cells of a notebook."""

from __future__ import annotations

from ..core.errors import Refused
from ..engine.cell_motions import CellMotions
from ..reload import hot_swap, new_cells
from ..source import registry
from ..stepping import tracer
from .declare import Body, request
from .exchange import Part

NO_CELLS = "This is no notebook: it has no cells to run."


class CellRequests(Part):
    """Motion by cell."""

    @property
    def motions(self) -> CellMotions:
        if self.engine.cells is None:
            raise Refused(NO_CELLS)
        return self.engine.cells

    @request("unevenSum/cells")
    def cells(self) -> Body:
        """What has run: `cells`, each with its `number`, the place `at` in the order of runs, whether its source has
        `changed` since, its `outputs`; `here`: the number of the one under way."""
        return self.motions.told()

    @request("unevenSum/cellOutput")
    def cell_output(self, number: int, index: int, media: str) -> Body:
        """One form of an output: `data`, of a picture other than SVG in base64."""
        motions = self.motions
        here = motions.outputs.cell
        told = motions.outputs.told.get(number, [])
        if here is not None and here.number == number:
            told = [one.told() for one in motions.outputs.kept]
        if not 0 <= index < len(told) or media not in told[index]["data"]:
            raise Refused(f"Cell {number} has no such output.")
        return {"data": told[index]["data"][media]}

    @request("unevenSum/toCell", moves=True)
    def to_cell(self) -> Body:
        """Until the next cell begins."""
        _, frame = self.exchange.can_move()
        self.motions.stop_at_next(frame)
        return self.exchange.go(tracer.CONTINUE)

    @request("unevenSum/fromCell", moves=True)
    def from_cell(self, number: int, stop: bool = False) -> Body:
        """The cells from this one on run again, on the values of now; `stop`: until the next one begins.  Calls that
        are under way are left."""
        pause, _ = self.exchange.paused()
        motions = self.motions
        if pause.past and pause.reason != "end":
            raise Refused("The script has ended in an error. Rerun it.")
        if number not in [cell.number for cell in motions.cells.code]:
            raise Refused(f"There is no code cell {number}.")
        motions.run_from(number, stop)
        return self.exchange.go(tracer.CONTINUE)

    @request("unevenSum/takeUpCells")
    def take_up_cells(self, notebook: dict[str, object]) -> Body:
        """Another text of the notebook, as in `launch`: cells that begin from now on run it."""
        self.exchange.paused()
        motions = self.motions
        path = next(name for name, file in registry.files.items() if file.cells is motions.cells)
        try:
            new_cells.take_up(self.engine.loader, path, notebook)
        except hot_swap.CannotTakeUp as e:
            raise Refused(str(e)) from None
        motions.outputs.cells = registry.files[path].cells or motions.cells
        return {}
