"""One error tree. Every error names its subject, what was expected and what to do; none knows of HTTP."""

from __future__ import annotations

from dataclasses import dataclass


class LanternError(Exception):
    """Base of all errors that a person is meant to read.

    code : stable word for programs; subject : what it is about; remedy : what to do.
    """

    code = "failed"

    def __init__(self, message: str, *, subject: str = "", remedy: str = "", code: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.subject = subject
        self.remedy = remedy
        if code:
            self.code = code

    def __str__(self) -> str:
        return f"{self.message}: {self.remedy}" if self.remedy else self.message


class BadInput(LanternError, ValueError):
    """A file or a value cannot be used as it is."""

    code = "bad_input"


class NotFound(LanternError, LookupError):
    code = "not_found"


class Conflict(LanternError):
    """Somebody else changed the thing since it was read."""

    code = "conflict"


class NotEnough(LanternError, ValueError):
    """Too few observations for what was asked."""

    code = "not_enough"


class Cancelled(LanternError):
    code = "cancelled"


class Busy(LanternError):
    """Too much is asked at once; the same thing may be asked again in a moment."""

    code = "busy"


@dataclass(frozen=True)
class Finding:
    """One thing worth saying: a screen, a report and a test read it alike."""

    code: str
    subject: str
    message: str
    severity: str = "note"  # note | doubt | fault

    def as_dict(self) -> dict[str, str]:
        return {"code": self.code, "subject": self.subject, "message": self.message, "severity": self.severity}
