"""Reads the stack: the user's calls, the trail, and the loops that each call is in."""

from __future__ import annotations

import ast
import gc
import itertools
import sys
import types
from collections.abc import Callable
from typing import Any

from ..core.identity import is_ours
from ..core.markers import INNER, METER
from ..core.trees import Comprehension, Loop
from ..source.registry import Meter, file_of, meters
from ..source.source_file import COMPREHENSIONS, LOOPS, Position, SourceFile, Statement
from ..values.describe import text_of
from ..values.safe_read import read_attribute
from .exception_handlers import statement_at
from .namespace import Scope, locals_of

ROOM = 250  # calls that a pause needs below the recursion limit


def hide_ourselves(exc: BaseException) -> None:
    """Takes our own calls out of an exception's traceback."""
    tb = exc.__traceback__
    while tb is not None and tb.tb_next is not None:
        if is_ours(tb.tb_next.tb_frame):
            tb.tb_next = tb.tb_next.tb_next
        else:
            tb = tb.tb_next
    if isinstance(exc, RecursionError) and isinstance(exc.__context__, RecursionError):
        exc.__context__ = exc.__context__.__context__  # a guard had no room


def has_room(exc: BaseException, frame: types.FrameType) -> bool:
    """False where calls have come so near to the recursion limit that a pause would exceed it, too: it is made further
    out."""
    if not isinstance(exc, RecursionError):
        return True
    left = sys.getrecursionlimit() - ROOM
    call: types.FrameType | None = frame
    while call is not None and left > 0:
        call, left = call.f_back, left - 1
    return call is None


def traceback_from(exc: BaseException, frame: types.FrameType) -> types.TracebackType | None:
    """The traceback of an exception from one of its calls on."""
    tb = exc.__traceback__
    while tb is not None and tb.tb_frame is not frame:
        tb = tb.tb_next
    return tb


def dead_calls(exc: BaseException, frame: types.FrameType) -> list[types.FrameType]:
    """The user's calls that the exception has left already, innermost first: lambdas, mostly."""
    found = _users_calls(traceback_from(exc, frame), frame)
    caught: BaseException | None = exc
    for _ in range(5):  # what a library has caught, and raised something else for
        caught = caught and (caught.__cause__ or (None if caught.__suppress_context__ else caught.__context__))
        if found or caught is None:
            break
        alive = set(map(id, _outwards(frame)))
        found = [f for f in _users_calls(caught.__traceback__, frame) if id(f) not in alive]
    return found[::-1]


def _outwards(frame: types.FrameType | None) -> list[types.FrameType]:
    found = []
    while frame is not None:
        found.append(frame)
        frame = frame.f_back
    return found


def _users_calls(tb: types.TracebackType | None, but: types.FrameType) -> list[types.FrameType]:
    """The user's calls in a traceback, outermost first."""
    found = []
    while tb is not None:
        inner = tb.tb_frame
        if inner is not but and file_of(inner) is not None and not _belongs_to_outer(inner):
            found.append(inner)
        tb = tb.tb_next
    return found


def frames_left(exc: BaseException) -> list[types.FrameType]:
    """The user's calls in an exception's traceback, innermost first."""
    tb = exc.__traceback__
    found = []
    while tb is not None:
        if file_of(tb.tb_frame) is not None and not _belongs_to_outer(tb.tb_frame):
            found.append(tb.tb_frame)
        tb = tb.tb_next
    return found[::-1]


def user_frame(frame: types.FrameType | None) -> types.FrameType | None:
    """The nearest call of the user's code, from here outwards."""
    while frame is not None and file_of(frame) is None:
        frame = frame.f_back
    return frame


# What a worker process runs around its tasks, by module and function.
WORKERS = {
    ("multiprocessing.pool", "worker"),
    ("concurrent.futures.process", "_process_worker"),
    ("joblib.externals.loky.process_executor", "_process_worker"),
}


def calls(frame: types.FrameType | None, libraries: bool = False) -> list[types.FrameType]:
    """The calls from this one outwards, innermost first: the user's, or (with libraries) all but the agent's.

    A comprehension's own frame counts as its call's, as it does from 3.12 on.
    """
    found: list[types.FrameType] = []
    inner: types.FrameType | None = None
    while frame is not None:
        if not is_ours(frame) and (libraries or file_of(frame) is not None):
            if _belongs_to_outer(frame):
                inner = inner or frame
            elif inner is not None and frame.f_code.co_filename == inner.f_code.co_filename:
                found.append(inner)
                inner = None
            else:
                found.append(frame)
        frame = frame.f_back
    if inner is not None:
        found.append(inner)
    return found


def _belongs_to_outer(frame: types.FrameType) -> bool:
    name = frame.f_code.co_name
    return name in INNER and name != "<genexpr>"


def line_of(frame: types.FrameType) -> int:
    """The line of a running call: where the instruction under way has none of the file, the last one that has."""
    from .exception_handlers import line_with_code

    file = file_of(frame)
    line = line_with_code(file, frame) if file is not None else frame.f_lineno
    return line or frame.f_code.co_firstlineno


