"""What the user asks in a paused call: in a trial, or for good."""

from __future__ import annotations

import ast
import contextlib
import ctypes
import io
import keyword
import re
import sys
import time
import types
from dataclasses import field
from typing import Any

from ..core.markers import HIDDEN, MISSING
from ..core.records import record
from ..core.text import error_text
from ..frames.namespace import Scope
from ..values.describe import summary
from . import snapshot_diff, trial


@record
class Evaluated:
    """An answer: the value's summary, or an error in one sentence."""

    told: dict[str, Any] | None = None
    error: str = ""
    printed: str = ""
    value: object = MISSING
    for_good: bool = False
    seconds: float = 0.0
    changed: str = ""  # what it would have changed, or has
    refused: list[str] = field(default_factory=list)  # what a trial was not let do
    impossible: bool = False  # no trial can be made now


RESULT = "·result"


def _compile(text: str) -> tuple[types.CodeType, bool]:
    """The code of what was asked, and whether it is an expression.

    Statements whose last is an expression leave its value under the name RESULT.
    """
    try:
        return compile(text, "<asked>", "eval", dont_inherit=True), True
    except SyntaxError:
        tree = ast.parse(text, "<asked>")
        last = tree.body[-1] if tree.body else None
        if isinstance(last, ast.Expr):
            tree.body[-1] = ast.Assign([ast.Name(RESULT, ast.Store())], last.value)
            ast.fix_missing_locations(tree)
        return compile(tree, "<asked>", "exec", dont_inherit=True), False


def _syntax(e: SyntaxError) -> str:
    return f"This is not Python: {e.msg}" + (f" (at column {e.offset})" if e.offset else "") + "."


def _namespace(frame: types.FrameType) -> dict[str, object]:
    scope = Scope(frame)
    return {**scope.globals, **scope.locals, "__builtins__": scope.builtins}


def answer_in_trial(text: str, frame: types.FrameType) -> Evaluated:
    """Evaluates in a copy of the script; nothing that it does is kept."""
    try:
        code, is_expression = _compile(text)
    except (SyntaxError, ValueError) as e:
        return Evaluated(error=_syntax(e) if isinstance(e, SyntaxError) else f"{e}.")
    began = time.perf_counter()

    scope = Scope(frame)
    pure = is_expression and snapshot_diff.is_pure(ast.parse(text, "<asked>", "eval"), scope)

    def work() -> dict[str, object]:
        names = _namespace(frame)
        before = None if pure else snapshot_diff.NamesBefore({**scope.globals, **scope.locals})
        kept = dict(names)
        answer: dict[str, object] = {}
        started = time.perf_counter()
        try:
            if is_expression:
                answer["told"] = summary(eval(code, names))
            else:
                exec(code, names)
                answer["told"] = summary(names[RESULT]) if RESULT in names else _news(kept, names)
        except BaseException as e:
            answer["failed"] = error_text(e)
        answer["seconds"] = time.perf_counter() - started
        if before is not None:
            new = {n: v for n, v in names.items() if n != RESULT and (n not in kept or kept[n] is not v)}
            gone = {n for n in kept if n not in names}
            now = {**frame.f_globals, **scope.locals, **new}
            found = before.differences({n: v for n, v in now.items() if n not in gone})
            answer["changed"] = snapshot_diff.sentence(found)
            if before.sampled and not found:
                answer["changed"] = "nothing seen (large values were compared by a sample)"
        return answer

    try:
        answer = trial.run(work)
    except trial.Impossible as e:
        return Evaluated(error=f"Cannot copy the script: {e}. Start with ! to run it in the script.", impossible=True)
    seconds = answer.get("seconds", time.perf_counter() - began)
    asked = Evaluated(answer.get("told"), printed=answer.get("printed", ""), seconds=seconds)
    asked.error = answer.get("failed", "")
    threads = trial.with_threads()
    if asked.error == trial.too_long() and threads:
        asked.error += f": the threads of {threads} do not exist in a copy. Start with ! to run it in the script."
    asked.changed, asked.refused = answer.get("changed", ""), answer.get("refused", [])
    return asked


def _news(kept: dict[str, object], names: dict[str, object]) -> dict[str, object]:
    """What statements have assigned."""
    changed = [n for n, v in names.items() if n not in kept or kept[n] is not v]
    shown = [f"{n} = {summary(names[n])['text']}" for n in changed if n != "__builtins__"]
    return {"text": "; ".join(shown) or "done", "type": ""}


def answer_for_good(text: str, frame: types.FrameType) -> Evaluated:
    """Evaluates in the paused call itself; names that it sets stay set."""
    try:
        code, is_expression = _compile(text)
    except (SyntaxError, ValueError) as e:
        return Evaluated(error=_syntax(e) if isinstance(e, SyntaxError) else f"{e}.")
    began = time.perf_counter()
    at_module = frame.f_locals is frame.f_globals or frame.f_code.co_name == "<module>"
    printed = io.StringIO()
    try:
        with contextlib.redirect_stdout(printed):
            if at_module:
                value = eval(code, frame.f_globals)
            else:
                value = _in_call(code, is_expression, frame)
    except BaseException as e:
        return Evaluated(error=error_text(e), printed=printed.getvalue(), for_good=True)
    seconds = time.perf_counter() - began
    told = summary(value) if is_expression else {"text": "done", "type": ""}
    return Evaluated(
        told, printed=printed.getvalue(), value=value if is_expression else MISSING, for_good=True, seconds=seconds
    )


