"""The test that runs, by the calls of its runner on the stack: how to run it alone, and whether it expects to fail."""

from __future__ import annotations

import os
import sys
import types
from dataclasses import field
from typing import Any

from ..core.records import fact
from .namespace import locals_of

ONLY_LAST = ("--lf", "--last-failed", "--ff", "--failed-first", "--sw", "--stepwise", "--sw-skip", "--stepwise-skip")


@fact
class Test:
    """`name`: as its runner writes it; `arguments`: of the runner, to run this test alone."""

    runner: str
    name: str
    arguments: list[str] = field(default_factory=list)
    expects: tuple[type[BaseException], ...] = ()


def skips(exc: BaseException) -> bool:
    """True for what a test raises to leave: skipped, expected to fail, the end of the session."""
    outcomes, case = sys.modules.get("_pytest.outcomes"), sys.modules.get("unittest.case")
    ways = [getattr(outcomes, name, None) for name in ("Skipped", "XFailed", "Exit")]
    ways += [getattr(case, name, None) for name in ("SkipTest", "_ShouldStop")]
    ways.append(getattr(sys.modules.get("_pytest.runner"), "Exit", None))
    return isinstance(exc, tuple(way for way in ways if isinstance(way, type)))


def expects(exc: BaseException, frame: types.FrameType | None) -> bool:
    """Whether the test around a call is marked as one that fails in this way."""
    test = present(frame)
    return test is not None and isinstance(exc, test.expects)


def present(frame: types.FrameType | None) -> Test | None:
    """The test around a call; None outside of tests.  Where pytest runs a test of unittest it is pytest's."""
    if "_pytest.runner" not in sys.modules and "unittest.case" not in sys.modules:
        return None
    found: Test | None = None
    while frame is not None:
        place = (frame.f_globals.get("__name__"), frame.f_code.co_qualname)
        try:
            if place == ("unittest.case", "TestCase.run"):
                found = _of_unittest(locals_of(frame)["self"])
            elif place == ("_pytest.runner", "runtestprotocol"):
                return _of_pytest(locals_of(frame)["item"], found)
        except Exception:
            return found  # another version of the runner: it is a test without a name
        frame = frame.f_back
    return found


def as_dict(frame: types.FrameType | None) -> dict[str, object] | None:
    test = present(frame)
    return None if test is None else {"runner": test.runner, "name": test.name, "arguments": test.arguments}


def _of_unittest(case: Any) -> Test:
    method = getattr(type(case), case._testMethodName, None)
    fails = any(getattr(one, "__unittest_expecting_failure__", False) for one in (case, method))
    name = case.id()
    return Test("unittest", name, [*_without_choice(sys.argv[1:]), "-k", f"*{name}"], (Exception,) if fails else ())


def _without_choice(arguments: list[str]) -> list[str]:
    """Without `-k` of before: several are alternatives."""
    kept: list[str] = []
    for one in arguments:
        if kept and kept[-1] == "-k":
            kept.pop()
        elif not (one.startswith("-k") and len(one) > 2):
            kept.append(one)
    return kept


def _of_pytest(item: Any, inner: Test | None) -> Test:
    config = item.config
    asked = list(getattr(config.option, "file_or_dir", None) or [])
    arguments: list[str] = []
    for one in reversed([str(a) for a in config.invocation_params.args]):
        if one in asked:
            asked.remove(one)
        elif one not in ONLY_LAST:
            arguments.insert(0, one)
    rest = item.nodeid.partition("::")[2]
    place = os.path.relpath(item.path, config.invocation_params.dir)
    return Test("pytest", item.nodeid, [*arguments, f"{place}::{rest}"], _expected_by(item) or (inner or NONE).expects)


def _expected_by(item: Any) -> tuple[type[BaseException], ...]:
    skipping = sys.modules.get("_pytest.skipping")
    if skipping is None or item.config.option.runxfail or next(item.iter_markers("xfail"), None) is None:
        return ()
    mark = item.stash.get(skipping.xfailed_key, None) or skipping.evaluate_xfail_marks(item)
    if not mark:
        return ()
    if mark.raises is None:
        return (BaseException,)
    return mark.raises if isinstance(mark.raises, tuple) else (mark.raises,)


NONE = Test("", "")
