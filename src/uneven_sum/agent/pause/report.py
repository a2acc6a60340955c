"""Composes what a pause says: the headline, the trail, the loops, the terms and the culprit."""

from __future__ import annotations

import ast
import types
from collections.abc import Iterator
from typing import Any

from ..core import run_state
from ..core.markers import MISSING, TRIPS
from ..core.text import clean, str_of
from ..diagnosis import (
    assertions,
    error_causes,
    gaps,
    hidden_names,
    near_names,
    none_notes,
    provenance,
    text_notes,
    unassigned_names,
    unpacking,
)
from ..diagnosis.culprit import NOT_EVALUATED, Culprit, Term
from ..diagnosis.decompose import CODE_OF_THE_SCRIPT, THREADS_OF_POLARS, Decomposed
from ..diagnosis.reasons import AT_EDGE, NONE, Reason
from ..frames import stack
from ..frames.exception_handlers import instruction_place, statement_at
from ..frames.namespace import Scope
from ..source import registry
from ..source.sites import callee, read_from
from ..source.source_file import COMPREHENSIONS, SourceFile, Statement, is_compound
from ..trials import trial
from ..values import nonfinite
from ..values.describe import summary, text_of
from . import recursion
from .facts import Pause, whole_of
from .failed_part import own_scope, place_raised, raised_anywhere, raised_term, targets_of, where_raised, with_target
from .headline import headline

PATTERN_LIMIT = 2.0  # seconds to find how far a pattern went


def term_dict(file: SourceFile, term: Term) -> dict[str, object]:
    base = {"depth": term.depth, "text": file.segment(term.node), "culprit": term.culprit, "how": term.how}
    if not term.known:
        return {**base, "value": term.note, "type": "", "shape": None, "dtype": None, "nonfinite": 0}
    told = summary(term.value)
    return {
        **base,
        "value": told["text"],
        "type": told["type"],
        "shape": told["shape"],
        "dtype": told["dtype"],
        "nonfinite": told["nonfinite"],
    }


def _operand_text(value: object, why: Reason) -> str:
    if isinstance(value, float) and why.kind in AT_EDGE:
        return repr(float(value))
    return "no such row" if value is MISSING else text_of(value)


def culprit_dict(file: SourceFile, found: Culprit | None) -> dict[str, object] | None:
    if found is None:
        return None
    term = term_dict(file, found.term)
    return {
        "text": term["text"],
        "value": term["value"],
        "type": term["type"],
        "cell": found.cell,
        "operands": [{"text": t, "value": _operand_text(v, found.reason)} for t, v in found.operands],
        "reason": found.reason.text,
        "reason_kind": found.reason.kind,
        "near": list(found.reason.near),
        "shapes": [list(shape) for shape in found.reason.shapes],
        "element": found.element,
        "part": found.part,
        "sender": found.sender,
        "made": found.made,
    }


def trail(calls: list[types.FrameType], left: dict[int, int]) -> list[dict[str, object]]:
    """The user's calls from the outermost to the paused one.  `left`: the lines by which the exception left calls."""
    return [
        {
            "file": registry.path_of(call),
            "line": left.get(id(call)) or stack.line_of(call),
            "function": stack.function_name(call),
            "old": registry.is_old(call),
            "text": _print(call),
            "arguments": stack.arguments(call) if stack.function_name(call) != "<module>" else "",
        }
        for call in reversed(calls)
    ]


def _print(call: types.FrameType) -> int:
    file = registry.file_of(call)
    return file.print if file is not None else 0


def examine(pause: Pause, may_fork: bool = True) -> dict[str, Any]:
    """Takes the paused statement apart (see `_examine`); where its expression does not have what raised, only that."""
    found = _examine(pause, may_fork)
    if found["culprit"] is not None or pause.exception is None:
        return found
    term = raised_anywhere(pause)
    if term is None or term is pause.expression:
        return found
    whole, pause.expression = pause.expression, term
    alone = _examine(pause, may_fork)
    if alone["culprit"] is None:
        pause.expression = whole
        return found
    return alone


