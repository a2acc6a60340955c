"""Values as cards, and the notes at the ends of lines."""

from __future__ import annotations

import ast
import types
import zlib
from typing import Any

from ..core.markers import HIDDEN
from ..frames import other_compilers, stack
from ..frames.exception_handlers import statement_at
from ..frames.namespace import Scope
from ..source import registry
from ..source.source_file import SCOPES, SourceFile, Statement
from ..values import nonfinite
from ..values.describe import summary
from ..values.kinds.mapped import has_shrunk
from ..values.safe_read import kind_name

SMALL = 50_000  # cells up to which an array is summarised at once, and a change is found by its bytes
LARGE = 4_000_000  # cells above which a change is looked for in a sample


def fingerprint(value: object) -> str:
    """A text that differs when the value differs: exact for scalars and arrays of moderate size."""
    np = nonfinite.module("numpy")
    if isinstance(value, (int, float, complex, str)) and not (isinstance(value, str) and len(value) > 1000):
        return f"{type(value).__name__} {value!r}" if not isinstance(value, int) or value.bit_length() < 2000 else "int"
    if np is not None and isinstance(value, np.ndarray) and value.dtype.kind in "fiubc" and not has_shrunk(value):
        return f"{value.shape} {value.dtype} {_cells_print(np, value)}"
    return str(summary(value)["text"])


