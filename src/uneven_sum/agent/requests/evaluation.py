"""The requests that ask something of a paused call, or set something in it: in a trial, or for good."""

from __future__ import annotations

import ast
import types

from ..core.errors import Refused
from ..core.markers import MISSING
from ..diagnosis import provenance
from ..engine.nested_call import Nested
from ..frames.namespace import Scope
from ..lookouts import expectations
from ..trials import assignment
from ..trials.evaluate import Evaluated, answer_for_good, answer_in_trial, call_text, completions
from ..values.describe import summary
from .declare import Body, request
from .exchange import Names, Part


class EvaluationRequests(Part):
    """Expressions, calls and assignments, in a copy or in the script."""

    @request("evaluate")
    def evaluate(self, expression: str = "", frame_id: int = 0, context: str = "repl") -> Body:
        """`repl` evaluates in a trial, or for good after a leading `!`; `hover` and `watch` only read."""
        frame, text = self.exchange.frame(frame_id), expression.strip()
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
        try:
            return Evaluated(summary(provenance.read(ast.parse(text, mode="eval").body, Scope(frame))))
        except (provenance.Unreadable, SyntaxError, ValueError):
            return None

    @request("unevenSum/callText")
    def call_text(self, frame_id: int = 0) -> Body:
        """The call of a frame written again, with its arguments as they are now."""
        try:
            return {"text": call_text(self.exchange.frame(frame_id))}
        except ValueError as e:
            raise Refused(f"{e} Write the call yourself.") from None

    @request("unevenSum/callWithPauses", moves=True)
    def call_with_pauses(self, expression: str = "", frame_id: int = 0, into: bool = False) -> Body:
        """Runs a call with all lookouts on, within this pause; `unevenSum/callEnded` reports its end.  What it changes
        is undone by going back to this pause's return point.  `into`: pause at its first line."""
        self.exchange.can_move()
        frame, text = self.exchange.frame(frame_id), expression.strip()
        try:
            code = compile(text, "<asked>", "eval", dont_inherit=True)
        except (SyntaxError, ValueError) as e:
            raise Refused(f"{text} is not a call: {getattr(e, 'msg', e)}.") from None
        self.exchange.nested = Nested(code, frame, text, into)
        return {"·action": "nested"}

    def _result(self, asked: Evaluated) -> Body:
        told = asked.told or {"text": "", "type": ""}
        return {
            "result": told["text"],
            "type": told["type"],
            "variablesReference": 0
            if asked.value is MISSING
            else self.exchange.variable("", asked.value)["variablesReference"],
            "unevenSum": {
                **told,
                "printed": asked.printed,
                "forGood": asked.for_good,
                "seconds": asked.seconds,
                "changed": asked.changed,
                "refused": asked.refused,
            },
        }

    @request("completions")
    def completions(self, text: str = "", column: int = 0, frame_id: int = 0) -> Body:
        before = text[: (column or len(text) + 1) - 1].lstrip("!")
        return {"targets": completions(before, Scope(self.exchange.frame(frame_id)))}

    @request("setVariable")
    def set_variable(self, name: str, value: str, variables_reference: int = 0) -> Body:
        if not isinstance(self.exchange.values.get(variables_reference), Names):
            raise Refused("Only names can be set.")
        return self._assign(name, value, 0)

    @request("setExpression")
    def set_expression(self, expression: str, value: str, frame_id: int = 0) -> Body:
        return self._assign(expression, value, frame_id)

    def _assign(self, target: str, text: str, number: int) -> Body:
        frame = self.exchange.frame(number)
        asked = answer_for_good(f"{target} = {text}", frame)
        if asked.error:
            raise Refused(asked.error)
        self._set_by_hand(frame, f"{target} = {text}")
        told = answer_for_good(target, frame)
        return {"value": (told.told or {}).get("text", ""), "type": (told.told or {}).get("type", "")}

    @request("unevenSum/returnPoints")
    def return_points(self, on: bool = False) -> Body:
        """Switches the making of return points on or off."""
        rewind = self.engine.rewind
        if rewind is None:
            raise Refused("This run has no return points: it was started without.")
        rewind.on = on
        return {}

    @request("unevenSum/expect")
    def expect(self, text: str = "", frame_id: int = 0) -> Body:
        """What the user expects of the coming pause; sent with its facts."""
        self.exchange.can_move()
        try:
            expected = expectations.parse(text)
        except expectations.Unclear as e:
            raise Refused(str(e)) from None
        frame = self.exchange.frame(frame_id)
        self.engine.awaited.append((expected, frame))
        now = expectations.held(expected, frame)
        return {"now": expectations.sentence(now), "holds": now["holds"]}

    def _set_by_hand(self, frame: types.FrameType, text: str) -> None:
        self.exchange.changed = True
        self.engine.by_hand.note(frame, text)
        self.engine.facts["hand"] = self.engine.by_hand.told(self.exchange.frame())

    @request("unevenSum/setValue")
    def set_value(self, expression: str, value: str, frame_id: int = 0, force: bool = False) -> Body:
        """Sets a name, attribute, element or slice of a call for good.  Refused with `misfit` when the value has
        another type or shape than what is there, unless `force`."""
        frame = self.exchange.frame(frame_id)
        target, text = expression.strip(), value.strip()
        try:
            step = ast.parse(f"{target} = 0").body[0]
            ast.parse(text, mode="eval")
        except (SyntaxError, ValueError) as e:
            raise Refused(f"`{target} = {text}` cannot be done: {getattr(e, 'msg', e)}.") from None
        if not isinstance(step, ast.Assign) or not isinstance(
            step.targets[0], (ast.Name, ast.Attribute, ast.Subscript)
        ):
            raise Refused(f"{target} is not a name, attribute or element.")
        if not force:
            try:
                against = assignment.misfit(target, text, frame)
            except ValueError as e:
                raise Refused(f"{target} cannot be set to that: {e}") from None
            if against:
                raise Refused(f"{against}.", misfit=True)
        return {**self._assign(target, text, frame_id), "hand": self.engine.facts["hand"]}
