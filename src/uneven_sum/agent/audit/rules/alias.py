"""`alias`: one list, dict or array under two names, where each was meant to have its own."""

from __future__ import annotations

import ast
import gc
import types
from typing import TYPE_CHECKING, Any

from ...core.data_types import Array
from ...core.type_identity import is_one_of
from ...frames import stack
from ...frames.exception_handlers import statement_at
from ...frames.namespace import locals_of
from ...source import registry
from ...source.cells import place_words
from ...source.source_file import SourceFile, Statement, position
from ...values import nonfinite
from ..finding import Place
from .base import Rule

if TYPE_CHECKING:
    from ..auditor import Auditor

MUTABLE = (list, dict, set)


CHANGES = (  # what the name or docstring of a function says that is there to change its argument
    *("update", "fill", "set", "add", "apply", "place", "sort", "shuffle", "swap", "init", "push", "insert", "step"),
    *("advance", "assign", "clear", "write", "load", "modif", "mutat", "chang", "append", "put", "reset", "evolve"),
)
MOST = 1_000  # rows that are kept alive to be known again
LOOKS = 40  # at a place, for other names


class Alias(Rule):
    """`[row] * n` whose rows are stored into, a default argument that grew, and a change in place of what another name,
    which is read afterwards, stands for too.

    What a function is there to change (its name or docstring says so, or it returns nothing) is a question.
    """

    NAME = "alias"
    AT_ONCE = False
    TAKES = frozenset({"array", "frame", "container", "other"})
    WANTS = ("mul", "store", "changed", "call:fromkeys")

    def __init__(self, auditor: Auditor) -> None:
        super().__init__(auditor)
        self.shared: dict[int, tuple[object, int, int]] = {}  # by id: the row, the place of the `*`, how often it is in
        self.empty: list[tuple[Any, int, int]] = []  # the same for rows that were empty
        self.looks: dict[int, int] = {}  # by place

    def operator(self, name: str, a: object, b: object, result: object, site: int) -> None:
        listed, times = (a, b) if type(a) is list else (b, a)
        if type(listed) is not list or type(times) is not int or times < 2 or len(listed) > 8:
            return
        np = nonfinite.module("numpy")
        for row in listed:
            if is_one_of(type(row), *MUTABLE) or (np is not None and type(row) is np.ndarray):
                self._share(row, site, times)

    def _share(self, row: object, site: int, times: int) -> None:
        if len(self.shared) >= MOST:
            del self.shared[next(iter(self.shared))]
        self.shared[id(row)] = (row, site, times)
        if is_one_of(type(row), *MUTABLE) and not row and len(self.empty) < MOST:
            self.empty.append((row, site, times))

    def call(self, function: object, args: Any, named: object, result: Any, site: int) -> None:
        """`dict.fromkeys(keys, [])`: all keys have the same list."""
        if len(args) == 2 and is_one_of(type(args[1]), *MUTABLE) and is_one_of(type(result), dict) and len(result) > 1:
            self._share(args[1], site, len(result))

    def changed(self, target: object, site: int) -> None:
        node = self.auditor.place(site).node
        if isinstance(node, ast.AugAssign) and isinstance(node.target, ast.Name):
            self._look(target, node.target.id, site, whole=True)
        elif isinstance(node, ast.AugAssign) and isinstance(node.target, ast.Attribute):
            self._look_further_out(target, site)

    def store(self, target: object, index: object, value: object, site: int) -> None:
        node = self.auditor.place(site).node
        if not isinstance(node, ast.Subscript):
            return
        if isinstance(node.value, ast.Name):
            self._look(target, node.value.id, site, whole=False)
        elif isinstance(node.value, ast.Attribute) and node.value.attr in ("loc", "iloc", "at", "iat"):
            if isinstance(node.value.value, ast.Name):
                name = node.value.value.id
                self._look(self.auditor.value_of(name), name, site, whole=False)

    # -- another name for what is changed ----------------------------------------------------------------

    def _look(self, target: object, name: str, site: int, whole: bool) -> None:
        """Look for other names of an object that has just been changed through `name`."""
        looks = self.looks[site] = self.looks.get(site, 0) + 1
        np, pd = nonfinite.module("numpy"), nonfinite.module("pandas")
        is_array = np is not None and type(target) is np.ndarray
        is_frame = pd is not None and isinstance(target, (pd.DataFrame, pd.Series))
        if looks > LOOKS or not (is_array or is_frame or is_one_of(type(target), *MUTABLE)):
            return
        frame = self.auditor.user_frame()
        if frame is None or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        here = locals_of(frame)
        if here is not frame.f_globals and not is_array:
            self._look_at_module(target, name, site, place, frame.f_globals)
        for other, value in list(here.items()):
            if other == name or not isinstance(other, str) or not other.isidentifier() or other.startswith("_"):
                continue
            if value is target:
                if _is_second_name(place, name, other) and _is_read(place, other):
                    self._tell(site, f"`{other}` is the same {_kind(target)}, and changes too", other, 0.85, False)
                    return
            elif is_array and whole and type(value) is np.ndarray and _is_part(np, target, value):
                if _is_second_name(place, name, other) and _is_read(place, other):
                    said = f"`{name}` is a part of `{other}`, whose cells change too"
                    self._tell(site, said, other, 0.7, True)
                    return
            elif is_one_of(type(value), list) and len(value) <= 1_000 and sum(v is target for v in value) > 1:
                if _is_read(place, other) and not is_one_of(type(target), dict):
                    times = sum(v is target for v in value)
                    said = f"`{other}` has this same {_kind(target)} {times} times, and all of them change"
                    self._tell(site, said, other, 0.85, False)
                    return
        self._look_at_caller(target, name, site, place, frame)

    def _look_further_out(self, target: object, site: int) -> None:
        """`self.state += 1.0`, where a caller has a name for that very array, which it reads later."""
        looks = self.looks[site] = self.looks.get(site, 0) + 1
        frame = self.auditor.user_frame()
        if looks > LOOKS or frame is None or self.auditor.has(self, site):
            return
        caller = stack.user_frame(frame.f_back)
        while caller is not None:
            file = registry.file_of(caller)
            outer = statement_at(file, caller) if file is not None else None
            for other, value in list(locals_of(caller).items()) if outer is not None else ():
                if value is target and isinstance(other, str) and other.isidentifier() and outer is not None:
                    if _is_read_later(outer, other):
                        at = place_words(file.path, caller.f_lineno) if file is not None else ""
                        said = f"`{other}` of a caller is the same {_kind(target)}, and changes too ({at})"
                        self._tell(site, said, other, 0.55, True)
                        return
            caller = stack.user_frame(caller.f_back)

    def _look_at_module(self, target: object, name: str, site: int, place: Place, around: dict[str, object]) -> None:
        """A name of the module that the function has given another name: `p = DEFAULTS`."""
        for node in ast.walk(place.scope):
            if (
                isinstance(node, ast.Assign)
                and isinstance(node.value, ast.Name)
                and around.get(node.value.id) is target
            ):
                if getattr(node.targets[0], "id", "") == name and not self.auditor.has(self, site):
                    said = f"`{node.value.id}` of the module is the same {_kind(target)}, and changes for all"
                    self._tell(site, said, node.value.id, 0.6, True)

    def _look_at_caller(self, target: object, name: str, site: int, place: Place, frame: types.FrameType) -> None:
        function = place.scope
        if not isinstance(function, (ast.FunctionDef, ast.AsyncFunctionDef)):
            return
        if name not in {a.arg for a in (*function.args.posonlyargs, *function.args.args, *function.args.kwonlyargs)}:
            return
        caller = stack.user_frame(frame.f_back)
        file = registry.file_of(caller) if caller is not None else None
        if caller is None or file is None:
            return
        returns = any(isinstance(n, ast.Return) and n.value is not None for n in ast.walk(function))
        said = f"{function.name} {ast.get_docstring(function) or ''}".lower()
        meant = not returns or any(word in said for word in CHANGES) or name in ("out", "self")
        if meant and not returns:
            return  # a procedure: it is there to change what it is given
        for other, value in list(locals_of(caller).items()):
            if value is target and isinstance(other, str) and other.isidentifier():
                outer = statement_at(file, caller)
                if outer is not None and _is_read_later(outer, other):
                    at = place_words(file.path, caller.f_lineno)
                    told = f"the caller's `{other}` is the same {_kind(target)}, and changes too ({at})"
                    self._tell(site, told, other, 0.6 if meant else 0.8, meant)
                    return

    def _tell(self, site: int, said: str, other: str, weight: float, question: bool) -> None:
        place = self.auditor.place(site)
        what = place.text.partition("\n")[0]
        what = what if isinstance(place.node, ast.AugAssign) else f"{what} = …"
        end = "Is that meant?" if question else "A copy() leaves it as it was."
        self.auditor.report(
            self,
            site,
            f"{what} changes its object in place: {said}. {end}",
            weight,
            question=question,
            evidence={"name": other},
        )

    # -- the same row in a list several times --------------------------------------------------------------

    def before_store(self, target: object, index: object, value: object, site: int) -> Any:
        known = self.shared.get(id(target))
        if known is None or known[0] is not target or self.auditor.has(self, known[1]):
            return
        place = self.auditor.place(known[1])
        store = self.auditor.place(site)
        kind, at = type(target).__name__, place_words(store.file, store.line)
        self.auditor.report(
            self,
            known[1],
            f"{place.text} has the same {kind} {known[2]:,} times: {store.text} = … at {at} changes all of them. "
            "[… for _ in range(n)] makes one each.",
            0.9,
            evidence={"times": known[2], "stored at line": store.line},
        )

    def finish(self) -> None:
        """Rows that were empty, and default arguments that are so in the source, and are not any longer."""
        for row, site, times in self.empty:
            if row and not self.auditor.has(self, site):
                place = self.auditor.place(site)
                self.auditor.report(
                    self,
                    site,
                    f"{place.text} has the same {type(row).__name__} {times:,} times: what was put into one is "
                    f"in all of "
                    "them. One each needs a comprehension.",
                    0.9,
                    evidence={"times": times, "elements": len(row)},
                )
        files = {name: file for name, file in registry.files.items()}
        for function in [f for f in gc.get_objects() if type(f) is types.FunctionType]:
            file = files.get(function.__code__.co_filename)
            defaults = function.__defaults__
            if file is None or not defaults:
                continue
            for node in ast.walk(file.tree):
                if (
                    isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef))
                    and node.name == function.__code__.co_name
                    and min([node.lineno, *(d.lineno for d in node.decorator_list)]) == function.__code__.co_firstlineno
                ):
                    self._defaults(file, node, defaults)

    def _defaults(
        self, file: SourceFile, node: ast.FunctionDef | ast.AsyncFunctionDef, defaults: tuple[Any, ...]
    ) -> None:
        names = [a.arg for a in (*node.args.posonlyargs, *node.args.args)][-len(defaults) :]
        for name, written, value in zip(names, node.args.defaults, defaults):
            empty = (isinstance(written, ast.List) and not written.elts) or (
                isinstance(written, ast.Dict) and not written.keys
            )
            if not empty or not is_one_of(type(value), list, dict) or not len(value):
                continue
            cached = any(word in name.lower() for word in ("cache", "memo", "known", "seen"))
            self.auditor.report_at(
                self,
                file,
                position(written),
                f"The default of `{name}` in {node.name} has grown to {len(value):,} elements: all calls share it. "
                f"{'Is that meant?' if cached else 'None as default, and a new one inside, gives each call its own.'}",
                0.85 if not cached else 0.4,
                question=cached,
                evidence={"elements": len(value), "argument": name},
            )