def _cells_print(np: types.ModuleType, value: Any) -> str:
    """A number that differs when the cells do: of all of them up to LARGE, else of a sample."""
    if value.size > LARGE:
        flat = value.reshape(-1) if value.flags.c_contiguous else value.flat
        value = np.asarray(flat[:: value.size // 100_000])
    value = np.ascontiguousarray(value)
    if value.size <= SMALL or value.nbytes % 8:
        return str(zlib.crc32(value.tobytes()))
    words = value.reshape(-1).view(np.uint64)
    # The sum tells a change of cells, the sample that they were only moved about (sorted, shifted).
    return f"{int(np.add.reduce(words)):x} {zlib.crc32(words[:: 1 + words.size // 20_000].tobytes())}"


def is_large(value: object) -> bool:
    """True for arrays whose summary takes time: sent after the rest."""
    np = nonfinite.module("numpy")
    return np is not None and isinstance(value, np.ndarray) and value.size > SMALL and not has_shrunk(value)


def _later(value: Any) -> dict[str, Any]:
    told = f"{' x '.join(map(str, value.shape))} cells {value.dtype}"
    return {
        "text": told,
        "type": kind_name(type(value)),
        "kind": "array",
        "shape": list(value.shape),
        "dtype": str(value.dtype),
        "nonfinite": 0,
        "pending": True,
    }


def _shown(names: dict[str, object]) -> dict[str, object]:
    return {
        n: v
        for n, v in names.items()
        if not n.startswith((*HIDDEN, "__"))
        and not isinstance(v, (types.ModuleType, types.FunctionType, types.BuiltinFunctionType, type))
    }


def fingerprints(frame: types.FrameType) -> dict[str, str]:
    """The fingerprints of all values of the calls on the stack."""
    found: dict[str, str] = {}
    for number, call in enumerate(stack.calls(frame)[:20]):
        for name, value in _shown(Scope(call).locals).items():
            found[_key(call, name)] = fingerprint(value)
        if number == 0:
            for name, value in _shown(call.f_globals).items():
                found[f"module {name}"] = fingerprint(value)
    return found


def old_texts(frame: types.FrameType) -> dict[str, str]:
    """The one-line texts of what is not large, to be shown beside what it has become."""
    found: dict[str, str] = {}
    for number, call in enumerate(stack.calls(frame)[:20]):
        names = {_key(call, n): v for n, v in _shown(Scope(call).locals).items()}
        if number == 0:
            names.update({f"module {n}": v for n, v in _shown(call.f_globals).items()})
        for key, value in names.items():
            if not is_large(value) and not isinstance(value, (list, tuple, dict, set)):
                found[key] = str(summary(value)["text"])
    return found


def _key(frame: types.FrameType, name: str) -> str:
    if frame.f_code.co_name == "<module>":
        return f"module {name}"
    return f"{stack.function_name(frame)} {name}"


def cards(
    frame: types.FrameType,
    about: str,
    before: dict[str, str],
    only: set[str] | None = None,
    texts: dict[str, str] | None = None,
) -> list[dict[str, object]]:
    """Cards `about` the line, the call or the module, most telling first.  Large arrays are `pending`, unless just
    they are wanted (`only`).

    Each: name, the summary's fields, `changed`, `old` (text at the last pause is not kept: only that it
    changed), `used` by the line, `assigned`.
    """
    scope = Scope(frame)
    file = registry.file_of(frame)
    statement = file and statement_at(file, frame)
    used = _used(statement) if statement else []
    at_module = frame.f_code.co_name == "<module>"
    local = _shown(scope.globals if at_module else scope.locals)
    if about == "module":
        local = _shown(scope.globals)
    found = []
    if about == "line":
        for name in used:
            if name not in local and name in scope.globals:
                local.update(_shown({name: scope.globals[name]}))
    for name, value in local.items():
        if only is not None and name not in only:
            continue
        key = f"module {name}" if about == "module" or name not in scope.locals else _key(frame, name)
        old = before.get(key)
        if only is None and is_large(value):
            found.append({**_later(value), **_plain_card(name, used)})
            continue
        changed = bool(before) and old != fingerprint(value)
        found.append(
            {
                **summary(value),
                "name": name,
                "changed": changed,
                "new": changed and old is None,
                "old": (texts or {}).get(key, "") if changed and old is not None else "",
                "used": name in used,
                "assigned": True,
            }
        )
    if about != "module" and not at_module and file is not None and only is None:
        for name in _will_assign(frame):
            if name not in local:
                found.append(
                    {
                        "name": name,
                        "text": "not assigned yet",
                        "type": "",
                        "kind": "none",
                        "shape": None,
                        "dtype": None,
                        "nonfinite": 0,
                        "changed": False,
                        "new": False,
                        "used": name in used,
                        "assigned": False,
                    }
                )

    return _ranked(found, used)


def _plain_card(name: str, used: list[str]) -> dict[str, object]:
    return {"name": name, "changed": False, "new": False, "used": name in used, "assigned": True}


def _ranked(found: list[dict[str, object]], used: list[str]) -> list[dict[str, object]]:
    """Changed ones that the line uses first, names not assigned yet last."""

    def rank(card: dict[str, Any]) -> tuple[int, int]:
        place = used.index(card["name"]) if card["used"] else 99
        first = 0 if card["changed"] and card["used"] else 1 if card["changed"] else 2 if card["used"] else 3
        return (first + 5 * (not card["assigned"]), place)

    return sorted(found, key=rank)


def _used(statement: Statement) -> list[str]:
    """The names of a statement's head, in their order."""
    node = statement.node
    parts = ast.walk(node)
    if hasattr(node, "body"):
        heads = [getattr(node, n, None) for n in ("test", "iter", "target", "subject")]
        heads += [i.context_expr for i in getattr(node, "items", [])]
        parts = iter([n for h in heads if h is not None for n in ast.walk(h)])
    names = [n for n in parts if isinstance(n, ast.Name)]
    names.sort(key=lambda n: (n.lineno, n.col_offset))
    return list(dict.fromkeys(n.id for n in names))


def _will_assign(frame: types.FrameType) -> list[str]:
    code = frame.f_code
    return [n for n in (*code.co_varnames, *code.co_cellvars) if not n.startswith(HIDDEN)]


def notes(frame: types.FrameType) -> list[dict[str, Any]]:
    """For the lines of a call: what each assigned, as it is now, and the passes at the heads of loops."""
    file = registry.file_of(frame)
    if file is None:
        return []
    here = statement_at(file, frame)
    scope = Scope(frame)
    owner = here.scope if here else file.tree
    line = here.line if here else len(file.lines) + 1
    last: dict[str, int] = {}
    for s in file.statements:
        if s.scope is owner and not isinstance(s.node, SCOPES):
            for name in _assigned(s.node):
                if name in scope.locals and (name not in last or s.line <= line):
                    last[name] = s.line
    found: dict[int, dict[str, object]] = {}
    for name, at in last.items():
        value = scope.locals[name]
        if isinstance(value, (types.ModuleType, types.FunctionType, type)):
            continue
        told = _later(value) if is_large(value) else summary(value)  # notes must not wait for large arrays
        text = f"{name} {told['text']}"
        if at in found:
            text = f"{found[at]['text']}, {text}"
        bad = told["nonfinite"] + found.get(at, {}).get("nonfinite", 0)
        found[at] = {"line": at, "text": text, "nonfinite": bad, "name": name}
    _loop_notes(file, frame, here, found)
    for left in other_compilers.left:
        if left.file == file.path and left.first not in found:
            found[left.first] = {"line": left.first, "text": f"not watched: {left.why}", "nonfinite": 0}
    return sorted(found.values(), key=lambda n: n["line"])


def _loop_notes(
    file: SourceFile, frame: types.FrameType, here: Statement | None, found: dict[int, dict[str, object]]
) -> None:
    for loop in stack.loops(frame, here):
        if loop["pass"] and loop["file"] == file.path:
            of = f" of {loop['of']}" if loop["of"] is not None else ""
            found[loop["line"]] = {"line": loop["line"], "text": f"pass {loop['pass']}{of}", "nonfinite": 0}


def _assigned(node: ast.stmt) -> list[str]:
    targets: list[ast.AST] = list(getattr(node, "targets", [])) if isinstance(node, ast.Assign) else []
    if isinstance(node, (ast.AugAssign, ast.AnnAssign, ast.For)):
        targets = [node.target]
    if isinstance(node, ast.With):
        targets = [i.optional_vars for i in node.items if i.optional_vars]
    names = []
    for t in targets:
        if isinstance(t, (ast.Subscript, ast.Attribute)):
            continue
        names += [n.id for n in ast.walk(t) if isinstance(n, ast.Name)]
    return names