def _examine(pause: Pause, may_fork: bool) -> dict[str, object]:
    """Takes an expression apart: in a trial if it calls something, else in place.

    Returns {"terms", "culprit", "kind", "differs", "raised", "left out", "sure", "trial"}; `kind` None when nothing
    here is at fault, `sure` when all operands of the culprit are known, "left out" when a term would wait for threads
    that a copy has not.
    """
    frame, statement = pause.frame, pause.statement
    assert frame is not None
    file = registry.file_of(frame)
    root = pause.expression
    if root is None and statement is not None:
        root = whole_of(statement.node)
    if file is None or root is None:
        return {
            **{"terms": [], "culprit": None, "kind": None, "differs": "", "trial": ""},
            **{"raised": False, "left out": False, "sure": False, "gap": False, "whole": False, "callee": ""},
        }
    whole = root
    inner: types.FrameType | None = None
    raised: ast.AST | None = None
    untrue = _is_untrue(pause)
    if pause.exception is not None and not untrue:
        raised, inner = raised_term(pause, root)
        root = own_scope(root, raised)
    also = _also(statement.node) if statement is not None and root is whole_of(statement.node) else []
    stored = _stored(statement.node, raised) if statement is not None else None
    store: tuple[ast.expr, bool] | None = None
    if stored is not None:  # what was to be stored, then where
        target, root, looped = stored
        store, also = (target, looped), [raised or target]

    def scope() -> Scope:
        if inner is not None:
            return Scope(inner, frame)
        found = Scope(frame)
        if raised is not None and root is not whole:
            _bind_elements(file, frame, statement, whole, raised, found)
        return found

    def take(may_call: bool) -> dict[str, Any]:
        actual = pause.actual
        apart = Decomposed(
            file,
            root,
            scope(),
            also=also,
            actual=actual,
            raised=raised,
            failed=pause.exception,
            ran=pause.reason in TRIPS,
            was_bad=pause.was_bad,
            may_call=may_call,
            met=lambda: run_state.met,
            before_call=keep,
        )
        found = apart.culprit() or (assertions.culprit(apart) if untrue else None)
        if found is not None and pause.exception is not None and not untrue:
            known = NONE
            if store and apart.root.known and not isinstance(apart.root.node, ast.Constant):
                found.operands, known = _unpacked(pause, apart, file, found, *store)
            if not known.text:
                known = error_causes.why(pause.exception, found, whole, scope(), file.segment, may_call)
            if isinstance(pause.exception, (AttributeError, NameError)) and statement is not None:
                elsewhere = unassigned_names.of_name(pause.exception, found.term.node, file, statement)
                elsewhere = elsewhere if elsewhere.text else unassigned_names.of_attribute(pause.exception)
                known = elsewhere if elsewhere.text and known.kind != "hides-module" else known
            if isinstance(pause.exception, (AttributeError, TypeError)) and statement is not None:
                no_match = _no_match(apart, found, file, statement, scope())
                known = Reason(text=no_match) if no_match else known
            found.reason = known if known.text else found.reason
        if found is not None and found.kind is None and found.term.known and not found.operands:
            found.operands = [(file.segment(found.term.node), found.term.value)]
        if found is not None and found.made and nonfinite.count(found.term.value) != nonfinite.count(actual):
            found.made = 0  # another term has made more
        return {
            "terms": [term_dict(file, t) for t in apart.terms],
            "culprit": culprit_dict(file, found),
            "kind": found.kind if found else None,
            "differs": apart.differs or apart.raised_again,
            "raised": bool(apart.raised_again),
            "left out": any(term.note == THREADS_OF_POLARS for term in apart.terms),
            "gap": found is not None and _left_gaps(found, apart, scope()),
            "whole": found is not None and found.term.node in (apart.root.node, read_from(apart.root.node)),
            "why": found.reason.text if found is not None else "",
            "callee": callee(found.term.node) if found is not None and isinstance(found.term.node, ast.Call) else "",
            "sure": found is not None and all(child.known for child in found.term.children),
        }

    def keep(apart: Decomposed, term: Term) -> None:
        trial.so_far(lambda: {"terms": [term_dict(file, t) for t in apart.terms], "at": file.segment(term.node)})

    has_calls = any(isinstance(n, _CALLS) for one in [root, *also] for n in ast.walk(one))
    if not has_calls:
        found = take(False)
        if not any(t["value"] == CODE_OF_THE_SCRIPT for t in found["terms"]):
            return {**found, "trial": ""}
    why = ""
    if may_fork:
        try:
            answer = trial.run(lambda: take(True))
            if "failed" not in answer:
                return {**answer, "trial": ""}
            why = answer["failed"]
            if "so far" in answer:
                found = take(False)
                _fill_in(found["terms"], answer["so far"]["terms"])
                short = clean(answer["so far"]["at"], 60)
                return {**found, "trial": f"Evaluated again as far as {short}; there {why}."}
        except trial.Impossible as e:
            why = str(e)
    found = take(False)
    left = any(not t["type"] and t["value"].startswith(NOT_EVALUATED) for t in found["terms"])
    return {**found, "trial": f"Calls were not evaluated again: {why}." if why and left else ""}


