"""Runs CPython's own test modules plainly and rewritten, and compares their counts.

`python benchmarks/transparency.py [MODULE…]`; the modules' files are rewritten as the user's code.  With RECORDED=1 in
the environment every loop is recorded, and the lines are counted.
"""

from __future__ import annotations

import asyncio
import os
import re
import subprocess
import sys
import sysconfig
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "src"))

from uneven_sum.client import Client, Exited, Launch, Output, Trouble

MODULES = (
    *("generators", "scope", "exceptions", "listcomps", "with", "coroutines", "dataclasses", "decimal", "fractions"),
    *("statistics", "math", "cmath", "random", "json", "csv", "re", "datetime", "collections", "itertools"),
    *("functools", "decorators", "contextlib", "copy", "pickle", "traceback", "warnings", "descr", "augassign"),
    *("unpack", "dictcomps", "genexps", "yield_from", "raise", "inspect"),
)
# Test files that packages ship, run by pytest in our own interpreter.
SHIPPED = (
    *("numpy/_core/tests/test_function_base.py", "numpy/_core/tests/test_shape_base.py"),
    *(
        "numpy/_core/tests/test_errstate.py",
        "numpy/lib/tests/test_nanfunctions.py",
        "numpy/lib/tests/test_polynomial.py",
    ),
    *("pandas/tests/frame/methods/test_interpolate.py", "pandas/tests/series/test_cumulative.py"),
    *("pandas/tests/groupby/test_cumulative.py", "pandas/tests/window/test_rolling.py"),
)
WITH_PYTEST = """import sys, pytest
sys.exit(pytest.main(["-q", "--assert=plain", "-p", "no:cacheprovider", "-p", "no:asyncio", sys.argv[1]]))
"""
RUNNER = """import sys, unittest, importlib
try:
    module = importlib.import_module("test.test_" + sys.argv[1])
except ImportError as e:
    print("Ran 0 missing", e); sys.exit()
sys.argv = sys.argv[:1]
unittest.main(module=module, argv=["x"], verbosity=0)
"""


def plain(python: str, runner: str, name: str) -> str:
    done = subprocess.run([python, runner, name], capture_output=True, text=True, timeout=300)
    return done.stderr + done.stdout


async def rewritten(python: str, runner: str, name: str, tests: str) -> tuple[str, list[str]]:
    client = Client(Launch(runner, [name], python=python, capture=True, go_on=True, user_code=[tests]))
    recorded = {"always": {}, "counts": True} if os.environ.get("RECORDED") else {}
    await client.start(**recorded)
    await client.write_input(None)
    text, trouble = "", []
    while not isinstance(event := await asyncio.wait_for(client.next_event(), 400), Exited):
        if isinstance(event, Output):
            text += event.text
        elif isinstance(event, Trouble):
            trouble.append(event.detail.strip().splitlines()[-1])
    await client.end()
    return text + ("" if not event.died else f"\n{event.sentence}"), trouble


def told(text: str) -> str:
    counts = re.findall(r"^((?:\d+ \w+, )*\d+ \w+) in [\d.]+s", text, re.M)
    if counts:
        return str(counts[-1])
    ran = re.findall(r"Ran (\d+) test", text)
    end = re.findall(r"^(OK.*|FAILED.*)$", text, re.M)
    return f"{ran[-1] if ran else '-'} {end[-1] if end else text.strip().splitlines()[-1:]}"


def main(modules: tuple[str, ...]) -> None:
    python = os.environ.get("PYTHON", sys.executable)
    ask = "import os, test; print(os.path.dirname(test.__file__))"
    tests = subprocess.run([python, "-c", ask], capture_output=True, text=True).stdout.strip()
    with tempfile.TemporaryDirectory() as folder:
        runner = os.path.join(folder, "runner.py")
        Path(runner).write_text(RUNNER)
        shipper = os.path.join(folder, "shipped.py")
        Path(shipper).write_text(WITH_PYTEST)
        site = sysconfig.get_paths()["purelib"]
        for name in modules or (*MODULES, *SHIPPED):
            how, argument, users = (runner, name, tests)
            if name.endswith(".py"):
                how, argument, users = shipper, os.path.join(site, name), os.path.join(site, os.path.dirname(name))
                if not os.path.exists(argument):
                    print(f"{name:<14} not installed")
                    continue
            try:
                one = plain(python, how, argument)
                other, trouble = asyncio.run(rewritten(python, how, argument, users))
            except (TimeoutError, subprocess.TimeoutExpired):
                print(f"{name:<14} out of time")
                continue
            same = told(one) == told(other)
            rest = "" if same else f"  rewritten: {told(other)}"
            print(f"{name:<14} {'same' if same else 'DIFFERS'}  {told(one)}{rest}")
            for line in sorted(set(trouble))[:3]:
                print(f"{'':<14} trouble of ours: {line}")
            if not same:
                failed = set(re.findall(r"^(?:FAIL|ERROR): .*$", other, re.M)) - set(
                    re.findall(r"^(?:FAIL|ERROR): .*$", one, re.M)
                )
                print("\n".join(f"{'':<16}{f}" for f in sorted(failed)[:12]))


if __name__ == "__main__":
    main(tuple(sys.argv[1:]))
