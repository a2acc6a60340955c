"""Code that is run from texts and files."""
from __future__ import annotations
import os
import runpy
import sys
import tempfile
PART = os.path.join(tempfile.gettempdir(), "uneven_part_of_corpus.py")
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
try:
    exec("a = = 2")
except SyntaxError as e:
    print(e, e.filename)
try:
    exec("def h():\n    return 1/0\nh()")
except ZeroDivisionError as e:
    import traceback; traceback.print_exc()
