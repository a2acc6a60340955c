"""Becomes the script: as `python SCRIPT ARG…` or `python -m MODULE ARG…` would run it."""

from __future__ import annotations

import ast
import contextlib
import importlib.machinery
import importlib.util
import inspect
import json
import linecache
import os
import signal
import socket
import sys
import traceback
import types
import warnings
from typing import Any

from .audit import probes as audit_probes
from .audit.auditor import Auditor
from .core import identity, run_state, unbuffered_streams
from .core.text import clean
from .core.transport import Closed, Wire
from .engine import anew, audited, children, exits, last_threads
from .engine.cell_motions import CellMotions
from .engine.engine import Engine
from .frames import stack
from .notebook import around
from .notebook.outputs import Outputs
from .origin.search import Copy, Search, Silent
from .pause import headline
from .probes import runtime
from .recording.value_stream import ValueStream
from .reload.loader import Loader
from .requests.dispatch import Requests
from .rewind.checkpoint import SnapshotMaker
from .source import cells, registry
from .source.sites import Options
from .trials import process_resources, trial
from .triggers import warning_places
from .values import snapshot


def run(fd: int, loaded: frozenset[str]) -> None:
    """Waits for `launch` and `configurationDone`, runs the script, and ends as it would."""
    engine = _prepare(fd)
    arguments = engine.launch
    try:
        main, data, path = _main_module(engine, arguments)
    except Failed as e:
        engine.wire.event("unevenSum/cannotRun", {"message": str(e), **e.facts})
        os._exit(2)
    engine.wire.event("initialized", {})
    search = _served(engine)
    code = engine.loader.compile(path, data) if path not in cells.known else None
    unbuffered_streams.mend()
    if arguments.get("lineBuffered"):
        _buffer_lines()
    _hide_traces(loaded)
    process_resources.note_own()
    engine.install()
    if arguments.get("rewind"):
        engine.rewind = SnapshotMaker(engine, str(arguments["rewind"]))
        engine.point_at_start()
    if "start" in engine.pauses_on:
        _pause_at_start(engine, path)
    if search is None:  # its audit hook hears of each probe of a search
        exits.watch(engine)
        if arguments.get("children"):
            anew.watch(engine)
    engine.wire.event("process", {"name": path, "systemProcessId": os.getpid(), "isLocalProcess": True})
    if path in cells.known:
        _put_cells(engine, main, path)
        code = engine.loader.compile(path, cells.known[path].python.encode())
    while True:
        status = _run_to_end(engine, search, code, main, path, data)
        if not engine.from_cell:
            break
        code, run_state.quiet = _compiled(engine, path, data), False  # cells run again
    _end(engine, status)


def run_anew(text: str, loaded: frozenset[str]) -> None:
    """In a process that the script has started anew (`engine.anew`): becomes what it would have been."""
    told = json.loads(text)
    try:
        engine = _joined(told)
        main, data, path, code = _program(engine, told)
    except (OSError, Closed, Failed):
        os.execv(sys.executable, told["words"])  # there is no host any more, or the interpreter says what is wrong
    sys.orig_argv = told["words"]
    engine.loader.folders, headline.Main.path = told["folders"], told["main"]
    unbuffered_streams.mend()
    if engine.launch.get("lineBuffered"):
        _buffer_lines()
    _hide_traces(loaded)
    process_resources.note_own()
    engine.install()
    exits.watch(engine)
    anew.watch(engine)
    _end(engine, _run_to_end(engine, None, code, main, path, data))


def _joined(told: dict[str, Any]) -> Engine:
    """The engine of a process that was started anew, connected to the host and set up as the script's own is."""
    sock = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
    children.connect(sock, told["socket"])
    name = f"{told['name']} ({os.getpid()})"
    Wire(sock).event("unevenSum/child", {"name": name, "anew": True})
    engine = _prepare(anew.out_of_the_way(sock.detach()))
    children.adopt(engine, name)
    audited.in_process(engine, forked=False)
    engine.requests.serve()
    return engine


def _program(engine: Engine, told: dict[str, Any]) -> tuple[types.ModuleType, bytes, str, types.CodeType]:
    """What a process that was started anew runs: its module, text, path and code."""
    what, mode = str(told["what"]), told["mode"]
    if mode != "c":
        main, data, path = _main_module(engine, {"program": what, "args": told["args"], "asModule": mode == "m"})
        engine.loader.folders = told["folders"]
        users = engine.loader.is_users(path)
        return main, data, path, engine.loader.compile(path, data) if users else compile(data, path, "exec")
    main = types.ModuleType("__main__")
    main.__loader__, main.__spec__ = importlib.machinery.BuiltinImporter, None
    sys.argv = ["-c", *told["args"]]
    _put_first("")
    _become(engine, main)
    return main, what.encode(), "<string>", compile(what, "<string>", "exec", dont_inherit=True)


