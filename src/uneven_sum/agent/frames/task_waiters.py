"""Who waits for a task or a future that keeps an exception, and whether that one handles it."""

from __future__ import annotations

import ast
import functools
import sys
import threading
import types
from collections.abc import Callable
from typing import Any

from ..core.text import clean
from ..source import registry
from ..source.source_file import Statement
from . import exception_handlers, stack
from .exception_classes import Flying
from .exception_handlers import Fate
from .namespace import locals_of

RESULTS = ("result", "get")  # methods that give the result of a future, or of a pool's task
WAITERS = {  # calls that wait for a result, and give it
    ("multiprocessing.pool", "ApplyResult.get"),
    ("multiprocessing.pool", "IMapIterator.next"),
    ("concurrent.futures._base", "Future.result"),
    ("joblib.parallel", "Parallel._retrieve"),
    ("dask.local", "get_async"),
    ("distributed.utils", "sync"),
}
DEEPEST = 20  # tasks that wait for each other
KEEPERS = {
    ("concurrent.futures.thread", "_WorkItem.run"): "future",
    ("distributed.worker", "_run_task"): "cluster",
    ("multiprocessing.pool", "worker"): "pool",
    ("concurrent.futures.process", "_process_worker"): "pool",
    ("joblib.externals.loky.process_executor", "_process_worker"): "pool",
    ("loky.process_executor", "_process_worker"): "pool",
}
PROCESS = ("multiprocessing.process", "BaseProcess._bootstrap")  # outside of it is what the process was forked from
KEYED_BY = {("dask.local", "execute_task"), ("distributed.worker", "_run_task")}  # their `key` names the task


class Parent:
    """In a worker process: `handles` asks the script's own process whether it handles an error of this class."""

    handles: Callable[[type], bool] = staticmethod(lambda kind: False)


def kept_by(frame: types.FrameType) -> str:
    """`task`, `future`, `pool` or `cluster` where what the call raises is kept for whoever asks; else empty."""
    inner = frame
    outer: types.FrameType | None = frame
    while outer is not None:
        name = (str(outer.f_globals.get("__name__", "")), outer.f_code.co_qualname)
        if name in KEEPERS:
            return KEEPERS[name]
        if name == ("asyncio.events", "Handle._run") and inner.f_code.co_flags & 0x80:  # a coroutine's
            return "" if _is_main_task() else "task"
        if registry.file_of(outer) is not None:
            inner = outer
        outer = outer.f_back
    return ""


def _is_main_task() -> bool:
    """True in the task whose exception `asyncio.run` raises again."""
    asyncio = sys.modules.get("asyncio")
    task = asyncio.current_task() if asyncio is not None else None
    callbacks = [entry[0] if isinstance(entry, tuple) else entry for entry in getattr(task, "_callbacks", None) or []]
    return any(getattr(callback, "__name__", "") == "_run_until_complete_cb" for callback in callbacks)


def is_awaited(exc: BaseException, frame: types.FrameType) -> bool:
    """True where whoever waits for what the call is a part of will handle the exception, as far as can be known."""
    kind = kept_by(frame)
    if kind == "task":
        asyncio = sys.modules.get("asyncio")
        task = asyncio.current_task() if asyncio is not None else None
        return task is not None and _task_is_awaited(exc, task, 0)
    if kind in ("pool", "cluster") and Parent.handles(type(exc)):
        return True
    return kind in ("future", "cluster") and result_is_tried(exc, threading.get_ident())


def begins_process(frame: types.FrameType) -> bool:
    """Whether a child of the script begins with this call: nothing further out handles its errors."""
    return (frame.f_globals.get("__name__"), frame.f_code.co_qualname) == PROCESS


