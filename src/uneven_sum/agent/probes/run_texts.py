"""Code that the script runs by `exec` or `eval`, from a text or a file: it gets probes as the script's own files do.

`exec` and `eval` in the user's code are called with what `prepared` gives for their first argument.  A code object
that `compile` has made is known again by the text that it was made from.
"""

from __future__ import annotations

import contextlib
import os
import sys
import types
from collections.abc import Callable
from typing import Any, Protocol

from ..core import run_state
from ..source import plain_code, registry
from ..source.sites import Options
from ..source.source_file import SourceFile

FLAGS = 0x1FE0000  # of `from __future__` imports, which a text inherits from the code that runs it
KEPT = 200  # different texts that are watched in one run
LONGEST = 1_000_000  # characters
MODES = {id(exec): "exec", id(eval): "eval"}


class Rewriter(Protocol):
    """What compiles a text with probes."""

    options: Options

    def is_users(self, path: str) -> bool: ...
    def compile(self, path: str, data: bytes) -> types.CodeType: ...
    def rewritten(self, file: SourceFile, options: Options, flags: int = 0, mode: str = "exec") -> types.CodeType: ...


loader: Rewriter | None = None
sources: dict[str, str | bytes] = {}  # the last text that was compiled under each file name
known: dict[tuple[object, ...], types.CodeType] = {}
heard: Callable[[str, str], None] | None = None


def compiled(source: Any, name: object) -> None:
    """`compile` is under way: its text may be run later."""
    if type(source) in (str, bytes) and type(name) is str and len(source) <= LONGEST:
        if len(sources) > KEPT:
            sources.clear()
        sources[name] = source


def prepared(function: object, code: object) -> object:
    """What `exec` or `eval` runs: code with probes where the text is known, else what the script gave."""
    mode = MODES.get(id(function))
    if mode is None or run_state.quiet or run_state.in_trial or loader is None:
        return code
    caller = sys._getframe(1)
    try:
        if type(code) is str or type(code) is bytes:
            return _of_text(code, mode, "<string>", caller.f_code.co_flags & FLAGS, caller) or code
        if type(code) is types.CodeType and code.co_name == "<module>" and not plain_code.has_probes(code):
            source = sources.get(code.co_filename)
            if source is not None:
                return _of_code(source, code, caller) or code
    except Exception:
        pass  # `exec` and `eval` raise the same error themselves
    return code


def _of_code(source: str | bytes, code: types.CodeType, caller: types.FrameType) -> types.CodeType | None:
    """The code with probes of a text that `compile` has made `code` of, by whichever mode."""
    for mode in ("exec", "eval"):
        with contextlib.suppress(SyntaxError):
            found = _of_text(source, mode, code.co_filename, code.co_flags & FLAGS, caller, code)
            if found is not None:
                return found
    return None


def _of_text(
    text: str | bytes, mode: str, name: str, flags: int, caller: types.FrameType, like: types.CodeType | None = None
) -> types.CodeType | None:
    """The code of a text with probes; None where it is too long, one too many, or not the text of `like`."""
    assert loader is not None
    if mode == "eval" and like is None:
        text = text.lstrip(b" \t") if isinstance(text, bytes) else text.lstrip(" \t")  # as `eval` does
    key = (text, mode, name, flags, caller.f_code.co_filename, caller.f_lineno)
    if key in known:
        return known[key]
    if len(text) > LONGEST or len(known) >= KEPT:
        if heard is not None:
            heard(_place(caller), f"there are over {KEPT} different texts, or over {LONGEST} characters in one")
        return None
    with run_state.silenced():
        plain = compile(text, name, mode, flags, dont_inherit=True)
    if like is not None and plain != like:
        return None
    is_file = os.path.isfile(name)
    if is_file and not loader.is_users(name):
        return None
    data = text.encode("utf-8", "surrogatepass") if isinstance(text, str) else text
    file = SourceFile(name, data)
    code = loader.rewritten(file, loader.options, flags, mode)
    plain_code.register(name, plain)
    if is_file:
        registry.files[name] = file
    else:
        file.shown = _place(caller)
        registry.keep_text(code, file)
    known[key] = code
    return code


def _place(caller: types.FrameType) -> str:
    return f"<text run at line {caller.f_lineno} of {os.path.basename(caller.f_code.co_filename)}>"


def watch_runpy() -> None:
    """`runpy.run_path` gets code with probes for the user's files."""
    runpy = sys.modules.get("runpy")
    original = getattr(runpy, "_get_code_from_file", None)
    if original is None or getattr(original, "__wrapped__", None) is not None:
        return

    def get_code(*args: object) -> object:
        found = original(*args)
        code = found[0] if isinstance(found, tuple) else found
        name = code.co_filename
        if loader is None or not loader.is_users(name) or plain_code.has_probes(code):
            return found
        try:
            with open(name, "rb") as f:
                code = loader.compile(name, f.read())
        except Exception:
            return found
        return (code, *found[1:]) if isinstance(found, tuple) else code

    get_code.__wrapped__ = original  # type: ignore[attr-defined]  # as functools.wraps does
    runpy._get_code_from_file = get_code  # type: ignore[union-attr]  # no public way
