"""Results of fits and solvers (SciPy, statsmodels) and fitted estimators (scikit-learn): their fields as a table."""

from __future__ import annotations

from typing import Any

from .base import Fact, Kind, Pair, Summary, element, register
from .objects import attributes


def _home(kind: type) -> str:
    return str(type.__getattribute__(kind, "__module__")).partition(".")[0]


WANTED = ("success", "converged", "message", "x", "fun", "nit", "root", "status")


def _result(value: Any) -> Summary:
    names = [n for n in WANTED if dict.__contains__(value, n)] or list(dict.keys(value))[:4]
    shown = ", ".join(f"{n}={element(dict.__getitem__(value, n))}" for n in names[:4])
    return {"text": f"{type(value).__name__}({shown})", "kind": "mapping"}


def _result_parts(value: Any, start: int, count: int) -> list[Pair]:
    return list(dict.items(value))[start : start + count]


def _is_estimator(kind: type) -> bool:
    names = {c.__name__ for c in type.__dict__["__mro__"].__get__(kind)}
    return "BaseEstimator" in names and hasattr(kind, "fit")


def _fitted(value: object) -> dict[str, object]:
    """What `fit` has set: by scikit-learn's custom, names that end in an underscore.  Of a pipeline, its steps."""
    steps = attributes(value).get("steps")
    if type(steps) is list and steps and all(type(step) is tuple and len(step) == 2 for step in steps):
        done = any(_fitted(step[1]) for step in steps)
        return {str(name): step for name, step in steps} if done else {}
    return {n: v for n, v in attributes(value).items() if n.endswith("_") and not n.startswith("_")}


def _settings(value: object) -> dict[str, object]:
    return {n: v for n, v in attributes(value).items() if not n.endswith("_") and not n.startswith("_")}


def _estimator(value: object) -> Summary:
    found = _fitted(value)
    shown = ", ".join(f"{n}={element(v)}" for n, v in list(found.items())[:3])
    return {"text": f"{type(value).__name__}, {f'fitted: {shown}' if found else 'not fitted'}", "kind": "object"}


def _estimator_facts(value: object) -> list[Fact]:
    return [(n, element(v)) for n, v in {**_fitted(value), **_settings(value)}.items()][:40]


def _estimator_parts(value: object, start: int, count: int) -> list[Pair]:
    return list({**_fitted(value), **_settings(value)}.items())[start : start + count]


def _plain_parts(value: object, start: int, count: int) -> list[Pair]:
    return list(attributes(value).items())[start : start + count]


def _is_model_result(kind: type) -> bool:
    return _home(kind) == "statsmodels" and kind.__name__.endswith(("Results", "ResultsWrapper"))


def _inside(value: object) -> dict[str, object]:
    held = attributes(value)
    inner = held.get("_results")
    return attributes(inner) if inner is not None else held


def _model_result(value: object) -> Summary:
    held = _inside(value)
    names = [n for n in ("params", "nobs", "df_resid", "scale", "mle_retvals") if n in held]
    return {
        "text": f"{type(value).__name__}({', '.join(f'{n}={element(held[n])}' for n in names[:3])})",
        "kind": "object",
    }


def _model_parts(value: object, start: int, count: int) -> list[Pair]:
    return [(n, v) for n, v in _inside(value).items() if not n.startswith("_")][start : start + count]


register(
    Kind(_result, None, lambda value: dict.__len__(value), _result_parts),
    names=("scipy.optimize._optimize.OptimizeResult", "scipy._lib._util._RichResult"),
)
register(
    Kind(_estimator, _estimator_facts, lambda value: len({**_fitted(value), **_settings(value)}), _estimator_parts),
    test=_is_estimator,
)


def _is_distribution(kind: type) -> bool:
    return _home(kind) == "scipy" and kind.__name__ in ("rv_continuous_frozen", "rv_discrete_frozen")


def _distribution(value: object) -> Summary:
    held = attributes(value)
    name = attributes(held["dist"]).get("name", "")
    given = [element(v) for v in held["args"]] + [f"{n}={element(v)}" for n, v in held["kwds"].items()]
    return {"text": f"distribution {name}({', '.join(given)})", "kind": "object"}


register(Kind(_distribution, None, lambda value: len(attributes(value)), _plain_parts), test=_is_distribution)
register(Kind(_model_result, None, lambda value: len(_inside(value)), _model_parts), test=_is_model_result)
