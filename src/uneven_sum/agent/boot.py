"""Starts the agent in the script's interpreter: `python boot.py FD`, or `python boot.py anew JSON` in a child.

FD is the socket to the host.  The host's `launch` comes first; then this process becomes the script.
"""

from __future__ import annotations

import sys

TYPE_CHECKING = False
if TYPE_CHECKING:
    from importlib.machinery import ModuleSpec
    from types import ModuleType

NAME = "_uneven_sum_agent"
MARK = "UNEVEN_SUM_RUN"  # by which the host knows what descends from the script; see host/descendants.py
LOADED = frozenset(sys.modules)  # what the interpreter itself has imported


def load() -> ModuleType:
    """Import the whole agent before the script runs, under a name of its own.

    Its modules have built-ins of their own: what the script replaces in `builtins` stays the script's.  Everything is
    imported now, while the script's folder is not yet on the path: a module of the script's may have the name of one
    of the standard library's.
    """
    import builtins
    import gc
    import importlib.machinery
    import importlib.util
    import os

    os.environ.pop(MARK, None)
    here = os.path.dirname(os.path.abspath(__file__))
    sys.path[:] = [p for p in sys.path if os.path.abspath(p) != here]
    own = dict(vars(builtins))

    class Loader(importlib.machinery.SourceFileLoader):
        def exec_module(self, module: ModuleType) -> None:
            module.__dict__["__builtins__"] = own
            super().exec_module(module)

    class Finder:
        @staticmethod
        def find_spec(name: str, path: object = None, target: object = None) -> ModuleSpec | None:
            if not name.startswith(NAME + "."):
                return None
            base = os.path.join(here, *name.split(".")[1:])
            if os.path.isdir(base):
                file = os.path.join(base, "__init__.py")
                return importlib.util.spec_from_file_location(
                    name, file, loader=Loader(name, file), submodule_search_locations=[base]
                )
            return importlib.util.spec_from_file_location(name, base + ".py", loader=Loader(name, base + ".py"))

    init = os.path.join(here, "__init__.py")
    spec = importlib.util.spec_from_file_location(
        NAME, init, loader=Loader(NAME, init), submodule_search_locations=[here]
    )
    assert spec is not None and spec.loader is not None
    package = importlib.util.module_from_spec(spec)
    sys.modules[NAME] = package
    spec.loader.exec_module(package)
    sys.meta_path.insert(0, Finder)  # a class serves as its own instance
    collecting = gc.isenabled()
    gc.disable()  # nothing of it is garbage: 15 ms
    try:
        for folder, folders, files in os.walk(here):
            folders[:] = [f for f in folders if f != "__pycache__"]
            inner = os.path.relpath(folder, here).replace(os.sep, ".")
            for file in files:
                name = file[:-3]
                if file.endswith(".py") and name not in ("__init__", "boot"):
                    importlib.import_module(".".join([NAME, *([] if inner == "." else [inner]), name]))
    finally:
        sys.meta_path.remove(Finder)
        if collecting:
            gc.enable()
    return sys.modules[NAME + ".main"]


if sys.argv[1] == "anew":
    try:
        run_anew = load().run_anew
    except OSError:  # our files cannot be read here: it becomes what it would have been
        import json
        import os

        os.execv(sys.executable, json.loads(sys.argv[2])["words"])
    run_anew(sys.argv[2], LOADED)
else:
    load().run(int(sys.argv[1]), LOADED)
