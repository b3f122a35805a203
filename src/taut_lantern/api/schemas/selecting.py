"""Selections, zones and classes."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from .base import Id, Model, Number, Out, Version

Three = Annotated[list[Number], Field(min_length=3, max_length=3)]
Line = Annotated[list[Annotated[list[Number], Field(min_length=2, max_length=2)]], Field(max_length=5000)]
View = Annotated[list[Number], Field(min_length=16, max_length=16)]
Deep = Annotated[float, Field(ge=0.005, le=20)]


class ByLasso(Model):
    """An outline in a view: clip = view * [x y z 1], row by row; corners -1 to 1. front: metres, only what stands in front, this deep."""

    kind: Literal["lasso"]
    view: View
    outline: Annotated[Line, Field(min_length=3)]
    front: Deep | None = None


class ByBrush(Model):
    """A stroke in a view, this wide to each side in its two directions."""

    kind: Literal["brush"]
    view: View
    outline: Annotated[Line, Field(min_length=1)]
    radius: Annotated[list[Annotated[float, Field(gt=0, le=2)]], Field(min_length=2, max_length=2)]
    front: Deep | None = 0.5


class ByBox(Model):
    kind: Literal["box"]
    box: Id


class ByFrame(Model):
    """A box that is no crop box: centre, half sizes and turn in the part, metres and radians."""

    kind: Literal["frame"]
    centre: Three
    half: Three
    yaw: Number = 0.0


class BySphere(Model):
    kind: Literal["sphere"]
    centre: Three
    radius: Annotated[float, Field(ge=0.005, le=1000)]


class BySlab(Model):
    """Between two distances along a direction from a place on a plane, metres; null: without a limit."""

    kind: Literal["slab"]
    at: Three
    normal: Three = [0.0, 0.0, 1.0]
    low: Number | None = None
    high: Number | None = None


class ByLimits(Model):
    """height: of the coordinates in use, metres; intensity: 0 to 1; range: metres from a point's own station."""

    kind: Literal["height", "intensity", "range"]
    low: Number | None = None
    high: Number | None = None


class ByStations(Model):
    """All points of the stations that are named."""

    kind: Literal["stations"]


class ByGrowing(Model):
    """What hangs together with a point of a station: the plane or pipe there, what bends smoothly, or the whole thing above the ground."""

    kind: Literal["grow"]
    station: Id
    at: Three
    what: Literal["surface", "smooth", "thing"] = "surface"
    reach: Annotated[float, Field(ge=0.1, le=50)] = 8.0


class ByZone(Model):
    kind: Literal["zone"]
    zone: Id


class ByClass(Model):
    kind: Literal["class"]
    code: Annotated[int, Field(ge=0, le=255)]


class ByInverse(Model):
    """What is seen of the stations that are named, and not selected."""

    kind: Literal["inverse"]


Shape = Annotated[
    ByLasso | ByBrush | ByBox | ByFrame | BySphere | BySlab | ByLimits | ByStations | ByGrowing | ByZone | ByClass | ByInverse,
    Field(discriminator="kind"),
]


class SelectIn(Model):
    """seen: the network's revision that the screen showed when the shape was drawn."""

    shape: Shape
    stations: Annotated[list[Id], Field(max_length=5000)]
    op: Literal["replace", "add", "subtract", "intersect"] = "replace"
    among: Literal["living", "deleted"] = "living"
    seen: Annotated[int, Field(ge=0, le=2**31 - 1)] | None = None


class SelectedOut(Out):
    station: str
    points: int


class SelectionOut(Out):
    """spared: by reason, how many points of the last shape were left alone: hidden, cropped, locked, behind. recounted: stations were
    moved since the screen was drawn. job: what selects in the background, when it is too much."""

    revision: int
    count: int
    stations: list[SelectedOut]
    title: str
    among: Literal["living", "deleted"]
    spared: dict[str, int]
    back: bool
    recounted: bool
    job: str | None


class ActIn(Model):
    """What is done with the selection of this revision. sure: also with more than a fifth of a station."""

    do: Literal["delete", "hide", "only", "class", "keep", "into", "out_of", "restore"]
    revision: Annotated[int, Field(ge=0, le=2**62)]
    sure: bool = False
    stations: Annotated[list[Id], Field(max_length=5000)] = []
    code: Annotated[int, Field(ge=0, le=255)] = 0
    name: Annotated[str, Field(min_length=1, max_length=120)] = "zone"
    parent: Id | None = None
    zone: Id | None = None


class ActOut(Out):
    id: str | None
    count: int
    spared: int
    message: str


class EvenDetail(Out):
    """Of what is left out at one spacing: that, metres, and how many points stay."""

    spacing: float | None = None
    kept: int | None = None
    part: str | None = None


class EvenIn(Model):
    spacing: Annotated[float, Field(ge=0.0005, le=1.0)]  # metres
    part: Id | None = None


class ZoneOut(Out):
    id: str
    version: int
    parent_id: str | None
    name: str
    kind: Literal["zone", "hidden", "even"]
    hue: int
    shown: bool
    locked: bool
    apart: bool
    count: int
    stations: list[str]
    detail: EvenDetail
    old: str  # why what is left out at one spacing is to be found again


class ZonePatch(Model):
    version: Version
    name: Annotated[str, Field(min_length=1, max_length=120)] | None = None
    parent: Id | Literal[""] | None = None  # "": nested in none
    shown: bool | None = None
    locked: bool | None = None
    apart: bool | None = None
    hue: Annotated[int, Field(ge=0, le=11)] | None = None

    def values_given(self) -> dict[str, Any]:
        given = self.model_dump(exclude={"version", "parent"}, exclude_none=True)
        return given if self.parent is None else given | {"parent_id": self.parent or None}


class ClassOut(Out):
    code: int
    name: str
    own: bool


class ClassIn(Model):
    name: Annotated[str, Field(min_length=1, max_length=60)]
