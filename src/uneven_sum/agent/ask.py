"""What the user asks in a paused call: in a trial, or for good."""

from __future__ import annotations

import ast
import contextlib
import ctypes
import io
import keyword
import sys
import time
import types
from dataclasses import dataclass
from typing import Any

from . import trial
from .expressions import TEMPORARY
from .scope import MISSING, Scope
from .values import clean, summary


@dataclass
class Asked:
    """An answer: the value's summary, or an error in one sentence."""

    told: dict[str, Any] | None = None
    error: str = ""
    printed: str = ""
    value: Any = MISSING
    for_good: bool = False
    seconds: float = 0.0


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


def _error(e: BaseException) -> str:
    try:
        text = clean(str(e), 300)
    except Exception:
        text = ""
    return f"{type(e).__name__}: {text}" if text else type(e).__name__


def _namespace(frame: types.FrameType) -> dict[str, Any]:
    scope = Scope(frame)
    return {**scope.globals, **scope.locals, "__builtins__": scope.builtins}


def answer_in_trial(text: str, frame: types.FrameType) -> Asked:
    """Evaluates in a copy of the script; nothing that it does is kept."""
    try:
        code, is_expression = _compile(text)
    except (SyntaxError, ValueError) as e:
        return Asked(error=_syntax(e) if isinstance(e, SyntaxError) else f"{e}.")
    began = time.perf_counter()

    def work() -> dict[str, Any]:
        names = _namespace(frame)
        try:
            if is_expression:
                return {"told": summary(eval(code, names))}
            kept = dict(names)
            exec(code, names)
            if RESULT in names:
                return {"told": summary(names[RESULT])}
            changed = [n for n, v in names.items() if n not in kept or kept[n] is not v]
            shown = [f"{n} = {summary(names[n])['text']}" for n in changed if n != "__builtins__"]
            return {"told": {"text": "; ".join(shown) or "done", "type": ""}}
        except BaseException as e:
            return {"failed": _error(e)}

    try:
        answer = trial.run(work)
    except trial.Impossible as e:
        return Asked(error=f"No trial can be made now: {e}. Begin with ! to do it for good.")
    seconds = time.perf_counter() - began
    printed = answer.get("printed", "")
    if "failed" in answer:
        return Asked(error=answer["failed"], printed=printed, seconds=seconds)
    return Asked(answer["told"], printed=printed, seconds=seconds)


def answer_for_good(text: str, frame: types.FrameType) -> Asked:
    """Evaluates in the paused call itself; names that it sets stay set."""
    try:
        code, is_expression = _compile(text)
    except (SyntaxError, ValueError) as e:
        return Asked(error=_syntax(e) if isinstance(e, SyntaxError) else f"{e}.")
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
        return Asked(error=_error(e), printed=printed.getvalue(), for_good=True)
    seconds = time.perf_counter() - began
    told = summary(value) if is_expression else {"text": "done", "type": ""}
    return Asked(
        told, printed=printed.getvalue(), value=value if is_expression else MISSING, for_good=True, seconds=seconds
    )


def _in_call(code: types.CodeType, is_expression: bool, frame: types.FrameType) -> Any:
    held = frame.f_locals  # taken once: before 3.13 reading it again would lose what was written
    names: dict[str, Any] = {**frame.f_globals, **{n: v for n, v in held.items() if not n.startswith(TEMPORARY)}}
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


def completions(text: str, scope: Scope) -> list[dict[str, Any]]:
    """Names, attributes and keys that may follow a text."""
    start = len(text)
    while start and (text[start - 1].isalnum() or text[start - 1] in "_."):
        start -= 1
    word = text[start:]
    owner_text, dot, begin = word.rpartition(".")
    if dot:
        from . import judge

        try:
            owner = judge.read(ast.parse(owner_text, mode="eval").body, scope)
        except (judge.Unreadable, SyntaxError):
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