def _become(engine: Engine, main: types.ModuleType) -> None:
    """Put a module in the place of the main one; its imports get probes from now on."""
    engine.old_main = sys.modules["__main__"]  # its names must not be cleared under us
    main.__builtins__ = sys.modules["builtins"]  # type: ignore[attr-defined]  # as CPython's own main module has
    if sys.version_info < (3, 14):
        main.__annotations__ = {}
    sys.modules["__main__"] = main
    engine.loader.install()


def _end(engine: Engine, status: Any) -> None:
    """End as the script has ended."""
    last_threads.quiet_when_ended(engine)
    with contextlib.suppress(OSError):
        engine.wire.check()
    if status == -signal.SIGINT:
        signal.signal(signal.SIGINT, signal.SIG_DFL)
        os.kill(os.getpid(), signal.SIGINT)
    sys.exit(status)


def _run_to_end(
    engine: Engine, search: Search | None, code: types.CodeType | None, main: types.ModuleType, path: str, data: bytes
) -> object:
    """Run the module, and say how it has ended; its exit status, a signal as its number below 0."""
    arguments = engine.launch
    began = engine.began = snapshot.clock()
    status: object = 0
    failed: BaseException | None = None
    said: dict[str, object] = {}
    try:
        while code is not None:
            again: types.CodeType | None = None
            try:
                _execute(code, main.__dict__)
            except runtime.Anew:
                again = code
            code = _compiled(engine, path, data) if again is not None else None
    except SystemExit as e:
        status, said = _exit_status(e), _last_words(e)
        if arguments.get("pauseAtEnd"):
            engine.last_calls.ended_by(e)
    except KeyboardInterrupt as e:
        _show(e)
        status = -signal.SIGINT
    except BaseException as e:
        _show(e)
        status = 1
        failed = e
    if search is not None:
        search.failure = f"{type(failed).__name__}: {clean(str(failed), 120)}" if failed is not None else ""
        search.reached(None, 0)
    if arguments.get("pauseAtEnd"):
        last_threads.wait()
    engine.motion.begin("continue", None)
    seconds = snapshot.clock() - began
    if not engine.gone and os.getpid() == engine.process:
        try:
            engine.send_written()
            if engine.cells is not None:
                engine.cells.over()
            if engine.stream is not None:
                engine.stream.end()
            audited.send(engine)
            if failed is not None and arguments.get("pauseAtEnd") and not engine.ended:
                unmet = failed is not engine.judged and "error" in engine.pauses_on
                if unmet and engine.switches.error.wants_class(type(failed)):
                    engine.post_mortem(failed)
            engine.wire.event("unevenSum/ended", {"exit_status": status, "seconds": seconds, **said})
        except Closed:
            engine.ended = True
        if arguments.get("pauseAtEnd") and status == 0 and not engine.ended:
            engine.end_pause(main.__dict__, path, seconds)
    elif not engine.gone:
        audited.before_exit(engine)
    return status


def _compiled(engine: Engine, path: str, data: bytes) -> types.CodeType:
    """The script's code once more; of a notebook, of the text that was taken up last, from the cell that is to run."""
    engine.from_cell = False
    own = cells.known.get(path)
    if own is None:
        return engine.loader.compile(path, data)
    code = engine.loader.compile(path, own.python.encode())
    own.start = 0  # when its functions get new lookouts, all of it is compiled
    return code


def _put_cells(engine: Engine, main: types.ModuleType, path: str) -> None:
    """What the cells of a notebook expect around them, and motion by cell."""
    own = cells.known[path]
    outputs = Outputs(engine.wire, own, main.__dict__)
    engine.cells = CellMotions(engine, outputs)
    runtime.PROBES["cell_begins"] = engine.cells.begins
    around.put(outputs, own, main.__dict__, engine.loader.compile)


def _served(engine: Engine) -> Search | None:
    """Answer requests until `configurationDone`.  In a copy of this process: the search that it is for."""
    try:
        engine.requests.serve()
        return None
    except Copy as copy:
        engine.wire = Silent(engine.wire.sock)
        engine.pauses_on, engine.honours_breakpoint = set(), False
        engine.loader.options, engine.loader.unwatched = copy.search.options(), copy.search.unwatched.__setitem__
        return copy.search


def _execute(code: types.CodeType | None, names: dict[str, object]) -> None:
    """Run the script's module; that of a notebook which awaits at its top is a coroutine."""
    assert code is not None
    if not code.co_flags & inspect.CO_COROUTINE:
        exec(code, names)
        return
    import asyncio  # only now: the script may have a module of that name

    async def run() -> None:
        await eval(code, names)

    asyncio.run(run())


