"""A function, a list or an operator that is used for what another one does: which one is meant."""

from __future__ import annotations

import ast
import builtins
import contextlib
import re
import types
from collections import Counter
from collections.abc import Callable
from typing import Any

from ..core.markers import MISSING
from ..core.records import fact
from ..core.text import plural, str_of
from ..core.type_identity import is_one_of
from ..values import nonfinite
from ..values.describe import text_of
from ..values.safe_read import read_attribute, safe_kind
from . import provenance
from .reasons import NONE, Reason

OF_MATH = {  # functions of `math` that NumPy has by the same name
    *("sqrt", "exp", "log", "log10", "log2", "log1p", "expm1", "sin", "cos", "tan", "sinh", "cosh", "tanh", "floor"),
    *("ceil", "fabs", "isnan", "isfinite", "isinf", "hypot", "degrees", "radians", "trunc"),
}
MAKERS = {"zeros", "ones", "empty", "full"}
NO_JSON = re.compile(r"Object of type (\w+) is not JSON serializable")
NO_ORDER = re.compile(r"^'[<>]=?' not supported between instances of")
OF_CELLS = re.compile(r"^loop of ufunc|^ufunc '\w+' (not supported|did not contain)|'out' kwarg is necessary")
NO_TIMES = re.compile(r"^Only valid with DatetimeIndex")
IN_TURN = {"generator", "map", "filter", "zip", "enumerate", "dict_keys", "dict_values", "dict_items"}
NUMBERS = {int, float, bool}
MOST = 100_000  # elements that are looked at
ACCESSORS = {  # messages of pandas, by a part
    "Can only use .dt accessor": "it holds no times: pd.to_datetime makes them",
    "Can only use .str accessor": "it holds no texts: .astype(str) makes them",
    "Can only use .cat accessor": "it holds no categories: .astype('category') makes them",
}
OVER_COLUMNS = {"corr", "cov", "quantile", "mean", "std", "var", "median", "sem", "skew", "kurt"}
JOINERS = {"concatenate", "vstack", "hstack", "stack", "dstack", "column_stack", "concat"}
COUNTED = re.compile(r"takes (?:from \d+ to )?(\d+) positional arguments? but (\d+) (?:was|were) given")
NO_INTEGER = re.compile(r"'float' object cannot be interpreted as an integer|integers or a single integer, got")
NO_DTYPE = re.compile(r"Cannot interpret '\d+' as a data type")
LIST_INDEX = re.compile(r"list indices must be integers or slices, not (tuple|list|\w*ndarray)|integer scalar arrays")
NO_TEXT = re.compile(r"(?:reduction|operation) '(\w+)'|could not convert .* to numeric|agg function failed")


@fact
class Use:
    """A term that raised, and what it uses.

    `value_of`: what a part of it is, MISSING where that is not known; `called`, `owner`: what it calls, and what
    that is an attribute of; `text_of`: how a part is written.
    """

    node: ast.AST
    value_of: Callable[[ast.AST], object]
    called: object
    owner: object
    text_of: Callable[[ast.AST], str]


def of_error(exc: BaseException, use: Use) -> Reason:
    """What is meant, where a message does not say it."""
    said = str_of(exc)
    if isinstance(exc, ValueError):
        name = getattr(getattr(use.node, "func", None), "attr", "")
        if name in OVER_COLUMNS and "could not convert string" in said:
            return _texts_in(use.owner)
        return _truth(use) if "truth value of a" in said else NONE
    if isinstance(exc, AttributeError):
        return _of_attribute(said, read_attribute(exc, "name"), use)
    if not isinstance(exc, TypeError):
        return NONE
    if (refused := NO_JSON.match(said)) and isinstance(use.node, ast.Call) and use.node.args:
        return _not_plain(refused[1], use.value_of(use.node.args[0]))
    if NO_ORDER.search(said) and isinstance(use.node, ast.Call) and use.node.args:
        return _odd_element(use.value_of(use.node.args[0]))
    if NO_TIMES.search(said):
        return _times(use)
    if OF_CELLS.search(said) and (found := _object_cells(use)).text:
        return found
    if isinstance(use.node, ast.Call):
        return _of_call(said, use, use.node)
    if isinstance(use.node, ast.Subscript):
        return _of_index(said, use, use.node)
    if isinstance(use.node, ast.BinOp):
        return _of_operator(use, use.node)
    value = use.value_of(use.node)
    if type(value) is int and said.endswith("object is not iterable"):
        return Reason("count-up", f"it is one number: range({use.text_of(use.node)}) counts up to it")
    return NONE


