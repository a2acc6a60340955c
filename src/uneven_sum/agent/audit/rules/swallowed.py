"""`swallowed`: a handler ran and left no trace; errors among results; conversions that made missing cells."""

from __future__ import annotations

import ast
import sys
from typing import TYPE_CHECKING, Any, cast

from ...frames import stack
from ...source.cells import place_words
from ...values import nonfinite
from ..care import with_care
from ..figures import many
from ..finding import Place
from .base import Rule

if TYPE_CHECKING:
    import asyncio


class Swallowed(Rule):
    NAME = "swallowed"
    AT_ONCE = False
    WANTS = ("handled", "call:gather", "call:to_numeric", "call:to_datetime", "call:to_timedelta")

    def handled(self, error: BaseException | None, site: int) -> None:
        if error is None or isinstance(error, (StopIteration, KeyboardInterrupt, ImportError)):
            return
        place = self.auditor.place(site)
        if isinstance(error, (AttributeError, TypeError)) and _sets_attributes(place):
            return  # whether an object takes a label says nothing of values
        said = f"{type(error).__name__}: {str(error)[:120]}".rstrip(": ")
        kinds = place.kept.setdefault("swallowed", {})
        kinds[said] = kinds.get(said, 0) + 1
        if self.auditor.has(self, site):
            return
        at = place_words(place.file, place.line)
        self.auditor.report(
            self,
            site,
            f"The handler at {at} hides an error: {said}. Are the values after it right?",
            0.6,
            question=True,
            evidence={"error": said},
        )

    def call(
        self, function: object, args: tuple[object, ...], named: dict[str, object], result: Any, site: int
    ) -> None:
        if named.get("return_exceptions") is True and isinstance(result, _futures()):
            gathering = cast("asyncio.Future[list[object]]", result)
            frame = self.auditor.user_frame()
            function = stack.function_name(frame) if frame is not None else ""
            gathering.add_done_callback(lambda gathered: with_care(self._gathered, gathered, function, site))
            return
        pd = nonfinite.module("pandas")
        if pd is None or named.get("errors") != "coerce" or not args or not isinstance(args[0], pd.Series):
            return
        made = result.isna() & args[0].notna()
        if not made.any() or self.auditor.has(self, site):
            return
        place = self.auditor.place(site)
        texts = [str(t) for t in args[0][made].unique()[:3]]
        self.auditor.report(
            self,
            site,
            f"{place.text} turns {int(made.sum()):,} of {len(result):,} values into missing ones, such as "
            f"{', '.join(map(repr, texts))}.",
            0.7 if made.mean() > 0.01 else 0.5,
            question=True,
            evidence={"cells": int(made.sum()), "of": len(result), "texts": texts},
        )

    def _gathered(self, gathered: asyncio.Future[list[object]], function: str, site: int) -> None:
        """`asyncio.gather` that gives errors among the results, instead of raising the first."""
        if gathered.cancelled() or gathered.exception() is not None:
            return
        results = gathered.result()
        errors = [one for one in results if isinstance(one, Exception)]
        if not errors or self.auditor.has(self, site):
            return
        said = f"{type(errors[0]).__name__}: {str(errors[0])[:120]}".rstrip(": ")
        place = self.auditor.place(site)
        told = self.auditor.report(
            self,
            site,
            f"{place.text} gives {many(len(errors), 'error')} among its {len(results):,} results, the first: {said}. "
            "Are the values after it right?",
            0.6,
            question=True,
            evidence={"errors": len(errors), "of": len(results), "error": said},
        )
        if told is not None:
            told.function = function  # by now the loop of events runs

    def finish(self) -> None:
        for (_, name), finding in list(self.auditor.found.items()):
            kinds = finding.place.kept.get("swallowed") if name == self.NAME else None
            if kinds:
                times = sum(kinds.values())
                finding.place.times[self.NAME] = times
                if times > 1:
                    finding.headline = finding.headline.replace("hides an error", f"hides an error {times:,} times", 1)


def _sets_attributes(place: Place) -> bool:
    """Whether the `try` of a handler does nothing but set attributes to what is there: `x.name = name`."""
    tries = [n for n in ast.walk(place.scope) if isinstance(n, (ast.Try, ast.TryStar)) and place.node in n.handlers]
    simple = (ast.Name, ast.Constant, ast.Attribute)
    return bool(tries) and all(
        isinstance(s, ast.Assign)
        and isinstance(s.value, simple)
        and all(isinstance(target, ast.Attribute) for target in s.targets)
        for s in tries[0].body
    )


def _futures() -> tuple[type, ...]:
    """asyncio's class of futures, where the script has imported it."""
    found = getattr(sys.modules.get("asyncio"), "Future", None)
    return (found,) if isinstance(found, type) else ()
