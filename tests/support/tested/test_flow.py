"""Tests that pass, fail, error, skip and expect to fail."""

import asyncio
import math
import warnings

import pytest

from flow import share, total


def test_passes():
    assert share(4.0) == 4.0


def test_total_fails():
    assert total([1.0, 4.0]) == 7.0


def test_message_of_its_own():
    assert share(1.0) > 3.0, "the weir gives too little"


def test_several_parts():
    heads = [1.0, 4.0]
    assert len(heads) == 2 and total(heads) < 5.0


def test_not():
    assert not share(1.0)


def test_in():
    assert 3.0 in [share(1.0), share(4.0)]


def test_lists():
    assert [share(h) for h in (1.0, 4.0, 9.0)] == [2.0, 4.0, 7.0]


def test_dictionaries():
    assert {"north": share(1.0)} == {"north": 2.5, "south": 1.0}


def test_texts():
    assert "gauge north" == "gauge south"


def test_texts_of_lines():
    assert "one\ntwo\nthree" == "one\ntoo\nthree"


def test_close():
    assert total([2.0, 3.0]) == pytest.approx(6.0)


def test_walrus():
    if (found := share(1.0)) and (again := found + 1.0):
        assert (found := again) == 4.0


def test_lambda():
    assert (lambda head: share(head) + 1.0)(1.0) == 4.0


def test_error():
    share(-1.0)


def test_error_in_assertion():
    assert share(-1.0) == 0.0


def test_raises():
    with pytest.raises(ValueError, match="negative"):
        share(-1.0)


def test_raises_by_call():
    pytest.raises(ValueError, share, -1.0)


def test_raises_nothing():
    with pytest.raises(ValueError):
        share(1.0)


def test_raises_another():
    with pytest.raises(KeyError):
        share(-1.0)


def test_raises_with_other_words():
    with pytest.raises(ValueError, match="positive"):
        share(-1.0)


def test_caught():
    try:
        share(-1.0)
    except ValueError:
        pass


def test_skips():
    pytest.skip("no gauge")


@pytest.mark.skip(reason="later")
def test_is_skipped():
    assert False


def test_fails_by_call():
    pytest.fail("the record is too short")


@pytest.mark.xfail
def test_expected():
    assert share(1.0) == 3.0


@pytest.mark.xfail(raises=ValueError)
def test_expected_error():
    share(-1.0)


@pytest.mark.xfail(raises=KeyError)
def test_expected_another():
    share(-1.0)


@pytest.mark.xfail(strict=True)
def test_expected_but_passes():
    assert share(1.0) == 2.0


def test_marked_on_the_way(request):
    request.node.add_marker(pytest.mark.xfail)
    assert False


def test_xfails():
    pytest.xfail("known")


@pytest.mark.parametrize("head, flow", [(0.0, 0.0), (1.0, 2.0), (4.0, 5.0)])
def test_values(head, flow):
    assert share(head) == flow


def test_fixture(level):
    assert share(level) == level + 1.0


def test_broken_fixture(broken):
    assert broken


def test_bad_end(leaves_badly):
    assert leaves_badly == 2.0


def test_warns():
    with pytest.warns(UserWarning):
        warnings.warn("dry")


def test_warns_not():
    with pytest.warns(UserWarning):
        share(1.0)


def test_output(capsys):
    print("flow", share(1.0))
    assert capsys.readouterr().out == "flow 3.0\n"


def test_of_a_task():
    async def run():
        await asyncio.sleep(0)
        assert share(1.0) == 3.0

    asyncio.run(run())


def test_isnan():
    assert math.isnan(share(1.0))


class TestWeir:
    heads = (1.0, 4.0)

    def test_method(self):
        assert total(self.heads) == 6.5

    @pytest.mark.parametrize("head", [1.0, 2.0])
    def test_method_with_values(self, head):
        assert share(head) == 2.0
