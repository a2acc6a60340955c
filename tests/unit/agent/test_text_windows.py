"""Windows of a long text, and the search through all of it."""

from __future__ import annotations

import pytest

from uneven_sum.agent.values.text_windows import at_line, find, visible, window

TEXT = "".join(f"day {n}: calm\n" for n in range(1000)).replace("day 900: calm", "day 900: Storm")


def test_a_window_begins_with_a_line_and_says_where_it_is() -> None:
    first = window(TEXT, 0, 500)
    assert (first["first"], first["last"], first["line"], first["lines"], first["size"]) == (0, 500, 0, 1001, len(TEXT))
    later = window(TEXT, TEXT.index("day 500:"), 500)
    assert later["text"].startswith("day ") and "day 500:" in later["text"]
    assert TEXT[: later["first"]].count("\n") == later["line"]
    assert window("short")["text"] == "short"
    assert window(TEXT, len(TEXT) - 2, 500)["last"] == len(TEXT)


@pytest.mark.parametrize("begin", [0, 400])
def test_a_search_goes_beyond_the_window_and_from_the_top(begin: int) -> None:
    found = find(TEXT, "STORM", begin, begin + 500, 0, 500)
    part = found["window"]["text"]
    assert part[found["at"] : found["at"] + found["width"]] == "Storm" and found["line"] == 901
    again = find(TEXT, "day 3:", 5000, 5500, 100, 500)
    assert again["line"] == 4 and again["window"]["first"] == 0
    assert find(TEXT, "flood", 0, 500, 0) == {"at": -1}


def test_control_characters_do_not_move_what_is_found() -> None:
    text = "a\x1b[31mred\x1b[0m gauge\n" * 3
    here = window(text)
    first = find(text, "gauge", 0, len(text), 0)
    assert here["text"][first["at"] :].startswith("gauge") and "window" not in first
    second = find(text, "gauge", 0, len(text), first["at"] + first["width"])
    assert second["line"] == 2 and here["text"][second["at"] :].startswith("gauge")
    assert visible("\x1b") == "\\x1b" and "\n" in visible("a\nb")


def test_lines_begin_where_they_do() -> None:
    assert [at_line("a\nbb\nc", n) for n in (1, 2, 3, 9)] == [0, 2, 5, 5]