def function_name(frame: types.FrameType) -> str:
    """The qualified name of a call, without the frames of comprehensions."""
    name = frame.f_code.co_qualname
    while True:
        head, dot, last = name.rpartition(".")
        if last not in INNER:
            return name
        name = head.removesuffix(".<locals>") if dot else "<module>"


def plain_name(qualified: str) -> str:
    """`simulate.rate` for `simulate.<locals>.rate`, and empty for a module's."""
    return "" if qualified == "<module>" else qualified.replace(".<locals>", "")


def arguments(frame: types.FrameType, limit: int = 3) -> str:
    """`stage=365 cells float64…`: the arguments of a call, short, for the trail."""
    code = frame.f_code
    names = code.co_varnames[: code.co_argcount + code.co_kwonlyargcount]
    if code.co_name in INNER:
        return ""
    shown = []
    held = locals_of(frame)
    for name in [n for n in names if n not in ("self", "cls")][:limit]:
        if name in held:
            value = held[name]
            shape = read_attribute(value, "shape")  # nothing of the script's is run for it
            if isinstance(shape, tuple) and shape:
                text = str(shape).replace(" ", "")
            else:
                text = text_of(value)
            shown.append(f"{name}={text if len(text) <= 16 else text[:15] + '…'}")
    return ", ".join(shown)


def waits_for_work(running: types.FrameType | None, inner: types.FrameType | None) -> bool:
    """Whether a worker process runs no task: what takes tasks stands between what runs and the user's call, in which
    the process may have begun, and waits for its queue."""
    within = ""  # the function that the one looked at has called
    while running is not None and running is not inner:
        if (running.f_globals.get("__name__"), running.f_code.co_name) in WORKERS:
            return within == "get"  # of its queue
        within = running.f_code.co_name
        running = running.f_back
    return False


# -- loops -------------------------------------------------------------------------------------------


def loops(
    frame: types.FrameType, statement: Statement | None, place: Position | None = None, lengths: bool = True
) -> list[dict[str, Any]]:
    """The loops around a statement of one call, innermost first, each with its pass, counted from 1.

    `place`: of the instruction under way, where it is not the frame's own (an exception has been raised).
    `lengths`: how many passes there are in all is found out as well, which takes milliseconds.
    """
    file = file_of(frame)
    if file is None or statement is None:
        return []
    scope = Scope(frame)
    found = []
    around: list[Loop | Comprehension] = [*_comprehensions(frame, statement, place), *reversed(statement.loops)]
    if isinstance(statement.node, LOOPS):
        around.append(statement.node)  # at the head of a loop that is under way
        around.sort(key=lambda n: (n.lineno, n.col_offset), reverse=True)
    for loop in around:
        told = _loop(file, frame, scope, loop, lengths)
        if told["pass"] or loop is not statement.node:
            found.append(told)
    return found


def _comprehensions(frame: types.FrameType, statement: Statement, place: Position | None) -> list[Comprehension]:
    """The comprehensions of the statement whose element is being made, innermost first."""
    from .exception_handlers import instruction_place

    place = place or instruction_place(frame.f_code, frame.f_lasti)
    if place is None:
        return []
    found: list[Comprehension] = []
    for node in ast.walk(statement.node):
        if isinstance(node, COMPREHENSIONS):
            start, end = (node.lineno, node.col_offset), (node.end_lineno or 0, node.end_col_offset or 0)
            first = node.generators[0].iter
            outside = (first.lineno, first.col_offset) <= place[:2] and place[2:] <= (
                first.end_lineno,
                first.end_col_offset,
            )
            if start <= place[:2] and place[2:] <= end and not outside and place != (*start, *end):
                found.append(node)
    return found[::-1]


def _loop(
    file: SourceFile, frame: types.FrameType, scope: Scope, loop: Loop | Comprehension, lengths: bool = True
) -> dict[str, object]:
    done, length = passes(file, frame, loop, lengths)
    if isinstance(loop, ast.While):
        target, value = file.segment(loop.test), None
    else:
        node = loop.generators[0].target if isinstance(loop, COMPREHENSIONS) else loop.target
        target = file.segment(node)
        value = _value_of(node, scope)
    kind = "while" if isinstance(loop, ast.While) else "for"
    return {
        "line": loop.lineno,
        "target": target,
        "value": value,
        "pass": done,
        "of": length,
        "function": function_name(frame),
        "file": file.path,
        "kind": kind,
    }


def _value_of(target: ast.AST, scope: Scope) -> str | None:
    if isinstance(target, ast.Name):
        return text_of(scope[target.id]) if target.id in scope.locals or target.id in scope.globals else None
    if isinstance(target, (ast.Tuple, ast.List)):
        return ", ".join(_value_of(e, scope) or "?" for e in target.elts)
    if isinstance(target, ast.Starred):
        return _value_of(target.value, scope)
    return None


