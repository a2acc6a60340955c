"""Sentences for a script that cannot run, or whose process died."""

from __future__ import annotations

from ..protocol.messages import Message
from .launch import BadUse, SyntaxFault


def cannot_run(body: Message) -> BadUse:
    message = str(body.get("message", "The script cannot be run."))
    if body.get("line"):
        return SyntaxFault(message, int(body["line"]), int(body.get("column") or 1), str(body.get("text") or ""))
    return BadUse(message)


LEFT = ("os._exit", "os.abort")


def died_sentence(body: Message, program: str) -> str:
    """How a script died and where it was last seen, in one sentence."""
    place = body.get("place")
    where = f" Last seen at line {place['line']} of {place['file']}." if place and place.get("file") else ""
    signal = str(body.get("signal") or "")
    if signal:
        how = {
            "SIGSEGV": "a segmentation fault",
            "SIGKILL": "SIGKILL, as the system sends it when memory runs out",
            "SIGABRT": "an abort",
            "SIGFPE": "an arithmetic fault",
            "SIGBUS": "a bus error",
        }.get(signal, signal)
        how = how if signal in how else f"{how} ({signal})"
        return f"{program} crashed: {how}.{where}"
    status = body.get("exitCode")
    if place and place.get("how") in LEFT:
        return f"{program} exited with status {status}, bypassing normal shutdown.{where}"
    return (
        f"{program} exited with status {status}. It was not seen to its end: it bypassed normal shutdown, or closed "
        f"the connection to Uneven Sum, as os.closerange does.{where}"
    )
