"""What the user expects of a value, in words, held against what it is.

head will be 0.4                  equal; numbers within a relative 1e-9
flow.sum() is near 12.3 ± 0.1     within the tolerance
volume stays between 0 and 5e6    within the bounds, these included
head > 0                          any expression that is true or false

Of arrays every cell must hold; nan never does.
"""

from __future__ import annotations

import ast
import re
import types
from typing import Any

from ..core import run_state
from ..core.records import record
from ..core.text import error_text
from ..frames.namespace import Scope
from ..values import nonfinite
from ..values.describe import text_of

CLOSE = 1e-9  # relative
FORMS = (
    ("near", r"(.+?)\s+(?:will be|is|stays)\s+near\s+(.+?)\s*(?:±|\+-|\+/-)\s*(.+)"),
    ("between", r"(.+?)\s+(?:will be|will stay|stays|is)\s+between\s+(.+?)\s+and\s+(.+)"),
    ("equal", r"(.+?)\s+will be\s+(.+)"),
)


class Unclear(ValueError):
    """An expectation that cannot be read."""


@record
class Expectation:
    """`about` is looked at; `values` are what it is held against."""

    text: str
    form: str  # near, between, equal, true
    about: types.CodeType
    about_text: str
    values: list[types.CodeType]


def parse(text: str) -> Expectation:
    """Reads an expectation.  Unclear, with the reason, when it is none."""
    text = " ".join(text.split())
    for form, pattern in FORMS:
        found = re.fullmatch(pattern, text)
        if found is not None:
            about, *values = found.groups()
            return Expectation(text, form, _code(about), about, [_code(v) for v in values])
    node = _code(text)
    return Expectation(text, "true", node, text, [])


def _code(text: str) -> types.CodeType:
    try:
        tree = ast.parse(text.strip(), "<expected>", "eval")
    except (SyntaxError, ValueError) as e:
        told = getattr(e, "msg", e)
        raise Unclear(f"`{text}` is not an expression: {told}. Write `NAME will be VALUE`, `… is near V ± T`, "
                      "`… stays between A and B`, or a comparison.") from None  # fmt: skip
    if any(isinstance(n, (ast.NamedExpr, ast.Yield, ast.YieldFrom, ast.Await)) for n in ast.walk(tree)):
        raise Unclear("An expectation may not assign, yield or await.")
    return compile(tree, "<expected>", "eval", dont_inherit=True)


def held(expected: Expectation, frame: types.FrameType, facts: dict[str, object] | None = None) -> dict[str, object]:
    """Whether an expectation holds in a call: `text`, `holds`, `actual`, `problem`."""
    scope = Scope(frame)
    names = {**scope.globals, **scope.locals, **(facts or {}), "__builtins__": scope.builtins}
    told: dict[str, object] = {"text": expected.text, "holds": False, "actual": "", "problem": ""}
    quiet, run_state.quiet = run_state.quiet, True
    try:
        with run_state.silenced():
            value = eval(expected.about, names)
            told["actual"] = text_of(value)
            told["holds"] = _holds(expected.form, value, [eval(v, names) for v in expected.values])
            if expected.form == "true":
                told["actual"] = _sides(expected.text, names) or told["actual"]
    except Exception as e:
        told["problem"] = error_text(e)
    finally:
        run_state.quiet = quiet
    return told


def _holds(form: str, value: object, against: list[Any]) -> bool:
    if form == "true":
        return _all(value)
    if form == "between":
        return _all(against[0] <= value) and _all(value <= against[1])
    if form == "near":
        return _all(abs(value - against[0]) <= against[1])
    wanted = against[0]
    if isinstance(wanted, (str, bytes, bool, type(None))) or not _is_numeric(value) or not _is_numeric(wanted):
        return _all(value == wanted)
    if _shape(wanted) and _shape(value) != _shape(wanted):
        return False
    return _all(abs(value - wanted) <= CLOSE * abs(wanted))


def _is_numeric(value: object) -> bool:
    return isinstance(value, (int, float, complex)) or type(value).__module__.partition(".")[0] in ("numpy", "pandas")


def _shape(value: object) -> tuple[int, ...]:
    found = getattr(value, "shape", ())
    return found if isinstance(found, tuple) else ()


def _all(value: object) -> bool:
    """True for a truth, and for an array of nothing but truths."""
    np = nonfinite.module("numpy")
    if np is not None and hasattr(value, "all") and _shape(value):
        return bool(np.asarray(value).all())
    return bool(value)


def _sides(text: str, names: dict[str, object]) -> str:
    """The values of a comparison's parts: `head = -0.02`."""
    node = ast.parse(text, mode="eval").body
    if not isinstance(node, ast.Compare):
        return ""
    parts = [p for p in (node.left, *node.comparators) if not isinstance(p, ast.Constant)]
    told = [(ast.unparse(p), eval(_code(ast.unparse(p)), names)) for p in parts[:3]]
    return ", ".join(f"{t} = {text_of(v)}" for t, v in told)


def sentence(told: dict[str, Any]) -> str:
    """`head will be 0.4: it is 0.5`."""
    if told["problem"]:
        return f"{told['text']}: it cannot be told ({told['problem']})"
    return f"{told['text']}: {'it is' if '=' not in told['actual'] else 'now'} {told['actual']}"
