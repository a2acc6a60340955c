"""The rules of an audit, one file each.  Adding one is a file, and its class in this list."""

from __future__ import annotations

from .absorption import Absorption
from .alias import Alias
from .alignment import Alignment
from .base import Rule
from .broadcast import Broadcast
from .cancellation import Cancellation
from .dates import Dates
from .exhausted import Exhausted
from .float_equality import FloatEquality
from .ignored_failure import IgnoredFailure
from .ill_conditioned import IllConditioned
from .instability import Instability
from .joins import DuplicatedRows, LostRows
from .lost_write import LostWrite
from .missing import Missing
from .narrowing import Narrowing
from .no_spread import NoSpread
from .out_of_range import OutOfRange
from .reseeded import Reseeded
from .swallowed import Swallowed
from .text_arithmetic import TextArithmetic
from .truncation import Truncation
from .underflow import Underflow
from .unsorted import Unsorted
from .weak import Degrees, IntegerDivision, Rounding
from .wrap import Wrap
from .wraparound_index import WraparoundIndex

RULES: tuple[type[Rule], ...] = (
    *(Wrap, Truncation, Narrowing, Broadcast, Underflow, Absorption, FloatEquality, Unsorted, Exhausted, Reseeded),
    *(IgnoredFailure, OutOfRange, LostRows, DuplicatedRows, TextArithmetic, Alignment, Dates, Swallowed, LostWrite),
    *(IllConditioned, Alias, WraparoundIndex, Missing, NoSpread, Cancellation, Instability),
    *(IntegerDivision, Degrees, Rounding),
)
NAMES = tuple(rule.NAME for rule in RULES)
AT_ONCE = frozenset(rule.NAME for rule in RULES if rule.AT_ONCE)
