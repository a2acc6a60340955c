"""Which warnings are about numbers, and which are advice on style and speed, that nobody needs to stop for."""

from __future__ import annotations

import re

# Classes of warnings whose name says that a calculation suffers.
NUMERIC_NAMES = re.compile(
    r"Runtime|Converge|LinAlg|Optimize|Rank|Integration|Hessian|Precision|Collinear|Singular|Undefined|Separation"
    r"|Degenerate|Numeric|Complex|IllCondition|Iteration|Overflow|Accuracy|NearConstant|ConstantInput|SettingWithCopy"
)
ADVICE_NAMES = re.compile(r"Efficiency|Performance|VisibleDeprecation|Dtype|DataConversion|Parser")
# Words by which a plain warning of a library is about numbers or a fit.
NUMERIC_WORDS = re.compile(
    r"converg|\bnan\b|\binf\b|infinit|overflow|underflow|singular|ill-?condition|precision loss|inaccura|accuracy"
    r"|divi(de|sion) by|invalid value|rank|iterations|did not|failed|fail(s|ure)|degenerate|missing value|not positive"
    r"|collinear|multicollinear|constant|zero variance|variance|negative|out of (range|bounds|domain)|extrapolat"
    r"|non-?finite|unstable|instab|ill-defined|undefined|not symmetric|empty slice|too few|degrees of freedom"
    r"|local minim|max_iter|maximum number|boundary|singularit|covariance|imaginary",
    re.IGNORECASE,
)


def is_advice(category: type, text: str, by_library: bool) -> bool:
    """True for a warning that is shown, and does not pause: about style or speed, from a library."""
    names = [c.__name__ for c in category.__mro__ if c not in (Warning, Exception, BaseException, object)]
    if any(ADVICE_NAMES.search(name) for name in names):
        return True
    if not by_library or any(NUMERIC_NAMES.search(name) for name in names):
        return False
    return "UserWarning" in names and not NUMERIC_WORDS.search(text)


def first_numeric(texts: list[str]) -> list[str]:
    """Warnings in the order in which they are shown: those about numbers first."""
    return sorted(texts, key=lambda t: not (NUMERIC_NAMES.search(t.partition(":")[0]) or NUMERIC_WORDS.search(t)))