class Failed(Exception):
    """The script cannot be read, found or compiled."""

    def __init__(self, message: str, **facts: object) -> None:
        super().__init__(message)
        self.facts = facts


def _prepare(fd: int) -> Engine:
    sock = socket.socket(fileno=fd)
    sock.set_inheritable(False)
    wire = Wire(sock)
    engine = Engine(wire)
    requests = Requests(engine)
    engine.requests = requests
    message = wire.receive()
    assert message is not None
    arguments = message.get("arguments") or {}
    engine.launch = arguments
    checks = arguments.get("checks", True)
    guards, meters = arguments.get("guards", True), arguments.get("meters", True)
    blocks = arguments.get("blocks", True)
    engine.loader.options = Options(guards=guards, checks=checks, meters=meters, marks=meters, blocks=blocks)
    if arguments.get("pauseAtEnd"):
        engine.loader.options.left = True
        runtime.PROBES["left"] = engine.last_calls.left
    engine.go_on = bool(arguments.get("goOn"))
    if arguments.get("audit") is not None:
        engine.audit = Auditor(set(arguments["audit"]) or None)
        engine.audit.say = engine.write
        engine.loader.options.audit = engine.audit.wants()
        runtime.PROBES.update(audit_probes.of(engine.audit))
    if arguments.get("stream"):
        engine.stream = ValueStream(str(arguments["stream"]))
        engine.loader.options.stream = True
        runtime.PROBES.update(engine.stream.probes())
        if arguments.get("shake") is not None:
            from .shaking import probes as shaking
            from .shaking import same_draws

            if int(arguments["shake"]) >= 0:
                same_draws.arrange()
            engine.loader.options.audit, engine.loader.options.results = shaking.WANTED, True
            runtime.PROBES.update(shaking.of(engine.stream, int(arguments["shake"])))
    if engine.loader.options.audit:
        warning_places.see_through()
    wire.send(
        {
            "type": "response",
            "request_seq": message["seq"],
            "command": "launch",
            "success": True,
            "body": {"requests": requests.declarations()},
        }
    )
    trial.LIMIT = float(arguments.get("trialSeconds") or trial.LIMIT)
    run_state.fork = _fork
    return engine


def _fork() -> int:
    run_state.own_fork = True
    try:
        return os.fork()
    finally:
        run_state.own_fork = False


def _main_module(engine: Engine, arguments: dict[str, Any]) -> tuple[types.ModuleType, bytes, str]:
    program, args = str(arguments["program"]), [str(a) for a in arguments.get("args") or []]
    folders = [os.getcwd(), *map(str, arguments.get("userCode") or [])]
    main = types.ModuleType("__main__")
    if arguments.get("asModule"):
        _put_first(os.getcwd())
        spec = _find_module(program)
        path = str(spec.origin)
        sys.argv = [path, *args]
        main.__spec__, main.__package__ = spec, spec.parent
        main.__loader__, cached = spec.loader, spec.cached
        main.__file__ = path
        sys.orig_argv = [sys.executable, "-m", program, *args]
    else:
        path = _absolute(program)
        if arguments.get("notebook"):
            cells.note(path, arguments["notebook"])
        sys.argv = [program, *args]
        _put_first(os.path.dirname(os.path.realpath(program)))
        main.__spec__ = None
        main.__loader__ = importlib.machinery.SourceFileLoader("__main__", path)
        if path not in cells.known:  # a notebook's names have none
            main.__file__ = path
        cached = None
        sys.orig_argv = [sys.executable, program, *args]
    folders.append(os.path.dirname(os.path.realpath(path)))
    headline.Main.path = path
    engine.loader.folders = [os.path.join(os.path.realpath(f), "") for f in folders]
    if sys.version_info < (3, 15):
        main.__cached__ = cached  # type: ignore[attr-defined]  # as CPython's own main module has
    data = _readable(path, engine.loader)
    _become(engine, main)
    return main, data, path


def _put_first(folder: str) -> None:
    """The folder of what runs on the path, as the interpreter puts it there."""
    if not sys.flags.safe_path:
        sys.path.insert(0, folder)


def _absolute(program: str) -> str:
    """A script's file name as the interpreter makes it: the folder is put before it, and nothing is resolved."""
    return program if os.path.isabs(program) else os.path.join(os.getcwd(), program)


def _find_module(name: str) -> importlib.machinery.ModuleSpec:
    try:
        spec = importlib.util.find_spec(name)
        if spec is not None and spec.submodule_search_locations is not None:
            spec = importlib.util.find_spec(name + ".__main__")
    except (ImportError, ValueError, AttributeError) as e:
        raise Failed(f"The module {name} cannot be found: {e}.") from None
    if spec is None or not spec.origin or not spec.origin.endswith(".py"):
        raise Failed(f"There is no module {name} that can be run. Look at its spelling and at --cwd.")
    return spec