def _kind(value: object) -> str:
    return {"ndarray": "array", "DataFrame": "frame", "Series": "series"}.get(
        type(value).__name__, type(value).__name__
    )


def _is_part(np: types.ModuleType, part: Any, whole: Array) -> bool:
    """Whether one array is a view into another."""
    return part.size < whole.size and (part.base is whole or (part.base is not None and part.base is whole.base))


def _is_second_name(place: Place, name: str, other: str) -> bool:
    """Whether a statement of the function made one name of the other: `old = u`, `part = data[2:4]`."""
    for node in ast.walk(place.scope):
        if isinstance(node, ast.Assign) and len(node.targets) == 1:
            target, value = node.targets[0], node.value
            pairs = [(target, value)]
            if isinstance(target, ast.Tuple) and isinstance(value, ast.Tuple):
                pairs = list(zip(target.elts, value.elts))
            for to, given in pairs:
                given = given.value if isinstance(given, ast.Subscript) else given
                if isinstance(to, ast.Name) and isinstance(given, ast.Name) and {to.id, given.id} == {name, other}:
                    return not _swaps(pairs)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr == "append":
            if isinstance(node.func.value, ast.Name) and node.func.value.id == other:
                return True
    return False


def _is_read(place: Place, name: str) -> bool:
    """Whether a name is read after the place, or in a loop around it."""
    statement = place.site.file.innermost(place.line, place.position[1])
    if statement is None:
        return False
    first = statement.node.end_lineno or place.line
    if statement.loops:
        first = min(first, getattr(statement.loops[0], "lineno", first))
    return _is_read_after(place.scope, name, first, place.position[1])


