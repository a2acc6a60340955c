import pytest


@pytest.fixture
def level():
    return 4.0


@pytest.fixture
def broken():
    return 1.0 / 0.0


@pytest.fixture
def leaves_badly():
    yield 2.0
    raise ValueError("the logger was not closed")


def pytest_assertrepr_compare(op, left, right):
    if isinstance(left, str) and isinstance(right, str) and op == "==" and left.startswith("gauge"):
        return ["the names of the gauges differ:", f"   {left} | {right}"]
