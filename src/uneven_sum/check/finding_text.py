"""A finding as text."""

from __future__ import annotations

from ..client import notes
from ..client.sources import place_words, short_place
from ..protocol import Finding
from ..protocol.names import in_processes, shown


def finding_text(found: Finding) -> str:
    """The sentence, the place and the statement."""
    where = short_place(found.file, found.line) + (f" in {shown(found.function)}" if found.function else "")
    often = f", {found.times:,} times" if found.times > 1 else ""
    first = f", first in pass {found.at_pass:,}" if found.at_pass else ""
    lines = [f"{found.word}: {found.headline}", f"  {where}{often}{first}   [{found.rule}]"]
    lines += [f"  {in_processes(found.processes)}."] if found.processes else []
    lines += [f"      {notes.cut(line)}" for line in found.statement.splitlines()]
    lines += [f"      {text} = {value}" for text, value in found.operands]
    lines += [f"      to try: {found.fix}"] if found.fix else []
    lines += [f"      comes from it, {place_words(f.file, f.line)}: {f.headline} [{f.rule}]" for f in found.follows]
    return "\n".join(lines) + "\n"