def _of_attribute(said: str, name: object, use: Use) -> Reason:
    """An accessor of pandas on values of another type; what the cells of an array have, and the array has not."""
    for words, told in ACCESSORS.items():
        if words in said:
            return Reason("accessor", told)
    cells: Any = use.owner
    if type(name) is not str or getattr(read_attribute(cells, "dtype"), "kind", "") != "O" or not _cells(cells):
        return NONE
    first = cells.flat[0] if hasattr(cells, "flat") and cells.size else None
    method = use.node.func if isinstance(use.node, ast.Call) else use.node
    if not isinstance(method, ast.Attribute) or not any(name in vars(base) for base in type(first).__mro__):
        return NONE
    places = ", ".join("0" * cells.ndim)
    return Reason("of-cells", f"each of its cells has {name}: {use.text_of(method.value)}[{places}].{name}")


def _not_plain(kind: str, value: Any, path: str = "", depth: int = 0) -> Reason:
    """Where a value is that JSON has no form for."""
    if type(value).__name__ == kind:
        how = ".tolist()" if hasattr(value, "tolist") else "str()"
        return Reason("not-plain", f"{path or 'it'} is of type {kind}: {how} makes it plain")
    parts: list[tuple[object, object]] = []
    if is_one_of(type(value), dict):
        parts = list(value.items())[:MOST]
    elif is_one_of(type(value), list, tuple):
        parts = list(enumerate(value[:MOST]))
    for key, part in parts if depth < 5 else ():
        looked_into = type(part).__name__ == kind or is_one_of(type(part), dict, list, tuple)
        if looked_into and is_one_of(type(key), str, int):
            found = _not_plain(kind, part, f"{path}[{key!r}]", depth + 1)
            if found.text:
                return found
    return NONE


def _odd_element(value: Any) -> Reason:
    """The first element of another type than most have, where elements are compared."""
    if not is_one_of(type(value), list, tuple) or not value:
        return NONE
    kinds = [type(one) for one in value[:MOST]]
    usual = Counter(kinds).most_common(1)[0][0]
    alike = NUMBERS if usual in NUMBERS else {usual}
    at = next((n for n, kind in enumerate(kinds) if kind not in alike), None)
    if at is None:
        return NONE
    shown = text_of(value[at])
    return Reason("odd-element", f"element [{at}] is {shown}, most are of type {usual.__name__}")


def _object_cells(use: Use) -> Reason:
    """An array of objects or texts where numbers are computed."""
    parts = list(ast.iter_child_nodes(use.node))
    for part in [p for p in parts if isinstance(p, ast.expr) and not isinstance(p, ast.Constant)]:
        kind = getattr(read_attribute(use.value_of(part), "dtype"), "kind", "")
        if kind in ("O", "U", "S", "T"):
            what = "objects" if kind == "O" else "texts"
            text = use.text_of(part)
            return Reason(
                "object-cells", f"its cells are {what}: {text}.astype(float) makes numbers of them", near=(text,)
            )
    return NONE


def _times(use: Use) -> Reason:
    """Which column of a frame holds times, where its index has none."""
    frame: Any = use.owner
    if not nonfinite.is_frame(frame) or not hasattr(getattr(frame, "dtypes", None), "items"):
        return NONE
    times = [name for name, kind in frame.dtypes.items() if getattr(kind, "kind", "") == "M" and type(name) is str]
    if times:
        return Reason("times-in-column", f"times are in a column: on={times[0]!r} takes them")
    return Reason("no-times", "no column holds times: pd.to_datetime makes them of texts")


