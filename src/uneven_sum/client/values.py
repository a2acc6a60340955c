"""Reading a paused script: calls, values, terms, what is asked: a part of the client."""

from __future__ import annotations

import msgspec

from ..host.session import Session
from ..protocol import (
    Card,
    Note,
    StackFrame,
    Term,
    Variable,
)
from ..protocol.messages import Message


class Values:
    """A part of the client."""

    session: Session

    async def stack(self, thread: int = 0) -> list[StackFrame]:
        body = await self.session.request("stackTrace", {"threadId": thread})
        return msgspec.convert(body["stackFrames"], list[StackFrame])

    async def cards(self, frame: int = 0, about: str = "line") -> list[Card]:
        body = await self.session.request("unevenSum/cards", {"frameId": frame, "about": about})
        return msgspec.convert(body["cards"], list[Card])

    async def fill(self, frame: int, about: str, names: list[str]) -> list[Card]:
        """The cards of these names with their summaries, which take time."""
        arguments = {"frameId": frame, "about": about, "names": names}
        body = await self.session.request("unevenSum/cards", arguments)
        return msgspec.convert(body["cards"], list[Card])

    async def notes(self, frame: int = 0) -> list[Note]:
        body = await self.session.request("unevenSum/notes", {"frameId": frame})
        return msgspec.convert(body["notes"], list[Note])

    async def terms(self, frame: int = 0, line: int | None = None) -> tuple[int, list[Term], str]:
        """The terms of the statement at a line (default: the paused one): its line, terms, and a remark."""
        body = await self.session.request("unevenSum/terms", {"frameId": frame, "line": line})
        return (
            body["line"],
            msgspec.convert(body["terms"], list[Term]),
            body["trial"] or body["differs"] or body["when"],
        )

    async def seen(self) -> None:
        """From now on `changed` means: since this pause."""
        await self.session.request("unevenSum/seen")

    async def source(self, path: str) -> str:
        body = await self.session.request("source", {"source": {"path": path}, "sourceReference": 0})
        return str(body["content"])

    async def scopes(self, frame: int = 0) -> list[dict[str, object]]:
        body = await self.session.request("scopes", {"frameId": frame})
        found: list[dict[str, object]] = body["scopes"]
        return found

    async def variables(self, reference: int, start: int = 0, count: int = 0) -> list[Variable]:
        body = await self.session.request(
            "variables", {"variablesReference": reference, "start": start, "count": count}
        )
        return msgspec.convert(body["variables"], list[Variable])

    async def ask(self, text: str, frame: int = 0, context: str = "repl") -> Message:
        """Evaluates in a trial, or for good after a leading `!`.  BadUse with the error's sentence."""
        return await self.session.request("evaluate", {"expression": text, "frameId": frame, "context": context})

    async def call_with_pauses(self, expression: str, frame: int = 0, into: bool = False) -> None:
        """Runs a call within this pause, with all lookouts on; a CallEnded event reports its end."""
        arguments = {"expression": expression, "frameId": frame, "into": into}
        await self.session.request("unevenSum/callWithPauses", arguments)

    async def call_text(self, frame: int = 0) -> str:
        """The call of a frame written again.  BadUse where that cannot be done."""
        return str((await self.session.request("unevenSum/callText", {"frameId": frame}))["text"])

    async def expect(self, text: str, frame: int = 0) -> str:
        """Holds the coming pause to an expectation; how it stands now.  BadUse when it is unclear."""
        return str((await self.session.request("unevenSum/expect", {"text": text, "frameId": frame}))["now"])

    async def set_value(self, target: str, value: str, frame: int = 0, force: bool = False) -> Message:
        """Sets a name, attribute, element or slice of a call for good.  BadUse when it cannot be done; with `misfit`
        in its facts when the value has another type or shape than what is there, and `force` is not given."""
        arguments = {"expression": target, "value": value, "frameId": frame, "force": force}
        return await self.session.request("unevenSum/setValue", arguments)

    async def complete(self, text: str, frame: int = 0) -> list[Message]:
        body = await self.session.request("completions", {"text": text, "column": len(text) + 1, "frameId": frame})
        found: list[dict[str, object]] = body["targets"]
        return found

    # -- the Close-up --------------------------------------------------------------------------------

    async def closeup(self, expression: str, frame: int = 0) -> Message:
        """Summary, facts, grid, plots, parts of a value.  BadUse when it cannot be had."""
        return await self._of_value("closeup", expression, frame)

    async def parts(self, expression: str, frame: int, start: int, count: int) -> Message:
        return await self._of_value("parts", expression, frame, start=start, count=count)

    async def read_text(self, expression: str, frame: int = 0, line: int = 0) -> Message:
        """A window of a long text, from a line on: `text`, `first`, `last`, `size`, `line`, `lines`."""
        return await self._of_value("text", expression, frame, line=line)

    async def find_text(self, expression: str, frame: int, wanted: str, window: Message, shown: int) -> Message:
        """The next place of a text in all of it: `at` (-1: nowhere), `width`, `line`, and a new `window`."""
        where = {"first": window["first"], "last": window["last"], "shown": shown}
        return await self._of_value("findText", expression, frame, wanted=wanted, **where)

    async def page(self, expression: str, frame: int = 0, **how: object) -> Message:
        """A page of the grid: `row`, `column`, `rows`, `columns`, `slice`, `sort`, `filter`."""
        return await self._of_value("page", expression, frame, **how)

    async def find_bad(self, expression: str, frame: int = 0, **where: object) -> tuple[int, int] | None:
        found = (await self._of_value("findBad", expression, frame, **where))["found"]
        return (int(found[0]), int(found[1])) if found else None

    async def plot(self, expression: str, frame: int = 0, **how: object) -> Message:
        """A plot's reduced data: `kind`, `width`, `height`, `columns`, `first`, `last`, `slice`, `log`."""
        return await self._of_value("plot", expression, frame, **how)

    async def compare(self, expression: str, frame: int, other: str, atol: float, rtol: float) -> Message:
        return await self._of_value("compare", expression, frame, other=other, atol=atol, rtol=rtol)

    async def matrix(self, expression: str, frame: int = 0) -> list[list[str]]:
        found: list[list[str]] = (await self._of_value("matrix", expression, frame))["facts"]
        return found

    async def export_grid(self, expression: str, frame: int, path: str, **how: object) -> Message:
        return await self._of_value("export", expression, frame, path=path, **how)

    async def _of_value(self, command: str, expression: str, frame: int, **how: object) -> Message:
        arguments = {"expression": expression, "frameId": frame, **how}
        return await self.session.request(f"unevenSum/{command}", arguments)

    async def figures(self, number: int = 0, path: str = "") -> list[Message]:
        """The open matplotlib figures of the script: `number`, `title`, `axes`; with a path, one is written."""
        arguments = {"number": number, "path": path} if path else {}
        found: list[dict[str, object]] = (await self.session.request("unevenSum/figures", arguments))["figures"]
        return found

    def cancel_all(self) -> None:
        """Gives up what the script's side is computing for us."""
        self.session.cancel_all()
