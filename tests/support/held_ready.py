"""An interpreter that has loaded the agent, NumPy and pandas, and becomes a script's process in a fork of itself.

    python held_ready.py BOOT SOCKET

Each order on the socket comes with the descriptors of the new process: its connection to the host, and its three
streams.  The new process is handed to the nearest subreaper, the test's own process, as its child.  To a script it is
a process that was started as usual: what was imported here is not in `sys.modules` until the script imports it.
"""

import sys

LOADED = frozenset(sys.modules)

import ast  # noqa: E402
import ctypes  # noqa: E402
import gc  # noqa: E402
import importlib.util  # noqa: E402
import io  # noqa: E402
import json  # noqa: E402
import marshal  # noqa: E402
import os  # noqa: E402
import signal  # noqa: E402
import socket  # noqa: E402
import tempfile  # noqa: E402
import time  # noqa: E402
import warnings  # noqa: E402

PACKAGES = ("numpy", "pandas")
PR_SET_PDEATHSIG = 1


def become_boot(boot, number):
    """Start again as code of the boot module, so that no call but the agent's is below the script's."""
    with open(__file__) as f:
        code = compile(f.read(), boot, "exec")
    descriptor, path = tempfile.mkstemp(".pyc")
    with open(descriptor, "wb") as file:
        file.write(importlib.util.MAGIC_NUMBER + bytes(12) + marshal.dumps(code))
    os.execv(sys.executable, [sys.executable, path, boot, number])


def load_agent(boot):
    """The agent's main module, by the boot module's own way."""
    with open(boot) as f:
        tree = ast.parse(f.read())
    del tree.body[-1]  # which runs it
    names = {"__file__": boot, "__name__": "__main__"}
    exec(compile(tree, boot, "exec"), names)
    return names["load"]()


class Packages:
    """Modules that are imported and hidden: importing one of their names puts all of its group back."""

    def __init__(self):
        self.groups = []  # (modules by name, warnings' filters) in the order of their imports
        for name in PACKAGES:
            before, filters = set(sys.modules), list(warnings.filters)
            try:
                importlib.import_module(name)
            except ImportError:
                continue
            added = [f for f in warnings.filters if f not in filters]
            warnings.filters[:] = filters
            self.groups.append(({n: sys.modules[n] for n in sys.modules if n not in before}, added))
        standard = sys.stdlib_module_names
        for modules, _ in self.groups:
            for name in list(modules):
                if name.partition(".")[0] in standard:
                    del modules[name]  # stays imported
                else:
                    del sys.modules[name]
        sys.meta_path.insert(0, self)

    def find_spec(self, name, path=None, target=None):
        wanted = next((i for i, (modules, _) in enumerate(self.groups) if name in modules), None)
        if wanted is None:
            return None
        module = self.groups[wanted][0][name]
        for modules, filters in self.groups[: wanted + 1]:
            sys.modules.update((n, m) for n, m in modules.items() if n != name)  # else its own loader is asked
            for one in reversed(filters):
                warnings.filters.insert(0, one)
            if "numpy.random" in modules:
                modules["numpy.random"].seed()
        warnings._filters_mutated() if hasattr(warnings, "_filters_mutated") else None
        del self.groups[: wanted + 1]
        if not self.groups:
            sys.meta_path.remove(self)
        return importlib.util.spec_from_loader(name, Restored(module))


class Restored:
    """Gives a module that is there already."""

    def __init__(self, module):
        self.module, self.spec, self.loader = module, module.__spec__, module.__loader__

    def create_module(self, spec):
        return self.module

    def exec_module(self, module):
        module.__spec__, module.__loader__ = self.spec, self.loader


def next_process(ours, mark, boot):
    """Wait for an order; returns in the new process only, with the descriptor of its connection."""
    while True:
        data, fds, _, _ = socket.recv_fds(ours, 1 << 16, 4)
        if not data:
            os._exit(0)
        length = int(data[:8])
        while len(data) < length + 8:
            data += ours.recv(1 << 16)
        order = json.loads(data[8:])
        between = os.fork()
        if between == 0:
            if os.fork() == 0:
                break
            os._exit(0)
        os.waitpid(between, 0)
        for fd in fds:
            os.close(fd)
    while os.getppid() != order["host"]:  # until then the host cannot wait for it
        time.sleep(0.0005)
    ours.sendall(b"%8d" % os.getpid())
    ours.close()
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
    if os.getppid() != order["host"]:
        os._exit(1)
    for i, fd in enumerate(fds[1:]):
        os.dup2(fd, i)
        os.close(fd)
    os.chdir(order["cwd"])
    ctypes.memmove(mark, order["mark"].encode(), len(order["mark"]))
    os.environ.clear()
    os.environ.update(order["env"])
    renew_streams()
    sys.argv = [boot, str(fds[0])]
    sys.orig_argv = [sys.executable, *sys.argv]
    os.set_inheritable(fds[0], True)
    return fds[0]


def renew_streams():
    """The three streams as the interpreter makes them at its start: their buffering depends on what they are."""
    for i, (name, mode) in enumerate((("stdin", "rb"), ("stdout", "wb"), ("stderr", "wb"))):
        old = getattr(sys, name)
        raw = open(i, mode, -1, closefd=False)  # noqa: SIM115  # for as long as the process lives
        getattr(raw, "raw", raw).name = f"<{name}>"
        by_line = os.isatty(i) or name == "stderr"
        new = io.TextIOWrapper(raw, old.encoding, old.errors, "\n", by_line)
        new.mode = mode[0]
        setattr(sys, name, new)
        setattr(sys, f"__{name}__", new)


if __file__.endswith(".py"):
    become_boot(*sys.argv[1:])
BOOT, SOCKET = sys.argv[1], socket.socket(fileno=int(sys.argv[2]))
os.unlink(__file__)
find = ctypes.CDLL(None).getenv
find.restype, find.argtypes = ctypes.c_void_p, [ctypes.c_char_p]
MARK = find(b"UNEVEN_SUM_RUN")
sys.path.pop(0)
main = load_agent(BOOT)
packages = Packages()
gc.collect()
gc.freeze()
main.run(next_process(SOCKET, MARK, BOOT), LOADED)
