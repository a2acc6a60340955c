"""A stand-in for the shell of a notebook: what `get_ipython()` and the common magics need, without starting one."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable

from .outputs import Outputs

# Taken as done: they set up what a notebook's own program needs.
ACCEPTED = "matplotlib load_ext reload_ext unload_ext autoreload config precision gui colors xmode automagic pprint"


class Shell:
    """`run_file`: runs a script of the user's in names of its own, and returns them."""

    def __init__(
        self,
        outputs: Outputs,
        names: dict[str, object],
        say: Callable[[int, str], None],
        run_file: Callable[[str], dict[str, object]],
    ) -> None:
        self.user_ns = self.user_global_ns = names
        self.kernel = None
        self._outputs, self._say, self._run_file = outputs, say, run_file

    @property
    def values(self) -> dict[int, object]:
        """Arrays and frames that are the value of a cell's last expression, by the number of the cell."""
        return self._outputs.values

    @property
    def execution_count(self) -> int:
        return self._outputs.counts

    # -- magics --------------------------------------------------------------------------------------

    def run_line_magic(self, name: str, rest: str, *more: object) -> object:
        made = getattr(self, f"_magic_{name.replace('3', '')}", None)
        if made is not None:
            return made(self._filled(rest))
        if name not in ACCEPTED.split():
            self._leave_out(f"%{name} is left out")
        return None

    def run_cell_magic(self, name: str, rest: str, body: str) -> object:
        if name == "writefile":
            parts = [part for part in self._filled(rest).split() if part not in ("-a", "--append")]
            with open(parts[-1], "a" if len(parts) < len(rest.split()) else "w", encoding="utf-8") as f:
                f.write(body)
        else:
            self._leave_out(f"%%{name} is left out")
        return None

    def magic(self, text: str) -> object:
        name, _, rest = text.lstrip("%").partition(" ")
        return self.run_line_magic(name, rest)

    def begin_time(self, rest: str = "") -> None:
        self._outputs.timed = True

    def begin_capture(self, rest: str = "") -> None:
        name = next((word for word in rest.split() if not word.startswith("-")), "")
        self._outputs.captured = (name, len(self._outputs.kept))

    def _magic_env(self, rest: str) -> object:
        if not rest:
            return dict(os.environ)
        name, equals, value = rest.partition("=")
        if not equals:
            name, equals, value = rest.partition(" ")
        if not equals:
            return os.environ[name]
        os.environ[name.strip()] = value.strip()
        print(f"env: {name.strip()}={value.strip()}")
        return None

    def _magic_set_env(self, rest: str) -> object:
        return self._magic_env(rest.replace(" ", "=", 1) if "=" not in rest else rest)

    def _magic_cd(self, rest: str) -> None:
        os.chdir(os.path.expanduser(rest.removeprefix("-q ").strip() or "~"))
        if not rest.startswith("-q "):
            print(os.getcwd())

    def _magic_pwd(self, rest: str) -> str:
        return os.getcwd()

    def _magic_run(self, rest: str) -> None:
        import shlex  # only now: all agents would wait for it

        words = [word for word in shlex.split(rest) if word not in ("-i", "-e", "-n")]
        if not words or words[0].startswith("-") or words[0].endswith(".ipynb"):
            self._leave_out(f"%run {rest} is left out")
            return
        path = words[0] if words[0].endswith(".py") else f"{words[0]}.py"
        before, sys.argv = sys.argv, [path, *words[1:]]
        try:
            made = self._run_file(path)
        finally:
            sys.argv = before
        self.user_ns.update({n: v for n, v in made.items() if not n.startswith("__")})

    def _magic_pip(self, rest: str) -> None:
        self._leave_out(f"%pip {rest} is left out: packages are not changed in a run")

    def _magic_conda(self, rest: str) -> None:
        self._leave_out(f"%conda {rest} is left out: packages are not changed in a run")

    _magic_mamba = _magic_conda

    def _magic_time(self, rest: str) -> None:
        """Without a statement there is nothing to time."""

    _magic_timeit = _magic_prun = _magic_time

    # -- commands of the system ----------------------------------------------------------------------

    def system(self, command: str) -> None:
        """What a command prints goes where the cell's prints go."""
        found = self._ran(command)
        print(found, end="" if found.endswith("\n") or not found else "\n")

    def getoutput(self, command: str) -> list[str]:
        return self._ran(command).splitlines()

    def _ran(self, command: str) -> str:
        words = command.split()
        if words and words[0] in ("pip", "pip3", "conda", "mamba"):
            self._leave_out(f"!{command} is left out: packages are not changed in a run")
            return ""
        import subprocess  # only now: all agents would wait for it

        done = subprocess.run(
            self._filled(command),
            shell=True,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            errors="replace",
        )
        if "_exit_code" in self._outputs.cells.text:
            self.user_ns["_exit_code"] = done.returncode
        return done.stdout

    def _filled(self, text: str) -> str:
        """`{name}` and `$name` stand for values of the notebook's."""
        parts = []
        rest = text
        while rest:
            sign = min((rest.find(c) for c in "{$" if c in rest), default=-1)
            if sign < 0:
                break
            parts.append(rest[:sign])
            rest = rest[sign:]
            end = rest.find("}") + 1 if rest[0] == "{" else 1 + _name_length(rest[1:])
            word = rest[1 : end - 1] if rest[0] == "{" else rest[1:end]
            found = rest[: max(end, 1)]
            if word and word.isidentifier() and word in self.user_ns:
                found = str(self.user_ns[word])
            parts.append(found)
            rest = rest[max(end, 1) :]
        return "".join(parts) + rest

    # -- the rest ------------------------------------------------------------------------------------

    def _leave_out(self, what: str) -> None:
        cell = self._outputs.cell
        self._say(cell.number if cell is not None else 0, f"{what}.")

    def set_next_input(self, *args: object, **named: object) -> None:
        """There is no next input."""

    def __getattr__(self, name: str) -> object:
        if name.startswith("__") or name.startswith("_magic_"):
            raise AttributeError(name)
        self._leave_out(f"get_ipython().{name} does nothing here")
        return Nothing()


class Nothing:
    """What the stand-in does not have: whatever is asked of it does nothing."""

    def __call__(self, *args: object, **named: object) -> Nothing:
        return self

    def __getattr__(self, name: str) -> Nothing:
        if name.startswith("__"):
            raise AttributeError(name)
        return self


def _name_length(text: str) -> int:
    n = 0
    while n < len(text) and text[: n + 1].isidentifier():
        n += 1
    return n
