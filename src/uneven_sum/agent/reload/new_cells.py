"""Takes up another text of the notebook that runs: cells run with it from now on, functions keep what they were."""

from __future__ import annotations

import ast
import gc
import linecache
import types

from ..source import cells, plain_code, registry
from ..source.source_file import SourceFile
from .hot_swap import CannotTakeUp, _by_name, _functions_of, _running
from .loader import CANNOT, Loader, _functions


def take_up(loader: Loader, path: str, told: dict[str, object]) -> None:
    """`told`: as in `launch`.  Functions that are the same in both texts run on at their new lines; others keep
    their old text until their cell runs again.  CannotTakeUp where it is no Python; nothing has changed then."""
    old, known = registry.files[path], cells.known[path]
    fresh = cells.note(path, told)
    try:
        new = SourceFile(path, fresh.python.encode())
        code = loader.rewritten(new, loader.options)
    except CANNOT as e:
        cells.known[path] = known
        line = getattr(e, "lineno", None)
        where = f", {fresh.place_words(line)}" if line else ""
        raise CannotTakeUp(f"The notebook cannot be compiled{where}: {getattr(e, 'msg', e)}.") from None
    before, after = _functions_of(old), _functions_of(new)
    same = {n for n in after if n in before and ast.dump(before[n]) == ast.dump(after[n])}
    made = _by_name(code)
    for running in _running(path):
        registry.keep_text(running, old)
    for thing in gc.get_objects():
        if type(thing) is types.FunctionType and thing.__code__.co_filename == path:
            found = made.get(thing.__code__.co_qualname)
            is_same = thing.__code__.co_qualname.replace(".<locals>", "") in same
            if found is not None and is_same and found.co_freevars == thing.__code__.co_freevars:
                thing.__code__ = found
            else:
                registry.keep_text(thing.__code__, old)
    registry.files[path] = new
    plain_code.register(path, compile(new.data, path, "exec", new.flags, dont_inherit=True))
    loader.fresh[path] = _functions(code)
    linecache.cache[path] = len(fresh.text), None, fresh.text.splitlines(keepends=True), path