def _is_read_after(scope: ast.AST, name: str, line: int, column: int) -> bool:
    """Whether a name is read below a line before it is given another value there; `old = u` alone does not count."""
    skipped = {
        id(n.value)
        for n in ast.walk(scope)
        if isinstance(n, ast.Assign) and isinstance(n.value, ast.Name) and isinstance(n.targets[0], ast.Name)
    }
    found = [
        n
        for n in ast.walk(scope)
        if isinstance(n, ast.Name) and n.id == name and n.lineno > line and id(n) not in skipped
    ]
    found = [n for n in found if isinstance(n.ctx, ast.Load) or n.col_offset <= column]  # deeper ones may not run
    found.sort(key=lambda n: (n.lineno, isinstance(n.ctx, ast.Store)))
    return bool(found) and isinstance(found[0].ctx, ast.Load)


def _swaps(pairs: list[tuple[ast.expr, ast.expr]]) -> bool:
    """`a, b = b, a`: two buffers change their parts, and none has two names."""
    return {ast.unparse(to) for to, _ in pairs} == {ast.unparse(given) for _, given in pairs}


def _is_read_later(statement: Statement, name: str) -> bool:
    """Whether a name is read after a caller's statement, which does not give it another value: `grid = step(grid)`."""
    node = statement.node
    targets = node.targets if isinstance(node, ast.Assign) else [node.target] if isinstance(node, ast.AnnAssign) else []
    if any(isinstance(n, ast.Name) and n.id == name for t in targets for n in ast.walk(t)):
        return False
    return _is_read_after(statement.scope, name, node.end_lineno or node.lineno, node.col_offset)