INDEXED: tuple[type, ...] = (type(iter([])), type(iter(())), enumerate)


def passes(
    file: SourceFile, frame: types.FrameType, loop: Loop | Comprehension, lengths: bool = True
) -> tuple[int, int | None]:
    """The number of the present pass and, where it is wanted and known, the number of passes."""
    meter, length, start = _meter(file, frame, loop)
    if meter is None:
        return 0, None
    if type(meter) is int:
        return meter, None
    if type(meter) in INDEXED:
        done = _index(meter)
        left = _hint(meter) if lengths else -1
        return done, done + left if left >= 0 and done else None
    try:
        left = meter.__length_hint__()
    except (AttributeError, TypeError):
        return 0, None
    if type(meter) is itertools.repeat:
        done = sys.maxsize - left - start
        if isinstance(loop, ast.While):
            return done, None
        if length < 0 and not lengths:
            return done, None
        if length < 0:
            length = done + _left(meter)
            if length < done:
                return done, None
        return done, length
    return length - left, length


def pass_counter(file: SourceFile, frame: types.FrameType, loop: Loop | Comprehension) -> Callable[[], int] | None:
    """What tells the number of the present pass of a loop that runs, in little time; None where nothing does."""
    meter, length, start = _meter(file, frame, loop)
    if type(meter) in INDEXED:
        return lambda: _index(meter)
    left: Callable[[], int] | None = getattr(meter, "__length_hint__", None)
    if left is None:
        return None
    whole = sys.maxsize - start if type(meter) is itertools.repeat else length
    return lambda: whole - left()


def _index(iterator: object) -> int:
    """How many elements an iterator has given; 0 for one of a list or tuple that is used up."""
    state = iterator.__reduce__()
    if type(iterator) is enumerate:
        return int(state[1][1])
    return int(state[2]) if len(state) == 3 else 0


def _meter(file: SourceFile, frame: types.FrameType, loop: Loop | Comprehension) -> Meter:
    """What counts the passes of a loop (None: nothing), the number of passes or -1, and where the count began."""
    held = locals_of(frame)
    name = f"{METER}{loop.lineno}_{loop.col_offset}"
    if held.get(name) is None:
        return _site_meter(file, frame, loop)
    numbers = held.get(name + "r")
    return held[name], len(numbers) if type(numbers) is range else -1, 0


def _site_meter(file: SourceFile, frame: types.FrameType, loop: Loop | Comprehension) -> tuple[object, int, int]:
    from ..source.sites import sites

    best: Meter = (None, -1, 0)
    wanted = (loop.lineno, loop.col_offset)
    around = id(frame.f_back) if frame.f_code.co_name in INNER else 0  # a comprehension's meter is its call's
    for number, by_call in meters.items():
        site = sites[number]
        if site.file is file and site.expression is not None and site.expression[:2] == wanted:
            for owner in (id(frame), around):
                if owner in by_call:
                    return by_call[owner]
            best = next(reversed(by_call.values()), best)
    return best


def _left(meter: object) -> int:
    """How many elements are still to come, found from the iterator that the meter is joined to; or very
    negative when it does not say."""
    unknown = -sys.maxsize
    for joined in gc.get_referrers(meter):
        if type(joined) is itertools.compress:
            parts = [p for p in gc.get_referents(joined) if p is not meter]
            return _hint(parts[0]) if parts else unknown
    return unknown


def _hint(iterator: Any) -> int:
    unknown = -sys.maxsize
    if type(iterator) in (enumerate, zip, map, reversed):
        inner = [p for p in gc.get_referents(iterator) if hasattr(type(p), "__next__") or type(p) is tuple]
        flat = [q for p in inner for q in (p if type(p) is tuple else (p,)) if hasattr(type(q), "__next__")]
        hints = [_hint(p) for p in flat]
        if type(iterator) is reversed:
            return int(iterator.__length_hint__())
        return min(hints) if hints else unknown
    if getattr(type(iterator), "__module__", "") == "builtins" and hasattr(type(iterator), "__length_hint__"):
        hint = iterator.__length_hint__()
        return hint if isinstance(hint, int) else unknown
    return unknown


def chain(frame: types.FrameType | None) -> list[list[object]]:
    """What distinguishes calls: for each call from this one outwards its function, file, line and passes."""
    from .exception_handlers import statement_at

    found: list[list[object]] = []
    for call in calls(frame):
        file = file_of(call)
        statement = statement_at(file, call) if file is not None else None
        passes = [loop["pass"] for loop in loops(call, statement)]
        line = statement.line if statement is not None else line_of(call)
        found.append([function_name(call), call.f_code.co_filename, line, passes])
    return found


def all_loops(frame: types.FrameType, place: Position | None = None, lengths: bool = True) -> list[dict[str, object]]:
    """The loops around the paused statement and those around the calls that led to it."""
    found = []
    for call in calls(frame):
        file = file_of(call)
        if file is not None:
            found += loops(call, statement_at(file, call), place if call is frame else None, lengths)
    return found