def _readable(path: str, loader: Loader) -> bytes:
    """The script's text, once it is known to compile; Failed otherwise."""
    try:
        with open(path, "rb") as f:
            data = f.read()
    except OSError as e:
        raise Failed(f"{path} cannot be read: {e.strerror}.") from None
    flags, own = 0, cells.known.get(path)
    if own is not None:
        data, flags = own.python.encode(), ast.PyCF_ALLOW_TOP_LEVEL_AWAIT
        linecache.cache[path] = len(own.text), None, own.text.splitlines(keepends=True), path
    try:
        with contextlib.suppress(Exception), run_state.silenced("error"), run_state.no_collection():
            loader.checked = (path, data, compile(data, path, "exec", flags, dont_inherit=True))
            return data
        with warnings.catch_warnings(record=True):  # it is compiled again, and gives its warnings then
            compile(data, path, "exec", flags, dont_inherit=True)
        return data
    except SyntaxError as e:
        raise Failed(
            f"{path}{f', {cells.place_words(path, e.lineno)}' if e.lineno else ''}: {e.msg}.",
            line=e.lineno or 0,
            column=e.offset or 0,
            text=_text_at(own, e.lineno or 0) if own is not None else (e.text or "").rstrip("\n"),
        ) from None
    except (ValueError, RecursionError, MemoryError, OverflowError) as e:
        raise Failed(f"{path} cannot be compiled: {e}.") from None


def _text_at(own: cells.Cells, line: int) -> str:
    """A line of a notebook's text: that of its file is another one."""
    return own.lines[line - 1] if 1 <= line <= len(own.lines) else ""


def _hide_traces(loaded: frozenset[str]) -> None:
    """A module of the script's folder must win over one that the agent has imported for itself."""
    folder = sys.path[0]
    try:
        names = {n.removesuffix(".py") for n in os.listdir(folder or ".")}
    except OSError:
        return
    hidden: list[str] = []
    for name in list(sys.modules):
        top = name.partition(".")[0]
        if name in loaded:
            continue
        if top in names and top not in sys.builtin_module_names and top not in ("__main__", "site", "os", "io"):
            spec = getattr(sys.modules.get(top), "__spec__", None)
            if name != top or (spec is not None and spec.origin != "frozen"):
                hidden.append(name)
    for name in hidden:
        del sys.modules[name]


def _buffer_lines() -> None:
    """What the script prints into our pipes is shown line by line."""
    for stream in (sys.stdout, sys.stderr):
        if stream is not None:
            stream.reconfigure(line_buffering=True)  # type: ignore[union-attr]  # TextIO in name, a TextIOWrapper


def _pause_at_start(engine: Engine, path: str) -> None:
    """Steps to the first line."""
    engine.entering = True
    engine.motion.enter()


def _last_words(e: SystemExit) -> dict[str, object]:
    """What `sys.exit("text")` says, and the place of the user's that it is at."""
    text = clean(e.code, 200) if isinstance(e.code, str) else ""
    if not text:
        return {}
    for frame in stack.frames_left(e):
        tb = stack.traceback_from(e, frame)  # the call itself may be at the end of its guard by now
        assert tb is not None
        line, file = tb.tb_lineno, os.path.abspath(registry.path_of(frame))
        return {"said": f'sys.exit("{text}") at line {line}', "file": file, "line": line}
    return {"said": f'sys.exit("{text}")'}


def _exit_status(e: SystemExit) -> int:
    code = e.code
    if code is None:
        return 0
    if isinstance(code, int):
        return code & 0xFF
    try:
        sys.stdout.flush()
        print(code, file=sys.stderr)
    except Exception:
        pass
    return 1


def _show(e: BaseException) -> None:
    """An uncaught exception as the interpreter shows it, without our calls."""
    tb = e.__traceback__
    while tb is not None and tb.tb_frame.f_code.co_filename.startswith(identity.FOLDER):
        tb = tb.tb_next
    e = e.with_traceback(tb)
    stack.hide_ourselves(e)
    sys.last_type, sys.last_value, sys.last_traceback = type(e), e, tb
    sys.__dict__["last_exc"] = e  # since 3.12
    try:
        if cells.known and sys.excepthook is sys.__excepthook__:  # it may read the file itself, which has other lines
            traceback.print_exception(e)
        else:
            sys.excepthook(type(e), e, tb)
    except SystemExit as other:
        sys.exit(_exit_status(other))
    except BaseException as other:
        print("Error in sys.excepthook:", file=sys.stderr)
        sys.__excepthook__(type(other), other, other.__traceback__)
        print("\nOriginal exception was:", file=sys.stderr)
        sys.__excepthook__(type(e), e, tb)