def _in_call(code: types.CodeType, is_expression: bool, frame: types.FrameType) -> object:
    held = frame.f_locals  # taken once: before 3.13 reading it again would lose what was written
    names: dict[str, object] = {**frame.f_globals, **{n: v for n, v in held.items() if not n.startswith(HIDDEN)}}
    before = dict(names)
    value = eval(code, names)  # statements too: of their code object it gives None
    own = set(frame.f_code.co_varnames) | set(frame.f_code.co_cellvars) | set(frame.f_code.co_freevars)
    for name, new in names.items():
        if name in ("__builtins__", RESULT) or (name in before and before[name] is new):
            continue
        if name in own:
            held[name] = new
        else:
            frame.f_globals[name] = new
    if sys.version_info < (3, 13):
        ctypes.pythonapi.PyFrame_LocalsToFast(ctypes.py_object(frame), ctypes.c_int(0))
    return names.get(RESULT, value)


def completions(text: str, scope: Scope) -> list[dict[str, object]]:
    """Names, attributes and keys that may follow a text."""
    start = len(text)
    while start and (text[start - 1].isalnum() or text[start - 1] in "_."):
        start -= 1
    word = text[start:]
    owner_text, dot, begin = word.rpartition(".")
    keyed = re.search(r"([A-Za-z_][\w.]*)\[(['\"])([^'\"\]]*)$", text)
    if keyed is not None:
        return _keys(keyed[1], keyed[3], len(text) - len(keyed[3]), scope)
    if dot:
        from ..diagnosis import provenance

        try:
            owner = provenance.read(ast.parse(owner_text, mode="eval").body, scope)
        except (provenance.Unreadable, SyntaxError):
            return []
        names = list(dir(type(owner)))
        names += list(getattr(owner, "__dict__", {}) if not isinstance(owner, type) else dir(owner))
        if hasattr(owner, "columns") and type(owner).__module__.startswith("pandas"):
            names += [str(c) for c in owner.columns if str(c).isidentifier()]
    else:
        names = [*scope, *keyword.kwlist]
    fitting = sorted({n for n in names if isinstance(n, str) and n.startswith(begin) and n.isprintable()})
    if not begin.startswith("_"):
        fitting = [n for n in fitting if not n.startswith("_")]
    if not dot:
        fitting.sort(key=lambda n: (n not in scope.locals, n not in scope.globals, n))
    return [{"label": n, "start": len(text) - len(begin), "length": len(begin)} for n in fitting[:60]]


def _keys(owner_text: str, begin: str, start: int, scope: Scope) -> list[dict[str, object]]:
    """Keys of a mapping, columns of a frame, fields of a structured array, that begin so."""
    from ..diagnosis import provenance

    try:
        owner = provenance.read(ast.parse(owner_text, mode="eval").body, scope)
    except (provenance.Unreadable, SyntaxError):
        return []
    keys: list[object] = []
    if isinstance(owner, dict):
        keys = list(dict.keys(owner))[:10_000]
    elif type(owner).__module__.startswith(("pandas", "polars")) and hasattr(owner, "columns"):
        keys = list(owner.columns)[:10_000]
    elif getattr(getattr(owner, "dtype", None), "names", None):
        keys = list(owner.dtype.names)
    fitting = sorted({k for k in keys if isinstance(k, str) and k.startswith(begin) and k.isprintable()})
    return [{"label": k, "start": start, "length": len(begin)} for k in fitting[:60]]


def call_text(frame: types.FrameType) -> str:
    """The call that a frame is, written again: with its arguments as they are now.  ValueError where that cannot
    be done."""
    code = frame.f_code
    if code.co_name.startswith("<"):
        raise ValueError("This is not a function call.")
    count, only = code.co_argcount, code.co_kwonlyargcount
    names = list(code.co_varnames[: count + only])
    words = names[:count] + [f"{n}={n}" for n in names[count:]]
    rest = list(code.co_varnames[count + only :])
    if code.co_flags & 0x04:
        words.insert(count, "*" + rest.pop(0))
    if code.co_flags & 0x08:
        words.append("**" + rest.pop(0))
    scope = Scope(frame)
    held = scope.get(code.co_name, MISSING)
    while hasattr(held, "__wrapped__"):
        held = held.__wrapped__
    if getattr(getattr(held, "__code__", None), "co_qualname", None) == code.co_qualname:
        return f"{code.co_name}({', '.join(words)})"
    if names and "." in code.co_qualname and hasattr(type(scope.get(names[0])), code.co_name):
        return f"{names[0]}.{code.co_name}({', '.join(words[1:])})"
    raise ValueError(f"{code.co_name} is not known by its name here.")
