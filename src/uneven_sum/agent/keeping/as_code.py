"""Values as Python text: numbers in the text, arrays as NPY files, frames as Parquet or CSV, plain objects as their
fields."""

from __future__ import annotations

import binascii
import importlib
import math
import os
import re
import sys
import types
import zlib
from dataclasses import field
from typing import Any

from ..core.errors import Refused
from ..core.records import record
from ..values import nonfinite

LARGEST = 100 * 1024 * 1024  # bytes of all files of one call
EMBEDDED = 200_000  # bytes of a file that is written in the text
CELLS = 24  # of an array that is written in the text
ELEMENTS = 2_000  # of lists and the like, all together
DEEPEST = 6
# Kinds whose `repr` makes an equal value, by module.  The agent imports none of these: a script may have its own.
BY_REPR = {
    "datetime": ("date", "time", "timedelta", "timezone"),
    "decimal": ("Decimal",),
    "fractions": ("Fraction",),
    "pathlib": ("PurePath",),
}
PLAIN = (bool, int, str, bytes, type(None), type(Ellipsis))


class CannotKeep(Refused):
    """A value that cannot be written down: the reason."""


@record
class Writer:
    """Writes the values of one call.  `folder`: where its files go; `main`: the module that is loaded from its file,
    by the name `module` in the text."""

    folder: str
    main: types.ModuleType | None = None
    prefix: str = "module."  # of what that module defines
    inline: bool = False  # files are written in the text
    imports: set[str] = field(default_factory=set)
    helpers: set[str] = field(default_factory=set)  # functions that the text needs: see `client/keeping/text.py`
    files: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    bytes: int = 0
    elements: int = 0
    under_way: list[int] = field(default_factory=list)

    def code(self, value: Any, name: str) -> str:
        """An expression that makes an equal value.  `name`: what it is, for its file and the reasons."""
        kind = type(value)
        if kind in PLAIN:
            return repr(value)
        if kind is float:
            return self._float(value)
        if kind is complex:
            return f"complex({self._float(value.real)}, {self._float(value.imag)})"
        known = self._library(value, name)
        if known:
            return known
        if id(value) in self.under_way:
            raise CannotKeep(f"{name} contains itself")
        if len(self.under_way) >= DEEPEST:
            raise CannotKeep(f"{name} is nested more than {DEEPEST} levels deep")
        self.under_way.append(id(value))
        try:
            return self._container(value, name) or self._object(value, name)
        finally:
            self.under_way.pop()

    @staticmethod
    def _float(value: float) -> str:
        return repr(value) if math.isfinite(value) else f'float("{value}")'

    # -- values of libraries -------------------------------------------------------------------------

    def _library(self, value: object, name: str) -> str:
        enum = sys.modules.get("enum")
        if enum is not None and isinstance(value, enum.Enum):
            return f"{self._named(type(value), name)}.{value.name}"
        if isinstance(value, type) or (callable(value) and hasattr(value, "__qualname__")):
            return self._named(value, name)
        if isinstance(value, types.ModuleType):
            self.imports.add(f"import {value.__name__}")
            return str(value.__name__)
        for module, names in BY_REPR.items():  # a value of a module that is not loaded there is not
            kinds = tuple(getattr(sys.modules.get(module), name, ()) for name in names)
            if isinstance(value, kinds) and type(value).__module__.partition(".")[0] == module:
                self.imports.add(f"import {module}")
                text = repr(value)
                return text if text.startswith(f"{module}.") else f"{module}.{text}"
        if isinstance(value, (range, slice)):
            return repr(value)
        return self._of_numpy(value, name) or self._of_pandas(value, name)

    def _of_numpy(self, value: Any, name: str) -> str:
        np = nonfinite.module("numpy")
        if np is None:
            return ""
        if isinstance(value, np.generic):
            self.imports.add("import numpy as np")
            kind = type(value).__name__
            if isinstance(value, (np.datetime64, np.timedelta64)):
                return f"np.{repr(value).removeprefix('np.').removeprefix('numpy.')}"
            return (
                f"np.{kind.rstrip('_')}({self.code(value.item(), name)})" if kind != "bool_" else f"np.bool_({value})"
            )
        if isinstance(value, np.random.Generator):
            self.imports.add("import numpy as np")
            self.helpers.add("generator")
            return f"generator({self.code(_plain(value.bit_generator.state), name)})"
        if type(value) is not np.ndarray:
            return ""
        self.imports.add("import numpy as np")
        if value.dtype.hasobject:
            return f"np.array({self.code(value.tolist(), name)}, dtype=object)"
        if value.size <= CELLS and value.ndim <= 2 and value.dtype.kind in "fiubc" and value.dtype.isnative:
            cells = self.code(value.tolist(), name)
            return f"np.array({cells}, dtype={str(value.dtype)!r})"
        file = self._file(name, "npy", value.nbytes)
        np.save(os.path.join(self.folder, file), value, allow_pickle=False)
        return f"np.load({self._stored(file)})"

    def _of_pandas(self, value: Any, name: str) -> str:
        pd = nonfinite.module("pandas")
        if pd is None:
            return ""
        if isinstance(value, (pd.Timestamp, pd.Timedelta)):
            self.imports.add("import pandas as pd")
            return f"pd.{repr(value).removeprefix('pd.')}"
        if value is pd.NaT or value is pd.NA:
            self.imports.add("import pandas as pd")
            return "pd.NaT" if value is pd.NaT else "pd.NA"
        if type(value) is pd.Series:
            frame = value.to_frame("value")
            label = self.code(value.name, name)
            return f'{self._small(frame, name) or self._frame(frame, name)}["value"].rename({label})'
        if type(value) is pd.DataFrame:
            return self._small(value, name) or self._frame(value, name)
        if isinstance(value, pd.Index):
            return f'{self._frame(value.to_frame(index=False, name="value"), name)}["value"]' + ".pipe(pd.Index)"
        return ""

    def _frame(self, value: Any, name: str) -> str:
        self.imports.add("import pandas as pd")
        size = int(value.memory_usage(index=True, deep=False).sum())
        file = self._file(name, "parquet", size)
        try:
            value.to_parquet(os.path.join(self.folder, file))
            return f"pd.read_parquet({self._stored(file)})"
        except Exception:  # no library for Parquet, or columns that it does not take
            self.files.pop()
        if value.index.nlevels > 1 or value.columns.nlevels > 1:
            raise CannotKeep(f"{name} has several levels of labels, and no library for Parquet is there")
        file = self._file(name, "csv", 0)
        value.to_csv(os.path.join(self.folder, file))
        self.notes.append(f"{name} is kept as CSV: the kinds of its columns are read from the text again.")
        dates = [i + 1 for i, kind in enumerate(value.dtypes) if kind.kind == "M"]
        dates = [0, *dates] if getattr(value.index.dtype, "kind", "") == "M" else dates
        return f"pd.read_csv({self._stored(file)}, index_col=0, parse_dates={dates})"

    def _small(self, frame: Any, name: str) -> str:
        """A frame of few cells, written in the text; empty where that cannot be done."""
        if not self.inline or frame.size > CELLS or not frame.columns.is_unique or frame.index.nlevels > 1:
            return ""
        try:
            columns = {label: frame[label].tolist() for label in frame.columns}
            kinds = {label: str(kind) for label, kind in frame.dtypes.items()}
            text = f"pd.DataFrame({self.code(columns, name)}"
            if type(frame.index).__name__ != "RangeIndex":
                text += f", index={self.code(frame.index.tolist(), name)}"
            return f"{text}).astype({self.code(kinds, name)})"
        except Refused:
            return ""

    def _stored(self, file: str) -> str:
        """An expression for a file that was written."""
        if not self.inline:
            return f'DATA / "{file}"'
        with open(os.path.join(self.folder, file), "rb") as f:
            data = f.read()
        if len(data) > EMBEDDED:
            raise CannotKeep(f"{file.partition('.')[0]} is too large for one file: {len(data) / 1024:,.0f} kB")
        self.imports |= {"import base64", "import io", "import zlib"}
        packed = binascii.b2a_base64(zlib.compress(data), newline=False).decode()
        return f'io.BytesIO(zlib.decompress(base64.b64decode("{packed}")))'

    def _file(self, name: str, suffix: str, size: int) -> str:
        self.bytes += size
        if self.bytes > LARGEST:
            raise CannotKeep(
                f"{name} is too large: {self.bytes / 2**20:,.0f} MB so far, where a test keeps up to "
                f"{LARGEST // 2**20} MB"
            )
        stem = re.sub(r"\W+", "_", name).strip("_") or "value"
        count = sum(one.partition(".")[0].startswith(stem) for one in self.files)
        self.files.append(f"{stem}{f'_{count + 1}' if count else ''}.{suffix}")
        return self.files[-1]

    # -- containers and objects ----------------------------------------------------------------------

    def _container(self, value: Any, name: str) -> str:
        kind = type(value)
        if kind not in (list, tuple, dict, set, frozenset):
            return ""
        self.elements += len(value)
        if self.elements > ELEMENTS:
            return self._long(value, name)
        if kind is dict:
            pairs = (f"{self.code(k, name)}: {self.code(v, f'{name}_{k}')}" for k, v in value.items())
            return "{" + ", ".join(pairs) + "}"
        inner = ", ".join(self.code(one, f"{name}_{number}") for number, one in enumerate(value))
        if kind is list:
            return f"[{inner}]"
        if kind is tuple:
            return f"({inner},)" if len(value) == 1 else f"({inner})"
        return f"{kind.__name__}([{inner}])"

    def _long(self, value: Any, name: str) -> str:
        """A long list of numbers as a file."""
        np = nonfinite.module("numpy")
        kinds = set(map(type, value)) if type(value) in (list, tuple) else {object}
        if np is None or len(kinds) != 1 or not kinds <= {float, int, bool}:
            raise CannotKeep(f"{name} has more than {ELEMENTS} elements that are no plain numbers")
        self.imports.add("import numpy as np")
        file = self._file(name, "npy", 8 * len(value))
        array = np.array(value)
        if array.dtype.hasobject:
            raise CannotKeep(f"{name} has integers that are too large for a file")
        np.save(os.path.join(self.folder, file), array, allow_pickle=False)
        text = f"np.load({self._stored(file)}).tolist()"
        return text if type(value) is list else f"tuple({text})"

    def _object(self, value: object, name: str) -> str:
        """A plain object as its fields."""
        kind = type(value)
        fields = getattr(value, "__dict__", None)
        own_way = any(m in vars(c) for c in kind.__mro__[:-1] for m in ("__reduce__", "__reduce_ex__", "__getstate__"))
        slots = any("__slots__" in vars(c) and vars(c)["__slots__"] for c in kind.__mro__[:-1])
        if type(fields) is not dict or own_way or slots or not _is_plain(kind):
            raise CannotKeep(f"{name} cannot be kept: {_what(value)}")
        named = self._named(kind, name)
        self.helpers.add("made")
        inner = ", ".join(f"{key}={self.code(one, f'{name}_{key}')}" for key, one in fields.items())
        if not all(str(key).isidentifier() for key in fields):
            raise CannotKeep(f"{name} cannot be kept: its fields are no names")
        return f"made({named}{', ' if inner else ''}{inner})"

    def _named(self, value: object, name: str) -> str:
        """A class or a function by its name, where it can be found by that."""
        module, qualname = str(getattr(value, "__module__", "")), str(getattr(value, "__qualname__", ""))
        found: object = None
        if self.main is not None and module == self.main.__name__:
            found = self.main
            text = f"{self.prefix}{qualname}"
        else:
            try:
                found = importlib.import_module(module)
            except Exception:
                found = None
            text = qualname if module == "builtins" else f"{module}.{qualname}"
        found_in = found
        for part in qualname.split("."):
            found = getattr(found, part, None)
        if found is not value:
            raise CannotKeep(f"{name} cannot be kept: {_what(value)} has no name that can be imported")
        if found_in is not self.main and module != "builtins":
            self.imports.add(f"import {module}")
        return text


def _plain(value: object) -> object:
    """The state of a generator of random numbers without its arrays."""
    if isinstance(value, dict):
        return {key: _plain(one) for key, one in value.items()}
    return value


def _is_plain(kind: type) -> bool:
    """A class of Python code whose objects hold nothing beside their fields."""
    return all(c is object or "__dict__" in vars(c) or _heap(c) for c in kind.__mro__) and _base(kind) is object


def _heap(kind: type) -> bool:
    return bool(kind.__flags__ & (1 << 9))


def _base(kind: type) -> type:
    while _heap(kind) and kind.__base__ is not None:
        kind = kind.__base__
    return kind


KNOWN = {
    "generator": "a generator, which can be read only once",
    "coroutine": "a coroutine, which can be run only once",
    "TextIOWrapper": "an open file",
    "BufferedReader": "an open file",
    "BufferedWriter": "an open file",
    "lock": "a lock",
    "RLock": "a lock",
    "socket": "a connection",
    "Connection": "a connection",
    "Thread": "a thread",
}


def _what(value: object) -> str:
    name = type(value).__name__
    return KNOWN.get(name, f"an object of {type(value).__module__}.{type(value).__qualname__}")
