"""A script that puts another copy of `warnings` in the module's place hears only its own warnings at an import."""
import importlib
import os
import sys
import tempfile

here = os.path.dirname(os.path.abspath(__file__))
kept = {name: sys.modules.pop(name) for name in ("warnings", "_warnings") if name in sys.modules}
other = importlib.import_module("warnings")
with tempfile.TemporaryDirectory(dir=here) as folder:
    with open(os.path.join(folder, "quillmere_part.py"), "w") as f:
        f.write("def rate(x):\n    for k in range(3):\n        x += k\n    return x\n")
    sys.path.insert(0, folder)
    with other.catch_warnings(record=True) as heard:
        other.simplefilter("always")
        import quillmere_part
    print("heard", [str(w.message) for w in heard], quillmere_part.rate(1))
sys.modules.update(kept)
