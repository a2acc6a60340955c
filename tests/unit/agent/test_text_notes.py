"""How far a text was read, against the answers of `re` itself."""

from __future__ import annotations

import re

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from uneven_sum.agent.diagnosis.text_notes import of_error, pieces, reach, steps, told
from uneven_sum.agent.source.source_file import SourceFile

ATOMS = st.sampled_from(
    ["a", "b", r"\d", r"\w", "[ab]", "[^a]", ".", r"\.", "(a)", "(?:ab)", "(a|b)", r"(\d+)", "(?P<x>b)"]
)
PIECES = st.tuples(ATOMS, st.sampled_from(["", "", "*", "+", "?", "{2}", "+?", "*?"])).map("".join)
PATTERNS = st.lists(PIECES, min_size=1, max_size=6).map("".join)
TEXTS = st.text(alphabet="ab1.", max_size=12)


def compiled(pattern: str) -> re.Pattern[str] | None:
    try:
        return re.compile(pattern)
    except re.error:
        return None  # a name twice


@given(PATTERNS, TEXTS, st.sampled_from(["match", "search", "fullmatch"]))
@settings(max_examples=400, deadline=None)
def test_what_matched_matches_and_no_more(pattern: str, text: str, how: str) -> None:
    made = compiled(pattern)
    if made is None or getattr(made, how)(text):
        return
    found = reach(pattern, text, how)
    assert found is not None
    (parts,) = pieces(pattern)
    number = next(
        n for n in range(len(parts) + 1) if "".join(parts[:n]) == found.matched and (found.wanted == [*parts, ""][n])
    )
    ours = re.compile(found.matched).match(text, found.start)
    assert ours is not None and ours.end() == found.end
    if number < len(parts):
        longer = re.compile(found.matched + found.wanted)
        assert longer.match(text, found.start) is None
        if how == "search":
            starts = [m.end() - s for s in range(len(text) + 1) if (m := re.compile(found.matched).match(text, s))]
            assert found.end - found.start <= max(starts)
    else:
        assert how == "fullmatch" and found.end < len(text)


@given(PATTERNS, TEXTS)
@settings(max_examples=300, deadline=None)
def test_pieces_take_what_the_whole_takes(pattern: str, text: str) -> None:
    made = compiled(pattern)
    if made is None:
        return
    found, whole = steps(pattern, text), made.match(text)
    taken = [took for _, took in found]
    assert (whole is None) == any(took.startswith("takes nothing at") for took in taken)
    assert [piece for piece, _ in found] == pieces(pattern)[0][: len(found)]


@given(PATTERNS)
@settings(max_examples=200, deadline=None)
def test_pieces_of_a_pattern_match_what_it_matches(pattern: str) -> None:
    made = compiled(pattern)
    if made is not None:
        again = re.compile("".join(pieces(pattern)[0]))
        for text in ("", "a", "ab", "ab1", "bb11a", "a.b.1", "aaaa", "1111"):
            assert bool(made.fullmatch(text)) == bool(again.fullmatch(text))


@pytest.mark.parametrize(
    ("pattern", "text", "how", "said"),
    [
        (r"\d+\.\d+", "12,5", "match", r"wanted `\.` at position 2, found `,`; before it `\d+` matched `12` of `12,5`"),
        (
            r"(\w+)=(\d+)",
            "flow=x",
            "search",
            r"wanted `\d+` at position 5, found `x`; before it `\w+=` matched `flow=` of `flow=x`",
        ),
        (r"\d+", "12a", "fullmatch", r"wanted the end at position 2, found `a`; before it `\d+` matched `12` of `12a`"),
        (r"x", "", "match", "wanted `x` at position 0, found the end; nothing of `` matched"),
        (r"(a)\1b", "aac", "match", r"wanted `b` at position 2, found `c`; before it `(a)\1` matched `aa` of `aac`"),
        (r"cat|dog", "dove", "match", "wanted `g` at position 2, found `v`; before it `do` matched `do` of `dove`"),
        (r"[]x]+\]", "xxy", "match", r"wanted `\]` at position 2, found `y`; before it `[]x]+` matched `xx` of `xxy`"),
    ],
)
def test_sentences(pattern: str, text: str, how: str, said: str) -> None:
    found = reach(pattern, text, how)
    assert found is not None and found.sentence(text) == said
    asked = re.compile(pattern)
    node = SourceFile("x.py", f"p.{how}(t)".encode()).tree.body[0].value
    assert told(node, [asked, text], None) == f"no match: {said}"
    assert told(node, [asked, text], 1) == ""


def refused(call) -> ValueError:
    with pytest.raises(ValueError) as caught:
        call()
    return caught.value


@pytest.mark.parametrize(
    ("call", "operands", "said"),
    [
        (
            lambda: float("12,5"),
            ["12,5"],
            "float reads `12` of `12,5`, and stops at `,` at position 2: a comma is no decimal point",
        ),
        (lambda: float(" 1e5x"), [" 1e5x"], "float reads `1e5` of ` 1e5x`, and stops at `x` at position 4"),
        (lambda: float("n/a"), ["n/a"], "float reads nothing of `n/a`: `n` at position 0 begins no number"),
        (lambda: float(" "), [" "], "the text is empty"),
        (lambda: int("12.5"), ["12.5"], "int reads `12` of `12.5`, and stops at `.` at position 2"),
        (lambda: int("7 m"), [], "int reads `7` of `7 m`, and stops at ` ` at position 1"),
    ],
)
def test_numbers(call, operands: list[str], said: str) -> None:
    assert of_error(refused(call), operands).text == said


def test_dates() -> None:
    import datetime

    text, form = "2031-02-31 7:xx", "%Y-%m-%d %H:%M"
    error = refused(lambda: datetime.datetime.strptime(text, form))
    said = (
        "wanted `%M` at position 13, found `x`; before it `%Y-%m-%d %H:` matched `2031-02-31 7:` of `2031-02-31 7:xx`"
    )
    assert of_error(error, [text, form]).text == said


def test_what_cannot_be_told_is_left() -> None:
    assert reach(re.compile("a b # c", re.VERBOSE), "x", "match") is None
    assert reach(re.compile(b"a"), "x", "match") is None  # type: ignore[arg-type]
    assert reach("a", "x" * 30_000, "match") is None
    assert of_error(KeyError("x"), []).text == "" and of_error(ValueError("other"), ["x"]).text == ""