def _task_is_awaited(exc: BaseException, task: object, depth: int) -> bool:
    if depth > DEEPEST:
        return False
    for entry in getattr(task, "_callbacks", None) or []:
        callback = entry[0] if isinstance(entry, tuple) else entry
        owner = getattr(callback, "__self__", None)
        cells = _closure(callback)
        if isinstance(callback, functools.partial):  # `wait_for`: it wakes another future up
            if any(_task_is_awaited(exc, a, depth + 1) for a in callback.args if hasattr(a, "_callbacks")):
                return True
        if cells.get("return_exceptions") is True:
            return True
        if "outer" in cells and _task_is_awaited(exc, cells["outer"], depth + 1):  # `gather`, `shield`
            return True
        if owner is None:
            continue
        parent = getattr(owner, "_parent_task", None)
        if parent is not None:  # a task group raises a group of what its tasks have raised
            group = BaseExceptionGroup("", [exc])
            if _coroutine_handles(group, parent) or _task_is_awaited(group, parent, depth + 1):
                return True
        elif hasattr(owner, "get_coro"):  # a task that awaits this one
            if _coroutine_handles(exc, owner) or _task_is_awaited(exc, owner, depth + 1):
                return True
    return False


def _closure(callback: Any) -> dict[str, object]:
    code = getattr(callback, "__code__", None)
    found: dict[str, object] = {}
    if isinstance(code, types.CodeType):
        for name, cell in zip(code.co_freevars, callback.__closure__ or ()):
            try:
                found[name] = cell.cell_contents
            except ValueError:
                continue
    return found


def _coroutine_handles(exc: BaseException, task: Any) -> bool:
    """Whether a suspended coroutine, or one that awaits it, has a clause around its `await`."""
    frames = []
    coroutine = task.get_coro()
    for _ in range(DEEPEST):
        frame = getattr(coroutine, "cr_frame", None)
        if frame is None:
            break
        frames.append(frame)
        coroutine = getattr(coroutine, "cr_await", None)
    flying: Flying = exc
    for frame in reversed(frames):
        file = registry.file_of(frame)
        if file is None:
            fate = exception_handlers.in_code(flying, frame)
        else:
            statement = exception_handlers.statement_at(file, frame)
            fate, flying = exception_handlers.in_file(flying, statement, frame) if statement else (Fate.PASSES, flying)
        if fate is not Fate.PASSES:
            return fate is Fate.HANDLED
    return False


def result_is_tried(exc: Flying, here: int = 0) -> bool:
    """Whether a user call in another thread than `here` asks for results within a `try` that handles the exception.

    A call that waits for a result at this moment gets it; one that does something else may ask for it later.
    """
    for thread, frame in list(sys._current_frames().items()):
        if thread == here:
            continue
        waits = _waits(frame)
        for call in stack.calls(frame):
            file = registry.file_of(call)
            present = exception_handlers.statement_at(file, call) if file is not None else None
            if file is None or present is None:
                continue
            if waits and exception_handlers.in_file(exc, present, call)[0] is Fate.HANDLED:
                return True
            for statement in () if waits else file.statements:
                if statement.scope is present.scope and _asks_for_result(statement):
                    if exception_handlers.in_file(exc, statement, call)[0] is Fate.HANDLED:
                        return True
    return False


def _waits(frame: types.FrameType | None) -> bool:
    """Whether the innermost user call of a thread waits for the result of a pool's task or of a future."""
    while frame is not None and registry.file_of(frame) is None:
        if (frame.f_globals.get("__name__"), frame.f_code.co_qualname) in WAITERS:
            return True
        frame = frame.f_back
    return False


def _asks_for_result(statement: Statement) -> bool:
    if hasattr(statement.node, "body"):
        return False
    return any(
        isinstance(node, ast.Await)
        or (isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in RESULTS)
        for node in ast.walk(statement.node)
    )


def task_of(frame: types.FrameType) -> str:
    """`task rate in thread ThreadPoolExecutor-0_0`: the thread that a call is in, with the task of a pool or of Dask
    that it runs; empty in the main thread."""
    thread = threading.current_thread()
    if thread is threading.main_thread():
        return ""
    task = ""
    outer: types.FrameType | None = frame
    while outer is not None and not task:
        place = (outer.f_globals.get("__name__"), outer.f_code.co_qualname)
        if place in KEYED_BY:
            task = str(locals_of(outer).get("key", ""))
        elif place == ("concurrent.futures.thread", "_WorkItem.run"):
            item: Any = locals_of(outer).get("self")
            called = item.fn if hasattr(item, "fn") else item.task[0]  # `task` since 3.14
            task = str(getattr(called, "__qualname__", ""))
        outer = outer.f_back
    return f"task {clean(task, 60)} in thread {thread.name}" if task else f"thread {thread.name}"
