"""Answers the requests of the Debug Adapter Protocol, and our own (`unevenSum/…`), during a pause.

Each part declares its requests (`declare.request`).  What is not known gets an error response.
"""

from __future__ import annotations

import os
import signal
import types
from typing import TYPE_CHECKING

from ..core import run_state
from ..core.errors import Refused
from ..core.transport import Closed
from ..stepping import tracer
from ..stepping.tracer import Aim
from .breakpoints import BreakpointRequests
from .cells import CellRequests
from .closeup import CloseupRequests
from .code_changes import CodeRequests
from .declare import PREFIX, Body, declared, request
from .evaluation import EvaluationRequests
from .exchange import Exchange, Part
from .inspection import InspectionRequests
from .keeping import KeepingRequests
from .ledger import LedgerRequests
from .origin import OriginRequests
from .stepping import SteppingRequests

if TYPE_CHECKING:
    from ..engine.engine import Engine
    from ..engine.nested_call import Nested


class RunRequests(Part):
    """Starting and ending."""

    @request("configurationDone")
    def configuration_done(self) -> Body:
        self.exchange.started = True
        return {"·action": "start"}

    @request("cancel")
    def cancel(self) -> Body:
        return {}  # what it was for is over

    @request("disconnect")
    def disconnect(self) -> Body:
        return self.terminate()

    @request("terminate")
    def terminate(self) -> Body:
        os.kill(os.getpid(), signal.SIGKILL)
        return {}


class Requests:
    """The requests of one run."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine
        self.held = False  # the last interrupt was for another process that has paused
        self.exchange = exchange = Exchange(engine)
        breakpoints = BreakpointRequests(exchange)
        self.closeup = CloseupRequests(exchange)
        stepping = SteppingRequests(exchange, breakpoints)
        parts = [
            *(RunRequests(exchange), InspectionRequests(exchange, self.closeup), EvaluationRequests(exchange)),
            *(breakpoints, stepping, CodeRequests(exchange, stepping), LedgerRequests(exchange, breakpoints)),
            *(self.closeup, OriginRequests(exchange), KeepingRequests(exchange), CellRequests(exchange)),
        ]
        self.table = {name: found for part in parts for name, found in declared(part).items()}

    def declarations(self) -> dict[str, Body]:
        """What the host must know of the requests: which may set the script going, which a rerun repeats."""
        known = [a.declaration for a in self.table.values() if a.declaration.moves or a.declaration.rerun]
        return {d.name: {"moves": d.moves, "rerun": d.rerun} for d in known}

    # -- what the engine asks for --------------------------------------------------------------------

    @property
    def mode(self) -> str:
        return self.exchange.mode

    @property
    def aim(self) -> Aim:
        return self.exchange.aim

    @property
    def nested(self) -> Nested | None:
        return self.exchange.nested

    def forget(self) -> None:
        """The numbers given out do not outlive the pause."""
        if self.engine.present is None:
            self.exchange.forget()
            self.closeup.forget()

    # -- the loop ------------------------------------------------------------------------------------

    def serve(self) -> str:
        """Answer until a request sets the script going; returns what the failed statement shall do."""
        self.exchange.mode, self.exchange.aim = tracer.CONTINUE, Aim()
        while True:
            message = self.engine.wire.receive()
            assert message is not None
            action = self.dispatch(message)
            if action is not None:
                return action

    def dispatch(self, message: Body) -> str | None:
        command = str(message.get("command"))
        reply: Body = {"type": "response", "request_seq": message.get("seq", 0), "command": command}
        try:
            if command not in self.table:
                raise Refused(f"This request is not known: {command}.")
            number = int(message.get("seq") or 0)
            run_state.host_fd = self.engine.wire.sock.fileno()
            run_state.cancelled = lambda: self.engine.wire.cancelled(number)
            body = self.table[command](message.get("arguments") or {})
            action: str | None = body.pop("·action", None)
            reply.update(success=True, body=body)
        except Refused as e:
            action = None
            reply.update(success=False, message=str(e), body={"unevenSum": e.facts})
        except Closed:
            raise
        except (TypeError, ValueError, AttributeError, KeyError) as e:
            action = None
            what = f"An argument of {command.removeprefix(PREFIX)} is missing or of the wrong type: {e}."
            reply.update(success=False, message=what)
        except Exception as e:
            action = None
            reply.update(success=False, message=f"This could not be done: {type(e).__name__}: {e}")
        if self.exchange.changed:
            self.engine.announce_renewal()
        self.engine.wire.send(reply)
        if self.exchange.changed:
            self.exchange.changed = False
            self.engine.renew_point()
        return action

    def while_running(self, frame: types.FrameType | None) -> bool:
        """Answer what has come while the script was running; True when it shall pause."""
        pause = False
        while (message := self.engine.wire.receive(wait=False)) is not None:
            command = str(message.get("command"))
            reply: Body = {"type": "response", "request_seq": message.get("seq", 0), "command": command}
            if command == "pause":
                pause, self.held = True, bool((message.get("arguments") or {}).get("held"))
                self.engine.wire.send({**reply, "success": True, "body": {}})
            elif command in self.table and self.table[command].declaration.while_running:
                self.exchange.running_frame = frame
                self.dispatch(message)
                self.exchange.running_frame = None  # it would keep the call and its values alive
            else:
                told = "The script is running: interrupt it first."
                self.engine.wire.send({**reply, "success": False, "message": told})
        return pause
