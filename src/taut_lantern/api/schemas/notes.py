"""Notes and saved views."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from .base import Id, Model, Number, Out, Text, Version

Pick = Annotated[list[Number], Field(min_length=3, max_length=3)]


class NoteIn(Model):
    """points: metres in the part's coordinates. Of a plane the first is where it is fitted, the second what is measured;
    of a clearance, a place on each of two things, and kept are the places nearest to each other; of a box, a place on each of two of its faces
    that share an edge, and kept are a corner and the ends of its three edges; of a sphere, a place on its skin, and kept is its centre."""

    kind: Literal["point", "distance", "polyline", "angle", "area", "plane", "clearance", "box", "sphere"]
    points: Annotated[list[Pick], Field(min_length=1, max_length=2000)]
    name: Annotated[str, Field(max_length=120)] = ""
    remark: Annotated[str, Field(max_length=300)] = ""
    part: Id | None = None


class PipeIn(Model):
    """at: a point on the skin of a pipe, or on a face of a steel member, metres in the part's coordinates."""

    at: Pick
    name: Annotated[str, Field(max_length=120)] = ""
    part: Id | None = None


class BendOut(Out):
    """turn in degrees; radius of the axis, metres."""

    turn: float
    radius: float


class NoteOut(Out):
    """points: in the part; at: in the coordinates named, where E, N, H; figures by name: metres, square metres, degrees."""

    id: str
    version: int
    name: str
    kind: str
    remark: str
    part: str | None
    points: list[list[float]]
    at: list[list[float]]
    figures: dict[str, float]
    bends: list[BendOut | None]  # of a pipe, at each corner of its axis; null where its points do not tell it
    section: str | None = None  # of a steel member, the standard section it is of; with those that would do as well
    radius: float | None = None  # of a pipe, whose points are the corners of its axis
    frame: str


class PlaneIn(Model):
    at: Pick
    part: Id | None = None


class PlaneOut(Out):
    """normal . p + offset = 0 in the part; rms of the points it was fitted to, metres."""

    normal: list[float]
    offset: float
    rms: float
    points: int


class CatchIn(Model):
    """at: a point of the station, metres in the coordinates of its part."""

    at: Pick
    station: Id


class CatchOut(Out):
    """at: what the shape gives for the pick, in the part of the station: its foot on the plane or the edge, the middle of the pipe there, the
    centre of the sphere. rms across the shape and spread (one standard deviation of the place) in metres, over so many points;
    angle of an edge and incidence of the ray in degrees; radius in metres; normal and axis: unit, in the part."""

    kind: Literal["point", "plane", "edge", "pipe", "sphere"]
    at: list[float]
    rms: float
    spread: float
    points: int
    normal: list[float] | None
    axis: list[float] | None
    angle: float | None
    radius: float | None
    incidence: float | None


class NotePatch(Model):
    version: Version
    name: Text | None = None
    remark: Annotated[str, Field(max_length=300)] | None = None
    deleted: Literal[True] | None = None


class PipeEdit(Model):
    """cut and extend: at a place; join: with another pipe, by its note."""

    version: Version
    do: Literal["cut", "extend", "join"]
    at: Annotated[list[Number], Field(min_length=3, max_length=3)] | None = None
    other: Id | None = None


Three = Annotated[list[Number], Field(min_length=3, max_length=3)]
Colour = Literal["station", "group", "intensity", "height", "colour", "range", "inclination", "apart", "expected", "class", "zone", "model"]


class SpaceCamera(Model):
    middle: Three
    yaw: Number
    pitch: Number
    distance: Number


class FlatCamera(Model):
    middle: Three
    scale: Number


class RoundCamera(Model):
    yaw: Number
    pitch: Number
    wide: Number


class Cameras(Model):
    """Metres in the part, radians; wide: degrees."""

    space: SpaceCamera | None = None
    plan: FlatCamera | None = None
    slice: FlatCamera | None = None
    panorama: RoundCamera | None = None


class ShownSlab(Model):
    height: Number
    planDepth: Number
    origin: Annotated[list[Number], Field(min_length=2, max_length=2)]
    azimuth: Number
    sliceDepth: Number
    cutPlan: bool
    lid: Number
    cutLid: bool


class Shows(Model):
    """What a bench shows; what is not given stays as it is when the view is shown."""

    cameras: Cameras | None = None
    panes: Annotated[list[Literal["space", "plan", "slice", "panorama", "panorama2"]], Field(max_length=3)] | None = None
    slab: ShownSlab | None = None
    colourBy: Colour | None = None
    spans: dict[Colour, Annotated[list[Number], Field(min_length=2, max_length=2)]] | None = None
    ground: Literal["ink", "mid", "paper"] | None = None
    eyes: Annotated[dict[Id, bool], Field(max_length=2000)] | None = None
    box: Annotated[str, Field(pattern=r"^(none|[0-9a-f]{32}( [0-9a-f]{32}){0,7})$")] | None = None  # crop boxes, with blanks between
    stations: Annotated[list[Id], Field(max_length=2000)] | None = None
    link: Id | Literal["none"] | None = None
    stand: Id | None = None
    stand2: Id | None = None
    parallel: bool | None = None
    walking: bool | None = None
    part: Id | None = None


class ViewIn(Model):
    name: Text
    shows: Shows
    part: Id | None = None


class ViewOut(Out):
    """T_part_base: from the coordinates that the view was kept in to those of its part now."""

    id: str
    version: int
    name: str
    shows: Shows
    part: str | None
    T_part_base: list[float]


class ViewPatch(Model):
    version: Version
    name: Text | None = None
    deleted: Literal[True] | None = None
