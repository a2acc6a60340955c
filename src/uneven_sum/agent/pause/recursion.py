"""What a recursion without an end has done: which function has called itself, how often, and with what."""

from __future__ import annotations

import types
from collections import Counter

from ..frames import stack

MANY = 50  # calls of one function


def told(calls: list[types.FrameType]) -> str:
    """A sentence without its end; empty where no function has called itself many times.  `calls`: innermost first."""
    times = Counter(call.f_code for call in calls)
    code, most = max(times.items(), key=lambda one: one[1], default=(None, 0))
    if most < MANY:
        return ""
    own = [call for call in calls if call.f_code is code]
    names = list(dict.fromkeys(stack.function_name(call) for call in calls if times[call.f_code] > most - 3))
    who = f"{names[0]} has called itself" if len(names) == 1 else f"{' and '.join(names[:3])} have called each other"
    first, last = stack.arguments(own[-1]), stack.arguments(own[0])
    if not first:
        return f"{who} {most} times"
    same = f"each time with {first}" if first == last else f"first with {first}, last with {last}"
    return f"{who} {most} times, {same}"
