import os, sys, tempfile, textwrap
folder = tempfile.mkdtemp()
for name, text in {
    "fractions.py": "WHO = 'own fractions'\n",
    "helper.py": "from . import nothing" if False else "RATIO = 3 / 2\ndef f(x):\n    y = x / 2\n    return y\n",
    "broken.py": "x = (\n",
    "pkg/__init__.py": "from .inner import g\n",
    "pkg/inner.py": "import sys\ndef g(x):\n    return x * RATE\nRATE = 1.5 / 3\nprint(__name__, __package__)\n",
    "raises.py": "def go():\n    raise ValueError('inside')\ngo()\n",
}.items():
    path = os.path.join(folder, name)
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "w") as f:
        f.write(text)
sys.path.insert(0, folder)
os.chdir(folder)
import fractions
import helper
print(fractions.WHO)
import pkg
print(helper.f(3.0), helper.RATIO, pkg.g(2.0), helper.__doc__, helper.__name__, type(helper.__loader__).__name__)
import traceback, importlib
for name in ("broken", "raises", "no_such_module"):
    try:
        importlib.import_module(name)
    except (SyntaxError, ValueError, ImportError) as e:
        print("".join(traceback.format_exception(e)).replace(folder, "FOLDER"))
try:
    import raises
except ValueError:
    print(traceback.format_exc().replace(folder, "FOLDER"))
try:
    from helper import nothing
except ImportError as e:
    print(str(e).replace(folder, "FOLDER"))
importlib.reload(helper)
print(helper.f(5.0), sorted(k for k in vars(helper) if not k.startswith("__")))
os.remove(__file__) if False else None
