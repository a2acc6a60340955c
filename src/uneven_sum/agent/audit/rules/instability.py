"""`instability`: the increments of a recurrence alternate in sign and grow, as with a time step that is too long."""

from __future__ import annotations

from dataclasses import field
from typing import TYPE_CHECKING, Any

from ...core.records import record
from ...values import nonfinite
from .. import pictures
from ..figures import short
from ..finding import Place, loops_of
from ..running_sums import Running
from .base import Rule

if TYPE_CHECKING:
    from ..auditor import Auditor

IN_A_ROW = 8
GROWTH = 30.0  # of the increments over these passes and all that follow
OPPOSITE = -0.9  # cosine of successive increments
SAMPLE = 4096  # cells of an array
MOST = 200  # sizes of increments that are kept


@record
class Increments:
    """The increments of one place: the last one, its size, how often in a row they alternated and grew."""

    last: Any = None
    size: float = 0.0
    row: int = 0
    first: float = 0.0  # size at the start of the row
    since: int = 0
    sizes: list[float] = field(default_factory=list)  # of the row, from the one before it


class Instability(Rule):
    """Increments of an addition, as a vector: the cosine of successive ones is near -1 and their norm rises."""

    NAME = "instability"
    AT_ONCE = False
    WANTS = ("add", "sub")

    def __init__(self, auditor: Auditor) -> None:
        super().__init__(auditor)
        self.known: dict[int, Increments] = {}

    def alternates(self, b: Any, running: Running, site: int) -> None:
        """A running sum's increment has another sign than the one before."""
        known = self.known.get(site)
        if known is None:
            known = self.known[site] = Increments()
        if known.last != running.step:  # there were passes between in which the sign stayed
            known.row = 0
        known.size = abs(running.step)
        if abs(b) > known.size:
            self._step(known, abs(b), site)
        else:
            known.row = 0
        known.last = b

    def operator(self, name: str, a: object, b: object, result: object, site: int) -> None:
        np = nonfinite.module("numpy")
        if np is None or not isinstance(b, np.ndarray) or b.dtype.kind != "f" or b.size < 2 or np.shape(a) != b.shape:
            return
        known = self.known.setdefault(site, Increments())
        cells = np.ravel(b)[:: max(1, b.size // SAMPLE)]
        size = float(np.sqrt(np.dot(cells, cells)))
        if known.last is not None and known.last.shape == cells.shape and size > known.size > 0:
            if float(np.dot(known.last, cells)) < OPPOSITE * size * known.size:
                self._step(known, size, site)
            else:
                known.row = 0
        else:
            known.row = 0
        known.last, known.size = cells.copy(), size

    def _is_known(self, place: Place) -> bool:
        """Whether the loop around has such a finding already."""
        frame = self.auditor.user_frame()
        around = loops_of(frame)[:1] if frame is not None else []
        here = [(loop["file"], loop["line"]) for loop in around]
        return any(
            made.rule == self.NAME
            and made.place.file == place.file
            and [(loop["file"], loop["line"]) for loop in made.loops[:1]] == here
            for made in self.auditor.found.values()
        )

    def _step(self, known: Increments, size: float, site: int) -> None:
        if not known.row:
            known.first, known.since = known.size, self.auditor.present_pass()
            known.sizes = [known.size]
        known.row += 1
        if known.row < MOST:
            known.sizes.append(size)
        if known.row < IN_A_ROW or size < GROWTH * known.first or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        if self._is_known(place):
            return  # of a scheme with several such terms one is enough
        since = f"since pass {known.since:,} " if known.since > 0 else ""
        factor = (size / known.first) ** (1 / known.row)
        made = self.auditor.report(
            self,
            site,
            f"{place.text} is unstable: {since}its increments change their sign each time and grow "
            f"by a factor of {factor:.3g}, from {short(known.first)} to {short(size)}. A time step that is too "
            f"long does "
            "this: half of it, or an implicit step, is stable.",
            0.85,
            evidence={"factor": round(factor, 4), "since": known.since, "passes": known.row, "size": size},
            pictures=pictures.by_pass(
                "size of the increment by pass", list(enumerate(known.sizes, max(1, known.since - 1))), "increment"
            ),
        )
        if made is not None:
            made.at_pass = known.since
            if made.loops and known.since:
                made.loops[0]["pass"] = known.since
