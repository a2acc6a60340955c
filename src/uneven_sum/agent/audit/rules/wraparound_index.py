"""`wraparound-index`: a computed index that is below 0 in some passes, and so counts from the end; windows that end
beyond their array, and so are shorter."""

from __future__ import annotations

import ast
from typing import TYPE_CHECKING, Any

from ...core.type_identity import is_one_of
from ...source.source_file import Position
from ...values import nonfinite
from ..finding import Place
from .base import Rule

if TYPE_CHECKING:
    from ..auditor import Auditor

WHOLE, SHORTER = 3, 2  # windows of a site
CLOSED = ("%", "roll", "mod(", "wrap")  # signs of a ring, where the last element is the neighbour of the first


class WraparoundIndex(Rule):
    """The place was both at or above 0 and below it; `x[-k:]` with k = 0 takes everything."""

    NAME = "wraparound-index"
    WANTS = ("index", "call:roll")

    def __init__(self, auditor: Auditor) -> None:
        super().__init__(auditor)
        self.windowed: dict[Position, tuple[int, str] | None] = {}  # by statement: length and text of what is cut

    def call(self, function: object, args: Any, named: Any, result: object, site: int) -> None:
        """`roll` in a term with its array: the last element meets the first, and jumps."""
        np = nonfinite.module("numpy")
        if np is None or not args or not isinstance(args[0], np.ndarray) or args[0].ndim != 1:
            return
        cells, place = args[0], self.auditor.place(site)
        shift = named.get("shift", args[1] if len(args) > 1 else 0)
        if type(shift) is not int or not 0 < abs(shift) < len(cells) or cells.dtype.kind not in "if" or len(cells) < 4:
            return
        around = [n for n in place.around if isinstance(n, ast.BinOp)]
        given = place.operand_texts()[0]
        if not any(given in (place.text_of(n.left), place.text_of(n.right)) for n in around):
            return
        steps = np.abs(np.diff(cells.astype(float)))
        seam = abs(float(cells[0]) - float(cells[-1]))
        if not np.isfinite(steps).all() or seam <= 1.2 * float(steps.max()) or self.auditor.has(self, site):
            return
        at = 0 if shift > 0 else len(cells) - 1
        self.auditor.report(
            self,
            site,
            f"{place.text} puts the {'last' if shift > 0 else 'first'} element beside the "
            f"{'first' if shift > 0 else 'last'}: element {at} of the term is off by {seam:.6g}, where "
            f"neighbours differ by at most {float(steps.max()):.6g}. Is {given} a ring?",
            0.7,
            question=True,
            evidence={"seam": seam, "largest step": float(steps.max())},
            cell=[at],
        )

    def indexed(self, value: Any, site: int) -> None:
        place = self.auditor.place(site)
        if place.site.role == "audit window":
            np = nonfinite.module("numpy")
            known = type(value) in (list, tuple) or (np is not None and type(value) is np.ndarray and value.ndim)
            self.windowed[place.site.statement] = (len(value), place.text) if known else None
            return
        if not is_one_of(type(value), int):
            return
        kept = place.kept.setdefault(self.NAME, {})
        if place.site.role == "audit upper" and value >= 0:
            self._ends_at(value, place, site, kept)
        if place.site.role == "audit slice":
            if value == 0 and not self.auditor.has(self, site):
                whole = self._around(place)
                self.auditor.report(
                    self,
                    site,
                    f"{whole} takes all elements, since {place.text} is 0: 0 of the last are meant.",
                    0.75,
                    evidence={"index": 0},
                )
            return
        sign = "below" if value < 0 else "from 0 on"
        if sign not in kept:
            kept[sign] = value
            if value < 0:
                kept["pass"] = self.auditor.present_pass()
        if len({"below", "from 0 on"} & set(kept)) < 2 or self.auditor.has(self, site):
            return
        text = place.site.file.scope_text(place.site.statement)
        if any(sign in text for sign in CLOSED):
            return
        if place.site.role in ("audit lower", "audit upper"):
            self._report_bound(place, site, kept)
            return
        told = self.auditor.report(
            self,
            site,
            f"{self._around(place)} counts from the end in some passes: {place.text} is {kept['below']} in one of "
            "them. "
            "Is that meant?",
            0.65,
            question=True,
            evidence={"index": kept["below"]},
        )
        if told is not None:
            told.at_pass = kept["pass"]

    def _ends_at(self, value: int, place: Place, site: int, kept: dict[str, Any]) -> None:
        """Windows that end beyond their array are shorter.  One alone is the rest of a series cut into pieces."""
        owner = self.windowed.get(place.site.statement)
        if owner is None or self.auditor.has(self, site):
            return
        length, name = owner
        if value <= length:
            kept["whole"] = kept.get("whole", 0) + 1
            return
        beyond = kept.setdefault("beyond", {})
        beyond.setdefault(value - length, self.auditor.present_pass())
        if len(beyond) < SHORTER or kept.get("whole", 0) < WHOLE:
            return
        kept["whole"] = 0
        text = place.site.file.scope_text(place.site.statement)
        others = self.auditor.found.values()
        known = any(f.rule == "out-of-range" and f.place.site.statement == place.site.statement for f in others)
        if known or any(sign in text for sign in CLOSED):
            return
        told = self.auditor.report(
            self,
            site,
            f"{self._around(place)} is shorter in its last windows: {place.text} is {value} in one of them, and {name} "
            f"has {length} elements. Is that meant?",
            0.6,
            question=True,
            evidence={"bound": value, "length": length},
        )
        if told is not None:
            told.at_pass = next(iter(beyond.values()))

    def _report_bound(self, place: Place, site: int, kept: dict[str, Any]) -> None:
        """A window that begins, or ends, before its array: it is empty, or another one."""
        begins = place.site.role == "audit lower"
        said = f"{self._around(place)} {'begins' if begins else 'ends'} before the first element in some passes"
        told = self.auditor.report(
            self,
            site,
            f"{said}: {place.text} is {kept['below']} in one of them, which counts from the end. Is that meant?",
            0.7,
            question=True,
            evidence={"bound": kept["below"]},
            fix=place.with_term(f"max({place.text}, 0)"),
        )
        if told is not None:
            told.at_pass = kept["pass"]

    @staticmethod
    def _around(place: Any) -> str:
        """The text of the subscript that the index is in."""
        statement = place.site.file.innermost(place.line, place.position[1])
        root = statement.node if statement is not None else place.site.file.tree
        for node in ast.walk(root):
            if isinstance(node, ast.Subscript):
                bounds = [node.slice.lower, node.slice.upper] if isinstance(node.slice, ast.Slice) else []
                inner = [node.slice, *bounds]
                if any(one is not None and getattr(one, "col_offset", -1) == place.position[1] for one in inner):
                    return str(place.text_of(node))
        return str(place.text)
