"""Motion by cell of a notebook: a part of the client."""

from __future__ import annotations

import os

import msgspec

from ..host.launch import BadUse
from ..host.session import Session
from ..notebooks import files


class CellOutput(msgspec.Struct):
    """`kind`: text (written), value (of the last expression), shown, figure; `data`: the media types that it has."""

    kind: str
    text: str
    data: list[str] = []


class CellRun(msgspec.Struct):
    """A cell that has begun: its last place `at` in the order of runs; whether its source has `changed` since; whether
    its value is an array or a frame (`grid`)."""

    number: int
    at: int
    changed: bool = False
    grid: bool = False
    outputs: list[CellOutput] = []


class CellMotions:
    """A part of the client."""

    session: Session

    async def back_to(self, point: int) -> None:
        raise NotImplementedError

    async def cells(self) -> tuple[list[CellRun], int]:
        """The cells that have run, by number, and the number of the one under way, 0 for none.  BadUse where the
        script is no notebook."""
        body = await self.session.request("unevenSum/cells")
        return msgspec.convert(body["cells"], list[CellRun]), int(body["here"])

    async def cell_output(self, number: int, index: int, media: str) -> str:
        """One form of an output, of a picture other than SVG in base64."""
        how = {"number": number, "index": index, "media": media}
        return str((await self.session.request("unevenSum/cellOutput", how))["data"])

    async def to_next_cell(self) -> None:
        await self.session.request("unevenSum/toCell")

    async def run_from_cell(self, number: int, stop: bool) -> None:
        """Runs the cells from this one on, on the values of now; `stop`: to the beginning of the next one only."""
        await self.session.request("unevenSum/fromCell", {"number": number, "stop": stop})

    async def take_up_cells(self, path: str) -> None:
        """Cells that begin from now on run the text that the file has now.  BadUse where it is no Python."""
        try:
            with open(path, "rb") as f:
                told: dict[str, object] = files.as_run(f.read())
        except (OSError, ValueError) as e:
            raise BadUse(f"{os.path.basename(path)} cannot be read: {e}.") from None
        await self.session.request("unevenSum/takeUpCells", {"notebook": told})

    def point_before_cell(self, number: int) -> int | None:
        """The latest return point at the beginning of a cell; None where there is none."""
        here = self.session.point or 1 << 60
        found = [n for n, p in self.session.points.all.items() if p.facts.get("cell") == number and n <= here]
        return max(found, default=None)


def disorder(runs: list[CellRun]) -> dict[int, str]:
    """By the number of a cell what is to be said of the order of runs: `changed after cell 6 ran`."""
    found = {}
    for one in runs:
        later = [other for other in runs if other.number > one.number]
        if one.changed:
            after = max((other.number for other in later), default=0)
            found[one.number] = f"changed after {f'cell {after}' if after else 'it'} ran"
        elif before := [other.number for other in later if other.at < one.at]:
            found[one.number] = f"ran again after cell {max(before)}"
    return found
