"""Sentences for a script that cannot run, or whose process died."""

from __future__ import annotations

from typing import Any

from .launch import BadUse, SyntaxFault


def cannot_run(body: dict[str, Any]) -> BadUse:
    message = str(body.get("message", "The script cannot be run."))
    if body.get("line"):
        return SyntaxFault(message, int(body["line"]), int(body.get("column") or 1), str(body.get("text") or ""))
    return BadUse(message)


def died_sentence(body: dict[str, Any], program: str) -> str:
    """How a script died and where it was last seen, in one sentence."""
    place = body.get("place")
    where = f" Last seen at line {place['line']} of {place['file']}." if place and place.get("file") else ""
    if body.get("signal"):
        how = {
            "SIGSEGV": "a segmentation fault",
            "SIGKILL": "SIGKILL, as the system sends it when memory runs out",
            "SIGABRT": "an abort",
            "SIGFPE": "an arithmetic fault",
            "SIGBUS": "a bus error",
        }.get(body["signal"], body["signal"])
        how = how if body["signal"] in how else f"{how} ({body['signal']})"
        return f"{program} crashed: {how}.{where}"
    return f"{program} exited with status {body.get('exitCode')}, bypassing normal shutdown.{where}"
