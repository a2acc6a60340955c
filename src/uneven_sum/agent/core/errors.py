"""The errors with which the agent refuses something, with the reason as their text."""

from __future__ import annotations


class Refused(Exception):
    """A request that cannot be done; the text is its answer."""

    def __init__(self, message: str, **facts: object) -> None:
        super().__init__(message)
        self.facts = facts


class ForbiddenInCopy(PermissionError):
    """A trial tried to do something that would reach outside of its copy."""
