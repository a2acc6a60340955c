"""Code that is run from texts and files."""
from __future__ import annotations
import os
import runpy
import sys
import tempfile
PART = os.path.join(tempfile.gettempdir(), f"uneven_part_{os.getpid()}.py")
open(PART, "w").write("import math\ndef ratio(a, b):\n    return a / b\nq = ratio(1.0, 2.0)\nw = math.inf\nprint(__name__, q)\n")
exec("x = 1.5\ny: foo = x * 2\ndef g(z):\n    return z / 3\nprint(g(y), __annotations__)")
for k in range(3):
    exec(f"v{k} = {k} / 2")
print(v2)
def f(a):
    exec("print('in f', a)", {"a": a})
    loc = {}
    exec("b = a * 2", {"a": a}, loc)
    return loc
print(f(3))
code = compile("import sys\nz = 2.0\nprint(sys._getframe().f_code.co_filename)\n", "<made>", "exec")
exec(code)
exec(compile(open(PART).read(), PART, "exec"))
print(runpy.run_path(PART, run_name="other")["q"])
os.unlink(PART)
try:
    exec("a = = 2")
except SyntaxError as e:
    print(e, e.filename)
try:
    exec("def h():\n    return 1/0\nh()")
except ZeroDivisionError as e:
    import traceback; traceback.print_exc()
rule = "  a * 2 + head"
def by_rule(a, head=1.5):
    import sys
    return eval(rule), eval("sys._getframe().f_code.co_name"), eval("[a for _ in range(2)]", {"a": a})
print(by_rule(2), eval(b"1 / 4"), eval("(1,\n 2)"), eval("lambda z: z + 1")(2), eval("locals() is globals()"))
print(eval(compile("v1 + 1", "<rule>", "eval")), eval(compile("q1 = 3", "<rule>", "exec")), q1)
for text in ("area +", "x = 2", "1 / 0", "  1\n 2", 3, None):
    try:
        print(eval(text))
    except Exception as e:
        print(type(e), e, getattr(e, "filename", None), getattr(e, "lineno", None))
try:
    eval("[1 / n for n in (2, 1, 0)]")
except ZeroDivisionError:
    traceback.print_exc()
def eval(text):
    return "own"
print(eval("1 / 0"))
