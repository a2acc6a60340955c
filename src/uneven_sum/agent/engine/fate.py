"""What becomes of an exception on its way up the stack."""

from __future__ import annotations

import ast
import types

from ..core import identity
from ..core.records import fact, record
from ..frames import exception_handlers, stack, task_waiters
from ..frames.exception_classes import Flying
from ..frames.exception_handlers import Fate
from ..pause.facts import clause_raised
from ..source import registry
from ..source.source_file import SourceFile, Statement, position

PROTOCOL_ANSWERS: dict[str, tuple[type, ...]] = {
    "__getitem__": (IndexError, KeyError),
    "__missing__": (KeyError,),
    "__getattr__": (AttributeError,),
    "__getattribute__": (AttributeError,),
    "__next__": (StopIteration,),
    "__anext__": (StopAsyncIteration,),
}
EXPRESSIONS = {"<lambda>", "<genexpr>", "<listcomp>", "<setcomp>", "<dictcomp>"}


def raised_in_head(
    exc: BaseException, frame: types.FrameType, file: SourceFile, statement: Statement
) -> Statement | None:
    """A compound statement, or an `elif` of it, in whose head an exception was raised; None for one in a body."""
    tb = stack.traceback_from(exc, frame)
    if tb is None:
        return None
    node = statement.node
    line = tb.tb_lineno
    if node.lineno <= line <= max(statement.head_end, node.lineno):
        return statement
    rest = getattr(node, "orelse", [])
    while len(rest) == 1 and isinstance(rest[0], ast.If):  # an elif
        if rest[0].test.lineno <= line <= (rest[0].test.end_lineno or 0):
            return file.statement(position(rest[0]))
        rest = rest[0].orelse
    return statement if clause_raised(node, line)[0] else None


@fact
class Handling:
    """`handled`: something up the stack handles the exception.  `outer`: the call that does so, if one further out."""

    handled: bool
    outer: types.FrameType | None = None


@record
class UnderWay:
    """The last exception that a call further out was found to handle: the guards up to there do not judge it again.

    It is known by its address, since a reference would keep it and the values of its calls alive.  A later exception
    may have the same address: what tells them apart is that the calls of this one's traceback were judged already.
    """

    address: int = 0
    kind: type | None = None
    handler: int = 0  # address of the frame that handles it
    last: tuple[int, int] = (0, -1)  # the last guard that has met it: its frame and instruction

    def begin(self, exc: BaseException, frame: types.FrameType, handler: types.FrameType) -> None:
        self.address, self.kind, self.handler = id(exc), type(exc), id(handler)
        self._reach(stack.traceback_from(exc, frame))

    def covers(self, exc: BaseException, frame: types.FrameType) -> bool:
        """Whether this guard need not judge it."""
        if (id(exc), type(exc)) != (self.address, self.kind) or id(frame) == self.handler:
            return False
        here = stack.traceback_from(exc, frame)
        inner = here.tb_next if here is not None else None
        while inner is not None and (id(inner.tb_frame), inner.tb_lasti) != self.last:
            inner = inner.tb_next
        if inner is None:
            return False
        self._reach(here)
        return True

    def _reach(self, here: types.TracebackType | None) -> None:
        self.last = (id(here.tb_frame), here.tb_lasti) if here is not None else (0, -1)


def handling(
    exc: BaseException, statement: Statement, frame: types.FrameType, boundary: types.FrameType | None
) -> Handling:
    """Find what handles an exception up to the call `boundary`, or what its handlers raise in its place.

    Where that cannot be known it counts as handled as long as there is a user call further out: that
    call's guard will judge what arrives there.
    """
    fate, flying = exception_handlers.in_file(exc, statement, frame)
    inner, outer = frame, frame.f_back
    while fate is Fate.PASSES and outer is not None and outer is not boundary:
        if task_waiters.begins_process(outer):
            break
        if answers_protocol(flying, inner):
            fate = Fate.UNKNOWN
        elif not identity.is_ours(outer):
            fate, flying = _fate_at(flying, outer)
        if fate is Fate.UNKNOWN and stack.user_frame(outer) is None:
            fate = Fate.PASSES  # nobody further out will judge it
        elif fate is not Fate.PASSES:
            return Handling(True, outer)
        inner, outer = outer, outer.f_back
    if fate is Fate.UNKNOWN:
        return Handling(stack.user_frame(frame.f_back) is not None)
    return Handling(fate in (Fate.HANDLED, Fate.LATER) or task_waiters.is_awaited(exc, frame))


def answers_protocol(flying: Flying, frame: types.FrameType) -> bool:
    """Whether this is how a class says to `for`, `hasattr` or `in` that there is nothing."""
    return issubclass(_class(flying), PROTOCOL_ANSWERS.get(frame.f_code.co_name, ()))


def _fate_at(flying: Flying, frame: types.FrameType) -> tuple[Fate, Flying]:
    file = registry.file_of(frame)
    if file is None:
        return exception_handlers.in_code(flying, frame), flying
    statement = exception_handlers.statement_at(file, frame)
    if issubclass(_class(flying), AttributeError) and exception_handlers.asks_for_attribute(statement, frame):
        return Fate.HANDLED, flying
    if statement is None or frame.f_code.co_name in EXPRESSIONS:
        return Fate.PASSES, flying  # the handlers around a lambda's text are not around its calls
    return exception_handlers.in_file(flying, statement, frame)


def _class(flying: Flying) -> type[BaseException]:
    return flying if isinstance(flying, type) else type(flying)
