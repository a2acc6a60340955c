"""What a trial does with files, connections and shared memory that the script has open stays in the trial's copy."""

from __future__ import annotations

import os
import sqlite3
from pathlib import Path

import pytest
from driving import running

from uneven_sum.agent.trials import process_resources, trial
from uneven_sum.client import BadUse

SCRIPT = """
import mmap, os, select, socket, sqlite3, sys
folder = sys.argv[1] + "/"
with open(folder + "levels.txt", "w") as f:
    f.writelines(f"{k}.5\\n" for k in range(20000))
read = open(folder + "levels.txt")
first = read.readline()
log, appended = open(folder + "log.txt", "w"), open(folder + "appended.txt", "a")
print("one", file=log, flush=True)
print("one", file=appended, flush=True)
both = open(folder + "both.txt", "w+")
both.write("three gauges"); both.flush(); both.seek(6)
table = sqlite3.connect(folder + "table.db")
table.execute("create table flow (q)"); table.execute("insert into flow values (1.5)"); table.commit()
ours, theirs = socket.socketpair()
source, sink = os.pipe()
os.write(sink, b"ab")
polled = select.epoll()
with open(folder + "cells.bin", "wb") as f:
    f.write(bytes(8192))
held = open(folder + "cells.bin", "r+b")
cells = mmap.mmap(held.fileno(), 8192)
nameless = mmap.mmap(-1, 4096)
with open(folder + "gone.bin", "wb") as f:
    f.write(bytes(4096))
gone = open(folder + "gone.bin", "r+b")
unnamed = mmap.mmap(gone.fileno(), 4096)
os.remove(folder + "gone.bin")
cells[0], nameless[0], unnamed[0] = 7, 8, 9
x = 1
os.write(sink, b"cd"); print("two", file=log); print("two", file=appended)
print(len(read.read()), both.read(), os.read(source, 10), cells[0], cells[5000], nameless[0], unnamed[0])
ours.sendall(b"sent"); print(theirs.recv(10))
print(table.execute("select q from flow").fetchall(), len(polled.poll(0)))
"""

ASKED = {
    "len(read.read())": ("148886", ""),
    "print('trial', file=log, flush=True)": ("None", "log.txt"),
    "print('trial', file=appended, flush=True)": ("None", "appended.txt"),
    "(both.read(), both.write('trial'), both.flush(), both.seek(0), both.read())[4]": (
        "'three gaugestrial'",
        "both.txt",
    ),
    "table.execute('insert into flow values (2.5)').connection.commit()": ("readonly database", ""),
    "table.execute('select count(*) from flow').fetchone()[0]": ("1", ""),
    "ours.sendall(b'trial')": ("BrokenPipeError", ""),
    "os.write(sink, b'trial')": ("5", ""),
    "os.read(source, 10)": ("b'' (0 bytes)", ""),
    "polled.register(ours)": ("None", ""),
    "cells.__setitem__(slice(0, 2), b'zz') or cells[0]": ("122", ""),
    "cells.__setitem__(5000, 1) or cells[5000]": ("1", ""),
    "nameless.__setitem__(0, 1) or nameless[0]": ("1", ""),
    "unnamed.__setitem__(0, 1) or unnamed[0]": ("1", ""),
    "(nameless[0], unnamed[0], cells[0])": ("(8, 9, 7)", ""),
}


async def test_nothing_reaches_what_the_script_has_open(script, tmp_path: Path, interpreter: str) -> None:
    path = script(SCRIPT)
    line = SCRIPT.split("\n").index("x = 1") + 1
    async with running(path, str(tmp_path), python=interpreter, breakpoints={path: [line]}) as run:
        await run.pause()
        inside = {p.name: p.read_bytes() for p in tmp_path.iterdir() if p.is_file()}
        for question, (answer, file) in ASKED.items():
            told: dict = {}
            try:
                told = (await run.client.ask(question))["unevenSum"]
                shown = told["text"]
            except BadUse as e:
                shown = str(e)
            assert answer in shown, question
            said = " ".join(told.get("refused", []))
            assert said == (f"What it writes to {file} is not kept" if file else ""), question
        assert {p.name: p.read_bytes() for p in tmp_path.iterdir() if p.is_file()} == inside
        await run.client.go_on()
        assert await run.pause() is None
    assert run.out.splitlines() == [
        "148886 gauges b'abcd' 7 0 8 9",
        "b'sent'",
        "[(1.5,)] 0",
    ]
    assert (tmp_path / "log.txt").read_text() == (tmp_path / "appended.txt").read_text() == "one\ntwo\n"
    assert sqlite3.connect(tmp_path / "table.db").execute("select q from flow").fetchall() == [(1.5,)]


async def test_terms_are_taken_apart_without_writing_a_line_of_the_log_twice(script, tmp_path: Path) -> None:
    path = script(
        "import logging, sys\nlogging.basicConfig(filename=sys.argv[1], level=logging.INFO)\n"
        "def noted(x):\n    logging.info('level %s', x)\n    return x\ny = noted(1e308) * 1e10\n"
    )
    log = tmp_path / "run.log"
    async with running(path, str(log)) as run:
        facts = await run.pause()
        assert [(t.text, t.value) for t in facts.terms] == [("noted(1e308) * 1e10", "inf"), ("noted(1e308)", "1e+308")]
        await run.client.go_on()
        assert await run.pause() is None
    assert log.read_text() == "INFO:root:level 1e+308\n"


def test_a_descriptor_number_that_was_ours_and_is_open_for_another_file_is_the_scripts(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(process_resources, "_own", {})
    fd = os.open(os.devnull, os.O_RDONLY)
    process_resources.note_own()
    assert process_resources.is_own(fd, os.fstat(fd))
    os.close(fd)
    anew = os.open(tmp_path / "gauge.txt", os.O_RDWR | os.O_CREAT)
    try:
        assert anew == fd, "the lowest free number"
        assert not process_resources.is_own(anew, os.fstat(anew))
    finally:
        os.close(anew)


@pytest.mark.parametrize(
    ("written", "found"),
    [
        (b"", {}),
        (b'{"so far": {"at": "f(x)"}', {}),
        (b'{"so far": 1}\n{"so far": 2}\n{"value', {"so far": 2}),
        (b'{"so far": 1}\n{"value": 3}\n', {"value": 3}),
    ],
)
def test_what_a_copy_wrote_before_it_died(written: bytes, found: dict) -> None:
    """A copy that dies in the midst of a line has said what stands before that, and no more: never an empty answer."""
    child = os.fork()
    reader, writer = os.pipe()
    if child == 0:
        os._exit(0)
    os.write(writer, written)
    os.close(writer)
    told = trial._collect(child, reader, 5.0)
    if "value" in found:
        assert told == found
    else:
        assert told == {**found, "failed": "the trial ended its own process; the script is unharmed"}


async def test_an_operand_whose_class_resists_being_asked_stops_no_call(script) -> None:
    path = script(
        "class Meta(type):\n    def __getattribute__(cls, name):\n        if name == '__module__':\n            return 3\n"
        "        return super().__getattribute__(name)\nclass Odd(metaclass=Meta):\n    level = 1e308\n"
        "def read(odd):\n    return odd.level\nodd = Odd()\ny = read(odd) * 10.0\n"
    )
    async with running(path) as run:
        facts = await run.pause()
        assert {t.text: t.value for t in facts.terms}["read(odd)"] == "1e+308" and not facts.differs
