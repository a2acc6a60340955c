"""Values that the user sets: checked for type and shape before, marked from then on."""

from __future__ import annotations

import ast
import types
from typing import Any

from ..frames import stack
from ..frames.namespace import Scope
from ..values.describe import summary
from . import trial


class Assignments:
    """What was set by hand: (call, name) -> the texts of what was set.  A call is known by its frame's identity; 0
    stands for a module."""

    def __init__(self) -> None:
        self.all: dict[tuple[int, str], list[str]] = {}

    def note(self, frame: types.FrameType, text: str) -> None:
        """Marks what statements or a target have set: names, and owners of attributes and elements."""
        for name, target in _targets(text):
            local = name in frame.f_code.co_varnames + frame.f_code.co_cellvars + frame.f_code.co_freevars
            told = self.all.setdefault((id(frame) if local else 0, name), [])
            if target not in told:
                told.append(target)

    def mark(self, cards: list[dict[str, object]], frame: types.FrameType) -> None:
        for card in cards:
            local = (id(frame), card["name"]) in self.all
            card["hand"] = local or (card["name"] not in frame.f_code.co_varnames and (0, card["name"]) in self.all)

    def told(self, frame: types.FrameType | None) -> list[str]:
        """What is set by hand in the calls of now; what was set in calls that are gone is forgotten."""
        present = {id(f) for f in stack.calls(frame, True)} | {0}
        self.all = {key: texts for key, texts in self.all.items() if key[0] in present}
        return list(dict.fromkeys(text for texts in self.all.values() for text in texts))


def _targets(text: str) -> list[tuple[str, str]]:
    """(name, as written) of what a piece of Python assigns."""
    found: list[tuple[str, str]] = []
    try:
        tree = ast.parse(text)
    except (SyntaxError, ValueError):
        return found
    for node in ast.walk(tree):
        targets: list[ast.AST] = list(getattr(node, "targets", []))
        if isinstance(node, (ast.AugAssign, ast.AnnAssign, ast.NamedExpr)):
            targets = [node.target]
        for target in targets:
            for part in target.elts if isinstance(target, (ast.Tuple, ast.List)) else [target]:
                inner: object = part
                while isinstance(inner, (ast.Attribute, ast.Subscript, ast.Starred)):
                    inner = inner.value
                if isinstance(inner, ast.Name):
                    found.append((inner.id, ast.unparse(part)))
    return found


NUMBERS = ("int", "float", "complex", "bool", "Decimal", "Fraction")


def _is_number(told: dict[str, object]) -> bool:
    kind = str(told["type"])
    return kind.rpartition(".")[2] in NUMBERS or (kind.startswith("numpy.") and told["kind"] == "scalar")


def misfit(target: str, text: str, frame: types.FrameType) -> str:
    """What speaks against putting a value in a place: another type, shape or dtype than now; empty when it fits, or
    when nothing is there yet.  Tried in a copy: ValueError with the sentence when the value cannot be had or put."""
    scope = Scope(frame)
    names: dict[str, object] = {**scope.globals, **scope.locals, "__builtins__": scope.builtins}

    def work() -> dict[str, object]:
        answer: dict[str, object] = {}
        try:
            answer["old"] = summary(eval(target, names))
        except Exception:
            answer["old"] = None
        try:
            names["·value"] = eval(text, names)
            exec(compile(_put(target), "<set>", "exec"), names)
            answer["new"] = summary(eval(target, names))
        except Exception as e:
            answer["failed"] = f"{type(e).__name__}: {e}"
        return answer

    try:
        told = trial.run(work)
    except trial.Impossible:
        return ""
    if "failed" in told:
        raise ValueError(str(told["failed"]))
    old, new = told["old"], told["new"]
    if old is None or (_is_number(old) and _is_number(new)):
        return ""
    for label in ("type", "shape", "dtype"):
        if old[label] != new[label]:
            return f"{target} is {_like(old)}, and would be {_like(new)}"
    return ""


def _put(target: str) -> ast.Module:
    tree = ast.parse(f"{target} = _")
    step = tree.body[0]
    assert isinstance(step, ast.Assign)
    step.value = ast.copy_location(ast.Name("·value", ast.Load()), step.value)
    return tree


def _like(told: dict[str, Any]) -> str:
    if told["shape"] is not None:
        return f"{told['type']} of shape {tuple(told['shape'])}{' and ' + told['dtype'] if told['dtype'] else ''}"
    return f"{told['type']}"
