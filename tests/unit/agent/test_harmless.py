"""Which calls only compute, so that they can be evaluated again in the script's own process."""

from __future__ import annotations

import ast
import builtins
import math

import numpy as np
import pytest
from driving import running

from uneven_sum.agent.diagnosis.harmless import is_harmless


class Own(np.ndarray):
    pass


class Number(float):
    pass


def own(x):
    return x


def names() -> dict[str, object]:
    a = np.array([1.0, 0.0, 3.0])
    return {
        **{"a": a, "np": np, "math": math, "own": own, "sub": a.view(Own), "objects": np.array([own, 1], dtype=object)},
        **{"rng": np.random.default_rng(1), "items": iter([1.0]), "number": Number(1.0), "many": [0.0] * 20_000},
        **{"large": np.zeros(3_000_000)},
    }


def judged(text: str) -> bool:
    known = names()
    node = ast.parse(text, mode="eval").body
    assert isinstance(node, ast.Call)

    def value(part: ast.AST) -> object:
        return eval(compile(ast.Expression(part), "", "eval"), known)

    parts = [node.func.value] if isinstance(node.func, ast.Attribute) else []
    owner = [v for v in map(value, parts) if type(v) is not type(np)]
    return is_harmless(
        node, value(node.func), owner + [value(p) for p in [*node.args, *(k.value for k in node.keywords)]]
    )


HARMLESS = [
    *(
        "np.log(a)",
        "np.add(a, 1)",
        "np.sum(a)",
        "np.sum(a, axis=0)",
        "a.sum()",
        "a.mean(0)",
        "a.reshape(3)",
        "a.copy()",
    ),
    *("np.where(a > 0, a, 0.0)", "np.array([1.0, [2]])", "np.linspace(0, 1, 5)", "math.sqrt(2.0)", "math.fsum([1.0])"),
    *("abs(-1)", "sum([1.0, 2.0])", "max(1.0, 2.0)", "range(4)", "float('2')", "len(a)", "round(2.5, 1)"),
]
NOT = [
    *(
        "np.log(a, out=a)",
        "np.log(a, a)",
        "np.add(a, 1, a)",
        "a.sum(0, float, a)",
        "np.sum(a, 0, float, a)",
        "a.sort()",
    ),
    *("np.copyto(a, 0)", "a.fill(0)", "a.resize(2)", "np.random.rand(3)", "rng.normal()", "own(a)", "print(1)"),
    *("max(1, 2, key=own)", "list(items)", "sum(items)", "sub.sum()", "np.sum(sub)", "objects.sum()", "abs(number)"),
    *(
        "sum(many)",
        "np.sum(large)",
        "math.fsum(many)",
        "a.tofile('x')",
        "a.dot(sub)",
        "np.save('x', a)",
        "map(own, [1])",
    ),
]


@pytest.mark.parametrize("text", HARMLESS)
def test_it_only_computes(text: str) -> None:
    assert judged(text)


@pytest.mark.parametrize("text", NOT)
def test_it_may_do_more(text: str) -> None:
    assert not judged(text)


def test_what_the_script_has_put_in_their_place_is_not_called(monkeypatch) -> None:
    monkeypatch.setattr(np, "sum", own)
    monkeypatch.setattr(np, "log", np.frompyfunc(own, 1, 1))
    monkeypatch.setattr(builtins, "abs", own)
    assert not judged("np.sum(a)") and not judged("np.log(a)") and not judged("abs(1.0)")


async def test_terms_are_evaluated_beside_other_threads(script) -> None:
    text = (
        "import threading\nimport numpy as np\nstop = threading.Event()\n"
        "threading.Thread(target=stop.wait, daemon=True).start()\n"
        "head = np.array([4.0, 0.0, 1.0])\nnp.seterr(all='ignore')\n"
        "def own(x):\n    return x\nx = np.log(head).sum() + own(1.0)\ny = np.sqrt(head - 1.0)[1:]\n"
    )
    async with running(script(text)) as run:
        facts = await run.pause()
        assert "at [1] with head = 0.0, the logarithm of zero" in facts.headline
        facts = await run.step("on")
        assert facts.culprit.text == "np.sqrt(head - 1.0)" and facts.culprit.cell == [1] and facts.line == 10
        assert not any("not evaluated" in term.value for term in facts.terms)
        assert await run.step("on") is None