def _truth(use: Use) -> Reason:
    """How many cells of a comparison are true, where one truth value is asked for."""
    node = use.node
    if isinstance(node, ast.Call) and getattr(node.func, "id", "") in ("max", "min") and len(node.args) == 2:
        name = getattr(node.func, "id", "")
        return Reason("max-of-arrays", f"{name} compares whole arrays: np.{name}imum compares cell by cell")
    value: Any = use.value_of(node)
    if nonfinite.is_frame(value) and hasattr(value, "columns"):
        return Reason("truth-of-frame", f"len({use.text_of(node)}) counts its rows")
    if isinstance(node, (ast.Name, ast.Attribute)) and _cells(value):
        with contextlib.suppress(Exception):
            return _true_cells(value != 0)
    if not isinstance(node, ast.Compare) or len(node.ops) != 1:
        return NONE
    sides = [use.value_of(node.left), use.value_of(node.comparators[0])]
    if any(side is MISSING or not safe_kind(type(side)) for side in sides):
        return NONE
    with contextlib.suppress(Exception):
        return _true_cells(provenance.OPERATORS[type(node.ops[0])](*sides))
    return NONE


def _true_cells(cells: Any) -> Reason:
    true, size = int(cells.sum()), int(cells.size)
    return Reason("truth-of-cells", f"{true} of its {plural(size, 'cell')} {'is' if true == 1 else 'are'} true")


def _of_call(said: str, use: Use, node: ast.Call) -> Reason:
    name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
    module = str(read_attribute(use.owner, "__name__")) if issubclass(type(use.owner), types.ModuleType) else ""
    first = use.value_of(node.args[0]) if node.args else MISSING
    if module == "numpy" and name in MAKERS and NO_DTYPE.search(said) and len(node.args) > 1:
        shape = ", ".join(use.text_of(arg) for arg in node.args)
        return Reason("shape-in-tuple", f"a shape of several numbers is one argument: ({shape})")
    if module in ("numpy", "pandas") and name in JOINERS and len(node.args) > 1 and _cells(first):
        return Reason("arrays-in-list", "the arrays are one argument: a list of them")
    if module == "math" and name in OF_MATH and (_cells(first) or is_one_of(type(first), list)):
        return Reason("math-of-array", f"math.{name} takes one number: np.{name} takes an array")
    if "has no len()" in said and type(first).__name__ in IN_TURN:
        return Reason("no-list", f"its length is not known before: list({use.text_of(node.args[0])}) has one")
    if NO_INTEGER.search(said):
        floats = [arg for arg in node.args if is_one_of(type(use.value_of(arg)), float)]
        if name == "range" and len(node.args) == 3 and floats == node.args[2:]:
            return Reason("float-step", "range counts by integers: np.arange takes other steps")
        if len(floats) == 1:
            return Reason("whole-number", f"{use.text_of(floats[0])} is a float: a count is an integer")
    if said.endswith("object is not callable"):
        return _not_called(use, node)
    if (counted := COUNTED.search(said)) and int(counted[2]) == int(counted[1]) + 1:
        function = read_attribute(use.called, "__func__") if type(use.called) is types.MethodType else None
        code = function.__code__ if type(function) is types.FunctionType else None
        names = code.co_varnames[: code.co_argcount] if code is not None else ()
        if code is not None and names[:1] not in (("self",), ("cls",)):
            listed = ", ".join(("self", *names))
            return Reason("no-self", f"the object is the first argument: def {name}({listed})")
    if NO_TEXT.search(said) and isinstance(node.func, ast.Attribute):
        return _texts_in(use.owner)
    return NONE