def _no_match(apart: Decomposed, found: Culprit, file: SourceFile, statement: Statement, names: Scope) -> str:
    """Where a match is None that is used: how far its pattern went."""
    for term in apart.terms:
        if term.how.startswith(text_notes.NO_MATCH):
            return term.how
    return _none_from_match(found.term.node, file, statement, names)


def _none_from_match(node: ast.AST, file: SourceFile, statement: Statement, names: Scope) -> str:
    """Which name in an expression is None since a pattern did not match, and how far that went."""
    used = [n.id for n in ast.walk(node) if isinstance(n, ast.Name) and n.id in names and names[n.id] is None]
    if not used:
        return ""
    for name in used:
        if note := none_notes.of_name(name, file, statement, names):
            return note

    def look() -> dict[str, Any]:
        return {"said": [text_notes.of_name(name, file, statement, names) for name in used]}

    try:  # in a copy: a pattern may take for ever
        said = look() if run_state.in_trial else trial.run(look, PATTERN_LIMIT)
    except trial.Impossible:
        return ""
    if "failed" in said:
        return f"How far the pattern went is not known: {said['failed']}"
    return next(filter(None, said["said"]), "")


def _left_gaps(found: Culprit, apart: Decomposed, scope: Scope) -> bool:
    """True for a library call that left cells empty though its operands were complete."""
    node = found.term.node
    if found.kind != provenance.CREATED or not isinstance(node, ast.Call):
        return False
    return gaps.is_gap(
        node, error_causes.called(node, scope), found.term.value if found.term.known else apart.root.value
    )


def _fill_in(terms: list[dict[str, Any]], others: list[dict[str, Any]]) -> None:
    """Gives terms that are not known the values of the same ones among `others`; both are in the same order."""
    known: dict[tuple[int, str], list[dict[str, object]]] = {}
    for term in others:
        known.setdefault((term["depth"], term["text"]), []).append(term)
    for term in terms:
        same = known.get((term["depth"], term["text"]))
        found = same.pop(0) if same else None
        if found is not None and found["type"] and not term["type"]:
            term.update({**found, "culprit": term["culprit"]})


_CALLS = (ast.Call, ast.ListComp, ast.SetComp, ast.DictComp, ast.GeneratorExp, ast.Attribute, ast.JoinedStr)


def _also(node: ast.stmt) -> list[ast.AST]:
    """What else of a statement is looked at: further `with` items, and targets whose index is computed."""
    found: list[ast.AST] = [i.context_expr for i in getattr(node, "items", [])[1:]]
    if isinstance(node, ast.Assign):
        for target in node.targets:
            for part in target.elts if isinstance(target, (ast.Tuple, ast.List)) else [target]:
                if isinstance(part, ast.Subscript) and not isinstance(part.slice, (ast.Constant, ast.Name, ast.Slice)):
                    found.append(part)
    if isinstance(node, ast.Delete):
        found += node.targets[1:]
    return found


