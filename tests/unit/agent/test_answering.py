"""What the host sends while the script runs is answered once at a time."""

from __future__ import annotations

import threading

from uneven_sum.agent.engine.engine import Engine


class Wire:
    def has_come(self) -> bool:
        return True


class Requests:
    """Answers take so long that the next signal has come when one is over."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self.depth = self.deepest = self.answered = 0

    def while_running(self, frame: object) -> bool:
        self.depth += 1
        self.deepest = max(self.depth, self.deepest)
        self.answered += 1
        if self.depth < 50:
            self.engine._called(0, None)
        self.depth -= 1
        return False


def bare_engine() -> tuple[Engine, Requests]:
    engine = object.__new__(Engine)
    engine.present, engine.rewind, engine.written, engine.wire = None, None, {}, Wire()
    engine.answering = engine.deciding = False
    engine.lock = threading.RLock()
    engine.requests = Requests(engine)
    engine.point_on_the_way = lambda frame: None
    return engine, engine.requests


def test_a_signal_during_an_answer_does_not_begin_another() -> None:
    engine, requests = bare_engine()
    engine._called(0, None)
    engine._called(0, None)
    assert (requests.deepest, requests.answered) == (1, 2)


def test_nothing_is_answered_while_an_error_is_judged() -> None:
    engine, requests = bare_engine()
    engine.deciding = True
    engine._called(0, None)
    assert not requests.answered
    engine.deciding = False
    engine._called(0, None)
    assert requests.answered == 1
