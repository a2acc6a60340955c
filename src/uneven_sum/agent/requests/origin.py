"""Where a value came from: the place of an expression in a pause, and one step of its chain."""

from __future__ import annotations

import ast
import os

from ..core import run_state
from ..core.errors import Refused
from ..core.markers import MISSING
from ..diagnosis import provenance
from ..frames import stack
from ..frames.exception_handlers import statement_at
from ..frames.namespace import Scope
from ..origin import search
from ..origin.place import Place, place_of
from ..origin.search import End
from ..origin.step import told_of
from ..source import registry
from .declare import Body, request
from .exchange import Part


class OriginRequests(Part):
    """Requests of `uneven-sum origin` and of the Origin drawer."""

    @request("unevenSum/place")
    def place(self, expression: str, frame_id: int = 0) -> Body:
        """The place that an expression names in a paused call, and where its search ends."""
        pause = self.engine.present
        if pause is None:
            raise Refused("The script is running: interrupt it first.")
        if pause.frame is None:
            raise Refused("There is no call here whose names could be asked for.")
        frame = self.exchange.frame(frame_id)
        inner = self.exchange.frame(0)
        found = place_of(expression, frame)
        node = ast.parse(expression.strip(), mode="eval").body
        try:
            value = provenance.read(node, Scope(frame))
        except provenance.Unreadable:
            value = MISSING
        told = {"place": found.told(), "value": told_of(value)}
        user = stack.user_frame(inner)
        file = registry.file_of(user) if user is not None else None
        if user is None or file is None or pause.past or pause.reason == "end":
            return {**told, "end": {}}
        statement = statement_at(file, user)
        chain = stack.chain(user)
        if statement is not None:
            chain[0][2] = statement.line
        return {**told, "end": {"file": os.path.realpath(file.path), "chain": chain}}

    def _only_before(self) -> None:
        if self.exchange.started:
            raise Refused("The script runs already: this is asked for before configurationDone.")
        search.Input.path = self.engine.launch.get("stdin")

    @request("unevenSum/originStep")
    def origin_step(
        self, place: Body, end: Body, since: bool = False, expected: str = "", seconds: float = 600.0
    ) -> Body:
        """The last write of a place, found by running the script in a copy; with `since`, of writes that are not finite
        the first after one that is.  `expected`: a condition over `value`; one that breaks it counts as not finite.
        Before `configurationDone` only."""
        self._only_before()
        search.expect(expected)
        return search.step(Place(**place), End(**end), since, seconds, run_state.cancelled)

    @request("unevenSum/originUse")
    def origin_use(self, place: Body, end: Body, seconds: float = 600.0) -> Body:
        """The next statement that reads a place.  Before `configurationDone` only."""
        self._only_before()
        return search.use(Place(**place), End(**end), seconds, run_state.cancelled)

    @request("unevenSum/originLine")
    def origin_line(self, line: int, expected: str = "", seconds: float = 600.0) -> Body:
        """The statement that prints a line of the output, counted from 1.  Before `configurationDone` only."""
        self._only_before()
        search.expect(expected)
        return search.printed(line, seconds, run_state.cancelled)
