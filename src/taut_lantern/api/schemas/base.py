"""What all bodies share: ids, numbers, errors, short answers. Lengths in metres unless the name says otherwise."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat

Id = Annotated[str, Field(pattern=r"^[0-9a-f]{32}$")]
Text = Annotated[str, Field(min_length=1, max_length=300)]
Number = Annotated[FiniteFloat, Field(ge=-1e9, le=1e9)]
Version = Annotated[int, Field(ge=0, le=2**31 - 1, description="of the row as whoever asks has it before them")]
Unit = Literal["m", "mm", "ft", "us_ft"]
Status = Literal["taut", "slack", "parted", "loose"]


class Model(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Out(BaseModel):
    model_config = ConfigDict(from_attributes=True)


class Problem(Out):
    """RFC 9457 problem details with a stable code, the subject and the remedy."""

    type: str
    title: str
    status: int
    code: str
    detail: str
    subject: str
    remedy: str


class Made(Out):
    id: str


class Started(Out):
    jobs: list[str]


class Said(Out):
    message: str


class LetGo(Model):
    reason: Annotated[str, Field(min_length=3, max_length=300)]


class LetGoOut(Out):
    """Whose bytes were given up, and why."""

    at: datetime
    by: str
    reason: str


class FindingOut(Out):
    code: str
    subject: str
    message: str
    severity: str
