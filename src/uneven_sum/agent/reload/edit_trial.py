"""Tries another version of a statement in a paused call: its terms and what it would change, in copies."""

from __future__ import annotations

import ast
import textwrap
import types

from ..core.text import error_text
from ..diagnosis.decompose import Decomposed
from ..frames.namespace import Scope
from ..pause.facts import whole_of
from ..pause.report import _also, culprit_dict, term_dict
from ..source.source_file import SourceFile
from ..trials import snapshot_diff, trial
from ..values.describe import summary

HEAD = "async def _():\n while True:\n"  # so that return, await and continue may stand in what is tried


LEFT = {ast.Continue: "the pass is left out", ast.Break: "the loop is left", ast.Return: "the call is left"}


class _Left(Exception):
    """The statements after this one do not run; the text says why."""


class Unparsable(ValueError):
    """What was typed is no Python; the text says where."""


def parse(text: str) -> tuple[SourceFile, list[ast.stmt]]:
    """The statements of a text, which may be the head of a compound one.  Unparsable when it is none."""
    body = textwrap.dedent(text.expandtabs(4)).strip("\n").rstrip()
    if not body.strip():
        raise Unparsable("There is no statement.")
    tries = [body]
    if body.startswith("elif"):
        body = body[2:]
    if body.split(None, 1)[0] in ("if", "while", "for", "with", "async", "match"):
        tries = [body, f"{body}\n    pass", f"{body}:\n    pass"]
    problem: SyntaxError | ValueError | None = None
    for one in tries:
        data = (HEAD + textwrap.indent(one, "  ")).encode()
        try:
            file = SourceFile("<tried>", data)
            function = file.tree.body[0]
            assert isinstance(function, ast.AsyncFunctionDef)
            loop = function.body[0]
            assert isinstance(loop, ast.While)
            return file, loop.body
        except (SyntaxError, ValueError) as e:
            problem = problem or e
    line = (getattr(problem, "lineno", None) or 3) - 2
    raise Unparsable(f"Line {max(1, line)} is not Python: {getattr(problem, 'msg', problem)}.")


def tried(text: str, frame: types.FrameType) -> dict[str, object]:
    """For each statement its terms, and what all together would change.

    Returns {"statements": [{"text", "terms", "culprit", "value"}], "changed", "failed"}.  Unparsable, and
    `trial.Impossible` where no copy can be made.
    """
    file, statements = parse(text)
    found = [_taken_apart(file, statements, number, frame) for number in range(len(statements))]

    def work() -> dict[str, object]:
        names = _names(frame)
        scope = Scope(frame)
        before = snapshot_diff.NamesBefore({**scope.globals, **scope.locals})
        kept = dict(names)
        answer: dict[str, object] = {"failed": ""}
        try:
            for node in statements:
                _run(node, names)
        except _Left:
            pass
        except BaseException as e:
            answer["failed"] = error_text(e)
        new = {n: v for n, v in names.items() if n not in kept or kept[n] is not v}
        answer["changed"] = snapshot_diff.sentence(before.differences({**frame.f_globals, **scope.locals, **new}))
        return answer

    outcome = trial.run(work)
    return {
        "statements": found,
        "changed": outcome.get("changed", ""),
        "failed": outcome.get("failed", ""),
        "refused": outcome.get("refused", []),
    }


def _names(frame: types.FrameType) -> dict[str, object]:
    scope = Scope(frame)
    return {**scope.globals, **scope.locals, "__builtins__": scope.builtins}


def _run(node: ast.stmt, names: dict[str, object]) -> None:
    """Runs a statement; of a compound one but `if`, and of `return`, only its expression."""
    if isinstance(node, ast.If):
        test = eval(compile(ast.Expression(node.test), "<tried>", "eval"), names)
        for one in node.body if test else node.orelse:
            _run(one, names)
            if type(one) in LEFT:
                raise _Left(LEFT[type(one)])
    elif isinstance(node, (ast.Return, ast.While, ast.For, ast.With, ast.Match)):
        for part in [whole_of(node), *_also(node)]:
            if part is not None:
                # mypy: `part` is an expression
                eval(compile(ast.Expression(part), "<tried>", "eval"), names)  # type: ignore[arg-type]
    elif not isinstance(node, (ast.Break, ast.Continue, ast.Pass, ast.Global, ast.Nonlocal)):
        exec(compile(ast.Module([node], []), "<tried>", "exec"), names)


def _taken_apart(
    file: SourceFile, statements: list[ast.stmt], number: int, frame: types.FrameType
) -> dict[str, object]:
    """The terms of one statement, after those before it have run: all of it in a copy."""
    node = statements[number]
    told: dict[str, object] = {"text": file.segment(node).split("\n")[0], "terms": [], "culprit": None, "value": ""}
    root = whole_of(node)
    if root is None:
        return told

    def work() -> dict[str, object]:
        names = _names(frame)
        try:
            for earlier in statements[:number]:
                _run(earlier, names)
        except _Left as e:
            return {"terms": [], "culprit": None, "value": f"does not run: {e}"}
        except BaseException:
            pass  # `tried` tells it
        scope = Scope(frame)
        scope.locals = {n: v for n, v in names.items() if n != "__builtins__"}
        apart = Decomposed(file, root, scope, also=_also(node), may_call=True)
        return {
            "terms": [term_dict(file, t) for t in apart.terms],
            "culprit": culprit_dict(file, apart.culprit()),
            "value": summary(apart.root.value)["text"] if apart.root.known else apart.root.note,
        }

    answer = trial.run(work)
    if "failed" in answer:
        return {**told, "value": answer["failed"]}
    return {**told, **{k: answer[k] for k in ("terms", "culprit", "value")}}
