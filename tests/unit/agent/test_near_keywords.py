"""What is meant by a keyword that a function does not have: of Python, of compiled functions, of Matplotlib."""

from __future__ import annotations

import ast

import matplotlib
import numpy as np
import pandas as pd
import pytest

from uneven_sum.agent.diagnosis import near_names

matplotlib.use("Agg")
import matplotlib.pyplot as plt

NAMES = {"np": np, "pd": pd, "plt": plt, "x": np.arange(3.0)}
MEANT = {
    "np.zeros(3, dtyp=float)": "dtype",
    "np.linspace(0, 1, nmu=4)": "num",
    "np.log(x, wher=x > 0)": "where",
    "np.concatenate([x], axs=0)": "axis",
    "x.reshape(3, ordr='C')": "order",
    "np.random.default_rng(1).normal(scal=2)": "scale",
    "np.loadtxt('x', delimeter=',')": "delimiter",
    "pd.read_csv('x', seperator=',')": "sep",
    "pd.DataFrame({'a': x}).sort_values(by='a', ascendng=False)": "ascending",
    "sorted([1], ky=len)": "key",
    "print('a', spe=',')": "sep",
    "open('x', encodng='utf8')": "encoding",
    "max([1], defalt=2)": "default",
    "[1].sort(revers=True)": "reverse",
    "enumerate([1], strat=1)": "start",
    "plt.plot(x, x, colour='r')": "color",
    "plt.hist(x, bin=3)": "bins",
    "plt.bar(x, x, widht=0.2)": "width",
    "plt.xlabel('t', fontsiz=3)": "fontsize",
    "plt.imshow(np.ones((2, 2)), cmp='gray')": "cmap",
    "plt.plot(x, x, **{'linewdth': 2})": "linewidth",
    "pd.DataFrame({'a': x}).sum(elevation=1)": "",
    "(lambda level: level(1, 2))(level=lambda: 1)": "",
}


@pytest.mark.parametrize("text", MEANT)
def test_nearest_keyword(text: str) -> None:
    call = ast.parse(text, mode="eval").body
    assert isinstance(call, ast.Call)
    with pytest.raises((TypeError, AttributeError)) as raised:
        eval(text, NAMES)
    function = eval(ast.unparse(call.func), NAMES)
    found = near_names.of_keyword(raised.value, call, function)
    assert found.near == ((MEANT[text],) if MEANT[text] else ())


def test_code_of_the_script_is_not_run_for_it() -> None:
    class Odd:
        def __call__(self, **named):
            raise TypeError("f() got an unexpected keyword argument 'depht'")

        def __getattr__(self, name):
            raise AssertionError(f"asked for {name}")

    call = ast.parse("odd(depht=1)", mode="eval").body
    with pytest.raises(TypeError) as raised:
        Odd()(depht=1)
    assert near_names.of_keyword(raised.value, call, Odd()).near == ()
