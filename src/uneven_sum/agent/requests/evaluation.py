"""The requests that ask something of a paused call, or set something in it: in a trial, or for good."""

from __future__ import annotations

import ast
import types
from typing import TYPE_CHECKING, Any

from ..core.errors import Refused
from ..core.markers import MISSING
from ..engine.nested_call import Nested
from ..frames.namespace import Scope
from ..lookouts import expectations
from ..trials import assignment
from ..trials.evaluate import Evaluated, answer_for_good, answer_in_trial, call_text, completions
from ..values.describe import summary
from .stepping import SteppingRequests

if TYPE_CHECKING:
    from ..engine.engine import Engine


class Names(dict[str, Any]):
    """The names of a scope."""


class EvaluationRequests(SteppingRequests):
    """A part of `Requests`."""

    engine: Engine
    values: dict[int, Any]
    nested: Nested | None = None
    changed = False  # something was done for good in this pause

    def _frame(self, number: int | None) -> types.FrameType:
        raise NotImplementedError

    def variable(self, name: str, value: Any) -> dict[str, Any]:
        raise NotImplementedError

    def on_evaluate(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """`repl` evaluates in a trial, or for good after a leading `!`; `hover` and `watch` only read."""
        frame = self._frame(arguments.get("frameId"))
        text = str(arguments.get("expression", "")).strip()
        context = arguments.get("context", "repl")
        if not text:
            raise Refused("Nothing was asked.")
        if text.startswith("!"):
            asked = answer_for_good(text[1:].strip(), frame)
            self._set_by_hand(frame, text[1:].strip())
        elif context == "hover":
            read = self._read(text, frame)
            if read is None:
                raise Refused(f"{text} cannot be read without running code.")
            asked = read
        else:
            asked = answer_in_trial(text, frame)
            if asked.impossible:
                asked = self._read(text, frame) or asked
        if asked.error:
            raise Refused(asked.error, printed=asked.printed, impossible=asked.impossible, changed=asked.changed)
        return self._result(asked)

    @staticmethod
    def _read(text: str, frame: types.FrameType) -> Evaluated | None:
        """The value of names, attributes and elements, read without running code; None where that is not enough."""
        from ..diagnosis import provenance

        try:
            return Evaluated(summary(provenance.read(ast.parse(text, mode="eval").body, Scope(frame))))
        except (provenance.Unreadable, SyntaxError, ValueError):
            return None

    def on_own_callText(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """The call of a frame written again, with its arguments as they are now."""
        try:
            return {"text": call_text(self._frame(arguments.get("frameId")))}
        except ValueError as e:
            raise Refused(f"{e} Write the call yourself.") from None

    def on_own_callWithPauses(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Runs a call with all lookouts on, within this pause; `unevenSum/callEnded` tells its end.  What it changes
        is undone by going back to this pause's return point.  `into`: pause at its first line."""
        self._moving()
        frame = self._frame(arguments.get("frameId"))
        text = str(arguments.get("expression") or "").strip()
        try:
            code = compile(text, "<asked>", "eval", dont_inherit=True)
        except (SyntaxError, ValueError) as e:
            raise Refused(f"{text} is no call: {getattr(e, 'msg', e)}.") from None
        self.nested = Nested(code, frame, text, bool(arguments.get("into")))
        return {"·action": "nested"}

    def _result(self, asked: Evaluated) -> dict[str, Any]:
        told = asked.told or {"text": "", "type": ""}
        return {
            "result": told["text"],
            "type": told["type"],
            "variablesReference": 0 if asked.value is MISSING else self.variable("", asked.value)["variablesReference"],
            "unevenSum": {
                **told,
                "printed": asked.printed,
                "forGood": asked.for_good,
                "seconds": asked.seconds,
                "changed": asked.changed,
                "refused": asked.refused,
            },
        }

    def on_completions(self, arguments: dict[str, Any]) -> dict[str, Any]:
        frame = self._frame(arguments.get("frameId"))
        text = str(arguments.get("text", ""))
        column = int(arguments.get("column") or len(text) + 1)
        return {"targets": completions(text[: column - 1].lstrip("!"), Scope(frame))}

    def on_setVariable(self, arguments: dict[str, Any]) -> dict[str, Any]:
        names = self.values.get(int(arguments.get("variablesReference") or 0))
        if not isinstance(names, Names):
            raise Refused("Only names can be set.")
        return self._assign(str(arguments["name"]), str(arguments["value"]), None)

    def on_setExpression(self, arguments: dict[str, Any]) -> dict[str, Any]:
        return self._assign(str(arguments["expression"]), str(arguments["value"]), arguments.get("frameId"))

    def _assign(self, target: str, text: str, number: int | None) -> dict[str, Any]:
        frame = self._frame(number)
        asked = answer_for_good(f"{target} = {text}", frame)
        if asked.error:
            raise Refused(asked.error)
        self._set_by_hand(frame, f"{target} = {text}")
        told = answer_for_good(target, frame)
        return {"value": (told.told or {}).get("text", ""), "type": (told.told or {}).get("type", "")}

    def on_own_returnPoints(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Switches the making of return points on or off."""
        rewind = self.engine.rewind
        if rewind is None:
            raise Refused("This run has no return points: it was started without.")
        rewind.on = bool(arguments.get("on"))
        return {}

    def on_own_expect(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """What the user expects of the coming pause; told with its facts."""
        self._moving()
        try:
            expected = expectations.parse(str(arguments.get("text") or ""))
        except expectations.Unclear as e:
            raise Refused(str(e)) from None
        frame = self._frame(arguments.get("frameId"))
        self.engine.awaited.append((expected, frame))
        now = expectations.held(expected, frame)
        return {"now": expectations.sentence(now), "holds": now["holds"]}

    def _set_by_hand(self, frame: types.FrameType, text: str) -> None:
        self.changed = True
        self.engine.by_hand.note(frame, text)
        self.engine.facts["hand"] = self.engine.by_hand.told(self._frame(None))

    def on_own_setValue(self, arguments: dict[str, Any]) -> dict[str, Any]:
        """Sets a name, attribute, element or slice of a call for good.  Refused with `misfit` when the value has
        another type or shape than what is there, unless `force`."""
        frame = self._frame(arguments.get("frameId"))
        target, text = str(arguments["expression"]).strip(), str(arguments["value"]).strip()
        try:
            step = ast.parse(f"{target} = 0").body[0]
            ast.parse(text, mode="eval")
        except (SyntaxError, ValueError) as e:
            raise Refused(f"`{target} = {text}` cannot be done: {getattr(e, 'msg', e)}.") from None
        if not isinstance(step, ast.Assign) or not isinstance(
            step.targets[0], (ast.Name, ast.Attribute, ast.Subscript)
        ):
            raise Refused(f"{target} is no name, attribute or element.")
        if not arguments.get("force"):
            try:
                against = assignment.misfit(target, text, frame)
            except ValueError as e:
                raise Refused(f"{target} cannot be set to that: {e}") from None
            if against:
                raise Refused(f"{against}.", misfit=True)
        return {**self._assign(target, text, arguments.get("frameId")), "hand": self.engine.facts["hand"]}