def _stores(node: ast.stmt) -> Iterator[tuple[ast.expr, ast.expr, bool]]:
    """What a statement stores in: the target, the values, and whether those are taken one after another, by a loop or
    a comprehension."""
    for target in targets_of(node):
        looped = isinstance(node, ast.For)
        yield target, node.iter if looped else node.value, looped  # type: ignore[attr-defined]  # they have them
    for inner in ast.walk(node) if not is_compound(node) else ():
        if isinstance(inner, COMPREHENSIONS):
            yield inner.generators[0].target, inner.generators[0].iter, True


def _stored(node: ast.stmt, raised: ast.AST | None) -> tuple[ast.expr, ast.expr, bool] | None:
    """Where storing raised: one of `_stores`."""
    for store in _stores(node) if raised is not None else ():
        if any(n is raised for n in ast.walk(store[0])):
            return store
    return None


def _unpacked(
    pause: Pause, apart: Decomposed, file: SourceFile, found: Culprit, target: ast.expr, looped: bool
) -> tuple[list[tuple[str, object]], Reason]:
    """The operands of a culprit that is a target, and why its value cannot be stored there."""
    statement, exc = pause.statement, pause.exception
    assert statement is not None and exc is not None and pause.frame is not None
    node, failed = apart.root.node, found.term.node
    whole = (file.segment(node), apart.root.value)
    if not isinstance(failed, (ast.Tuple, ast.List)):  # `cells[k] = …`: its own parts count
        return [*found.operands, *([] if looped else [whole])], NONE
    value: unpacking.Part | None = whole
    if looped:
        loops = stack.loops(pause.frame, statement, place_raised(pause), lengths=False)
        value = unpacking.element(*whole, loops[0]["pass"] if loops else 0)
    if value is None:
        return [whole], NONE
    one = unpacking.part(value[0], None if looped else node, value[1], target, failed)
    return [one], unpacking.reason(exc, whole if looped else None, one)


def _is_untrue(pause: Pause) -> bool:
    """Whether it is the assertion itself that raised, not what it calls."""
    tb = where_raised(pause)
    node = pause.statement.node if pause.statement is not None else None
    return tb is not None and tb.tb_next is None and assertions.failed(node, pause.exception)


def _bind_elements(
    file: SourceFile, frame: types.FrameType, statement: Statement | None, whole: ast.AST, raised: ast.AST, scope: Scope
) -> None:
    """From 3.12 on a comprehension that raised has forgotten its names: the element under way is read again
    from what it goes over, where that is a sequence."""
    for node in ast.walk(whole):
        if isinstance(node, COMPREHENSIONS) and any(n is raised for n in ast.walk(node)):
            first = node.generators[0]
            done, _ = stack.passes(file, frame, node, False)
            if isinstance(first.target, ast.Name) and first.target.id not in scope.locals and done:
                try:
                    scope.locals[first.target.id] = provenance.read(first.iter, scope)[done - 1]
                except Exception:
                    pass  # not a sequence that can be read: the name stays unknown


def _accepts(pause: Pause, apart: dict[str, object]) -> list[str]:
    """What else than the line can be accepted at a non-finite pause: a callee, names."""
    if pause.reason != "nonfinite" or pause.statement is None:
        return []
    node = pause.statement.node
    targets = [*getattr(node, "targets", []), *([node.target] if hasattr(node, "target") else [])]
    names = sorted({name for target in targets for name in gaps.stored_names(target)})
    found = [f"calls of {apart['callee']}"] if apart.get("callee") else []
    return [*found, *(f"values of {name}" for name in names)]


def _loops_of(call: types.FrameType) -> list[dict[str, object]]:
    file = registry.file_of(call)
    return stack.loops(call, statement_at(file, call)) if file else []


def _left_by(pause: Pause, file: SourceFile, frame: types.FrameType) -> Statement | None:
    """The statement by which the exception has left a call: that itself may be at the end of its guard."""
    tb = stack.traceback_from(pause.exception, frame) if pause.dead and pause.exception is not None else None
    if tb is None:
        return None
    place = instruction_place(frame.f_code, tb.tb_lasti)
    return file.innermost(tb.tb_lineno, place[1] if place is not None and place[0] == tb.tb_lineno else None)