def _not_called(use: Use, node: ast.Call) -> Reason:
    """What is called though it is a value."""
    value = use.value_of(node.func)
    if isinstance(node.func, ast.Attribute) and not (node.args or node.keywords or value is None or value is MISSING):
        return Reason("no-call", f"{use.text_of(node.func)} is a value: leave the parentheses out")
    if callable(getattr(builtins, getattr(node.func, "id", ""), None)):
        return NONE  # a variable hides a function
    holds = _cells(value) or nonfinite.is_frame(value) or is_one_of(type(value), list, tuple, dict)
    if holds and len(node.args) == 1 and not node.keywords:
        return Reason("index-it", f"{use.text_of(node.func)} holds values: square brackets take one of them")
    return NONE


def _of_index(said: str, use: Use, node: ast.Subscript) -> Reason:
    owner, index, text = use.value_of(node.value), node.slice, use.text_of(node.value)
    if said.endswith("object is not subscriptable"):
        if type(owner).__name__ in IN_TURN:
            return Reason("no-list", f"{text} gives its elements in turn: list({text}) has indices")
        if is_one_of(type(owner), set, frozenset):
            return Reason("no-order", f"a set has no order: sorted({text}) has one")
        if is_one_of(type(owner), types.FunctionType, types.BuiltinFunctionType):
            return Reason("call-it", f"{text} is a function: parentheses call it")
        if type(owner) is types.MethodType:
            return Reason("call-method", f"{text} is a method: {text}() calls it")
    if type(owner) is list and LIST_INDEX.search(said):
        if isinstance(index, ast.Tuple):
            inner = "".join(f"[{use.text_of(part)}]" for part in index.elts)
            return Reason("nested-index", f"a list in a list has an index of its own: {text}{inner}")
        return Reason("list-by-list", f"a list takes one index or a slice: np.array({text}) takes several")
    return NONE


def _of_operator(use: Use, node: ast.BinOp) -> Reason:
    sides = [use.value_of(node.left), use.value_of(node.right)]
    if isinstance(node.op, ast.BitXor) and all(_is_number(side) for side in sides):
        return Reason("xor", "^ works on bits: ** is the power")
    for part, side, other in ((node.left, sides[0], sides[1]), (node.right, sides[1], sides[0])):
        number = is_one_of(type(other), float, int, list) or _cells(other)
        whole = is_one_of(type(other), int) and isinstance(node.op, ast.Mult)
        joins = is_one_of(type(other), list) and isinstance(node.op, ast.Add)
        if type(side) is list and number and not whole and not joins and _numbers(side):
            return Reason("list-arithmetic", f"a list has no arithmetic: np.array({use.text_of(part)}) has")
    return NONE


def _texts_in(owner: object) -> Reason:
    """Columns of texts in a frame, or in the one that is grouped."""
    frame: Any = owner if nonfinite.is_frame(owner) else read_attribute(owner, "obj")
    if not nonfinite.is_frame(frame) or not hasattr(frame, "dtypes") or not hasattr(frame.dtypes, "items"):
        return NONE  # of another library than pandas
    texts = [str(name) for name, kind in frame.dtypes.items() if getattr(kind, "kind", "") not in "fiubc"]
    if not texts or len(texts) == len(frame.dtypes):
        return NONE
    more = ", …" if len(texts) > 3 else ""
    return Reason("numeric-only", f"no numbers: {', '.join(texts[:3])}{more}; numeric_only=True leaves them out")


def _cells(value: object) -> bool:
    """Whether a value is an array or a column of several cells."""
    shape = read_attribute(value, "shape") if value is not MISSING else MISSING
    return isinstance(shape, tuple) and len(shape) > 0 and safe_kind(type(value))


def _is_number(value: object) -> bool:
    """A number that is no truth value, or an array of such."""
    kind = getattr(read_attribute(value, "dtype"), "kind", "")
    return is_one_of(type(value), int, float) or (kind in "fiu" and kind != "" and safe_kind(type(value)))


def _numbers(value: list[object]) -> bool:
    return all(nonfinite.is_number_kind(type(one)) or is_one_of(type(one), int, float) for one in value[:20])
