"""What is accepted, by whom, and whether it still stands."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import Field

from .base import Id, Model, Out, Version


class AcceptIn(Model):
    """link: which one; without it the network as a whole. name: of who accepts, when that is not who is signed in."""

    link: Id | None = None
    remark: Annotated[str, Field(max_length=1000)] = ""
    name: Annotated[str, Field(max_length=120)] = ""


class AcceptanceOut(Out):
    """The last one of a link, or of the network (link null). why: why it stands no more, "" while it does."""

    id: str
    version: int
    link: str | None
    what: str
    by: str
    at: datetime
    remark: str
    stands: bool
    why: str


class WithdrawIn(Model):
    version: Version


class PictureOut(Out):
    """A picture of the report; wide, high: pixels."""

    id: str
    version: int
    caption: str
    logo: bool
    wide: int
    high: int
    made_by: str
    made_at: datetime


class PicturePatch(Model):
    version: Version
    caption: Annotated[str, Field(max_length=300)]