def _lines_left(pause: Pause) -> dict[int, int]:
    """The lines by which the exception has left calls that have ended, and the one that it is in."""
    found: dict[int, int] = {}
    tb = pause.exception.__traceback__ if pause.dead and pause.exception is not None else None
    while tb is not None:
        found[id(tb.tb_frame)] = tb.tb_lineno
        tb = tb.tb_next
    return found


def compose(pause: Pause, may_fork: bool = True, apart: dict[str, Any] | None = None) -> dict[str, object]:
    """Everything about a pause, as `uneven-sum check --json` and the Bench show it."""
    live = pause.frame
    assert live is not None
    if pause.dead:  # told from inside, where it was raised
        pause.frame, pause.statement = pause.dead[0], None
    frame = pause.frame
    assert frame is not None
    file = registry.file_of(frame)
    if pause.statement is None and file is not None:
        pause.statement = _left_by(pause, file, frame) or statement_at(file, frame)
    statement = pause.statement
    if pause.past:
        loops = [found for call in pause.past for found in _loops_of(call)]
    elif pause.dead:
        loops = stack.all_loops(frame) + stack.all_loops(live)
    else:
        loops = stack.all_loops(frame, place_raised(pause))
    if apart is None:
        apart = {"terms": [], "culprit": None, "differs": "", "trial": ""}
        if pause.reason in TRIPS or pause.exception is not None:
            if pause.exception is not None and pause.expression is None:
                pause.expression = with_target(pause)
            apart = examine(pause, may_fork)
            if pause.exception is not None and _is_untrue(pause) and not apart["differs"]:
                _, said = assertions.messages(str_of(pause.exception))  # of the values that it really met
                apart["differs"] = f"pytest: {clean(said, 200)}" if said else ""
        elif pause.finding is not None and pause.expression is not None:
            apart = examine(pause, may_fork) | {"culprit": None}
    if isinstance(pause.exception, AttributeError) and apart["culprit"] is None and file is not None:
        if statement is not None:
            pause.why = pause.why or _none_from_match(statement.node, file, statement, Scope(frame))
    if isinstance(pause.exception, ImportError) and apart["culprit"] is None:
        named = hidden_names.of_import(pause.exception) or near_names.of_import(pause.exception)
        pause.why = pause.why or named
    pause.frame = live
    if isinstance(pause.exception, RecursionError):
        pause.why = pause.why or recursion.told(pause.calls())
    line = pause.line if statement else stack.line_of(frame)
    left = _lines_left(pause)
    if pause.exception is not None and statement is not None and is_compound(statement.node) and not pause.dead:
        left[id(frame)] = line  # the call itself is at the guard of the whole statement
    elif pause.state == "ran" and statement is not None:
        left[id(frame)] = line  # the call itself is at what follows
    text = file.statement_text(statement) if file and statement else ""
    clause = pause.clause
    if clause[0] and file is not None:
        text = "\n".join(file.lines[clause[0] - 1 : clause[1]]).strip()
    return {
        "reason": pause.reason,
        "kind": pause.kind,
        "state": pause.state,
        "headline": headline(pause, loops, apart["culprit"]),
        "exception": None
        if pause.exception is None
        else {"type": type(pause.exception).__name__, "message": clean(str_of(pause.exception), 1000)},
        "warnings": pause.warnings,
        "file": registry.path_of(frame),
        "line": line,
        "end_line": statement.node.end_lineno if statement and not is_compound(statement.node) else clause[1] or line,
        "function": stack.function_name(frame),
        "statement": text,
        "trail": trail(pause.calls(registry.file_of(live) is None), left),
        "loops": loops,
        "culprit": apart["culprit"],
        "terms": apart["terms"],
        "differs": apart["differs"],
        "trial": apart["trial"],
        "retry": pause.can_retry,
        "replace": pause.can_replace,
        "lookout": pause.lookout,
        "finding": pause.finding,
        "source_text": file.text if file is not None and file.shown not in ("", file.path) else "",
        "accepts": _accepts(pause, apart),
        "returned": None if pause.returned is MISSING else text_of(pause.returned),
    }
