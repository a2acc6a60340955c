"""Requests are declared once: docs/protocol.md and the lists of the host follow the declarations."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import pytest

from uneven_sum.agent.core import markers
from uneven_sum.agent.core.errors import Refused
from uneven_sum.agent.requests.declare import ABSENT, declared, request
from uneven_sum.agent.requests.dispatch import Requests
from uneven_sum.protocol import FILTERS, TRIPS, Switches, Tripwire

DOCS = (Path(__file__).parents[3] / "docs" / "protocol.md").read_text()
OF_ALL_VALUES = {"expression", "frameId", "slice", "sort", "filter"}  # named once, at `unevenSum/closeup`


def table() -> dict[str, Any]:
    return Requests(None).table  # type: ignore[arg-type]


def rows() -> dict[str, set[str]]:
    """The requests of the table in docs/protocol.md, with the words of their row's second cell."""
    found: dict[str, set[str]] = {}
    for line in DOCS.splitlines():
        cells = [c.strip() for c in line.strip("|").split("|")]
        if len(cells) == 3 and cells[0].startswith("`unevenSum/"):
            for name in re.findall(r"`(?:unevenSum|…)/(\w+)`", cells[0]):
                found["unevenSum/" + name] = set(re.findall(r"`(\w+)`", cells[1]))
    return found


def test_each_request_of_ours_stands_in_the_table_with_its_arguments() -> None:
    documented, known = rows(), {n: a for n, a in table().items() if n.startswith("unevenSum/")}
    assert set(documented) == set(known)
    for name, answered in known.items():
        assert set(answered.keys()) - documented[name] <= OF_ALL_VALUES, name


def test_each_request_of_the_standard_is_named() -> None:
    for name in table():
        if not name.startswith("unevenSum/"):
            assert f"`{name}`" in DOCS, name


def test_the_host_hears_which_requests_go_on_and_which_a_rerun_repeats() -> None:
    told = Requests(None).declarations()  # type: ignore[arg-type]
    assert told["next"] == {"moves": True, "rerun": ""}
    assert told["setBreakpoints"] == {"moves": False, "rerun": "last"}
    assert told["unevenSum/accept"]["rerun"] == "all"
    assert "evaluate" not in told


def test_the_agent_knows_the_same_kinds_of_trips() -> None:
    assert tuple(TRIPS) == markers.TRIPS
    assert set(TRIPS) == {n for n in Switches.__struct_fields__ if isinstance(getattr(Switches(), n), Tripwire)}
    assert all(f"`{name}`" in DOCS for name in FILTERS)


class Example:
    @request("unevenSum/example", while_running=True)
    def example(self, line: int, file_name: str = "a.py", as_: list[float] | None = None, on: Any = ABSENT) -> Any:
        return line, file_name, as_, on


@pytest.mark.parametrize(
    ("given", "expected"),
    [
        ({"line": 3}, (3, "a.py", None, ABSENT)),
        ({"line": "3", "fileName": None, "as": [1, "2"], "on": None}, (3, "a.py", [1.0, 2.0], None)),
        ({"line": 3, "unknown": 1, "on": False}, (3, "a.py", None, False)),
    ],
)
def test_arguments_are_taken_by_their_types(given: dict[str, Any], expected: Any) -> None:
    assert declared(Example())["unevenSum/example"](given) == expected


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({}, "line is missing"),
        ({"line": "x"}, "line is of the wrong type"),
        ({"line": 1, "as": 2}, "as is of the wrong"),
    ],
)
def test_a_wrong_argument_is_named(given: dict[str, Any], said: str) -> None:
    with pytest.raises(Refused, match=said):
        declared(Example())["unevenSum/example"](given)
