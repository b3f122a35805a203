"""Sections, traces, layers and sheets."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, FiniteFloat

from .base import Id, Model, Number, Out, Version

Name = Annotated[str, Field(max_length=120)]
Layer = Annotated[str, Field(min_length=1, max_length=60)]
Place = Annotated[list[Number], Field(min_length=2, max_length=2)]
Depth = Annotated[FiniteFloat, Field(ge=0, le=100)]
Ids = Annotated[list[Id], Field(min_length=1, max_length=2000)]
Picture = Literal["density", "intensity", "colour", "depth", "relief", "x-ray"]


class CutOf(Model):
    """What a cut is of alone: points of these stations, of these zones and what is nested in them, in these boxes (whether they crop what is
    seen or not), or of what is of all of these."""

    stations: Annotated[list[Id], Field(max_length=1000)] = []
    zones: Annotated[list[Id], Field(max_length=200)] = []
    boxes: Annotated[list[Id], Field(max_length=200)] = []


class SectionIn(Model):
    kind: Literal["plan", "ceiling", "upright", "elevation", "unrolled"]
    name: Name = ""
    part: Id | None = None  # None: the part that is shown first
    height: Number | None = None
    above_floor: Number | None = None
    floor: Number | None = None  # z of the floor that it is above; None: the one that most instruments stood on
    turn: Number | None = None  # radians from x of the part: how a plan lies; None: along the walls where it is cut above a floor, else 0
    a: Place | None = None
    b: Place | None = None
    before: Depth = 0.0
    behind: Depth = 0.05
    line: Annotated[list[Place], Field(max_length=200)] | None = (
        None  # upright, in steps: both ends of each leg in turn, instead of a and b;
    )
    # unrolled: picks along the wall
    bent: bool = False  # unrolled: along the arc through three picks
    of: CutOf | None = None  # None: of all that is seen


class FloorOut(Out):
    height: float
    stations: list[str]


class SeriesIn(Model):
    """Upright sections square to a line of picks, or to the arc through three of them, at equal spacing; metres."""

    part: Id | None = None
    line: Annotated[list[Place], Field(min_length=2, max_length=200)]
    spacing: Annotated[FiniteFloat, Field(gt=0.01, le=1000)]
    width: Annotated[FiniteFloat, Field(gt=0.02, le=1000)]
    depth: Annotated[FiniteFloat, Field(gt=0, le=100)] = 0.1
    arc: bool = False


class SectionPatch(Model):
    version: Version
    name: Name | None = None
    height: Number | None = None
    a: Place | None = None
    b: Place | None = None
    before: Depth | None = None
    behind: Depth | None = None
    of: CutOf | None = None  # of nothing: of all that is seen
    window: Annotated[list[Number], Field(max_length=4)] | None = None  # what sheets show: low and high corner; []: all there is


class CutsIn(Model):
    format: Annotated[str, Field(max_length=60)]
    cuts: Annotated[list[dict[str, Any]], Field(max_length=500)]


class LettersOut(Out):
    at: list[float]
    text: str
    height: float
    turn: float
    middle: bool


class CutMarkOut(Out):
    """A cut that is marked in another by its line from a to b, section coordinates."""

    id: str
    version: int
    name: str
    a: list[float]
    b: list[float]


class MarksOut(Out):
    """How other cuts are marked in this one: lines and their names, section coordinates; cuts: what they are of."""

    lines: list[list[list[float]]]
    letters: list[LettersOut]
    cuts: list[CutMarkOut]


class PullIn(Model):
    """The line of a cut from a to b, in the coordinates of the section that it is marked in. version: of the cut."""

    version: Version
    a: Place
    b: Place


class TraceOut(Out):
    id: str
    version: int
    kind: str
    layer: str
    points: list[list[float]]
    radius: float
    shape: dict[str, Any]
    state: str
    fit: dict[str, Any]
    dashed: bool
    lines: list[list[list[float]]]  # the shape as plain lines
    solid: list[list[list[float]]]  # of a line that was seen in pieces, those; else empty
    dashes: list[list[list[float]]]  # and what of it was not seen, which is drawn dashed
    letters: list[LettersOut]
    why_old: str  # "": it is of today


class SectionOut(Out):
    id: str
    version: int
    name: str
    kind: str
    params: dict[str, Any]
    of: str  # what it is of alone, in words; "" when of all that is seen
    part: str | None
    T_section_part: list[float]
    foot: list[list[float]]  # of an unrolled wall the line it stands on: metres along, x, y in the part; else empty
    marks: MarksOut
    traces: list[TraceOut]


class ShapeIn(Model):
    """What a trace is beside its points."""

    closed: bool | None = None
    bulges: Annotated[list[Number], Field(max_length=2000)] | None = None
    start: Number | None = None
    end: Number | None = None
    ratio: Annotated[FiniteFloat, Field(gt=0, le=1)] | None = None
    text: Annotated[str, Field(max_length=300)] | None = None
    height: Annotated[FiniteFloat, Field(gt=0, le=100)] | None = None
    turn: Number | None = None
    measure: Literal["linear", "aligned", "radius", "angle", "level", "leader"] | None = None
    pattern: Literal["lines", "solid"] | None = None
    picture: Id | None = None
    dashed: bool | None = None


class TraceIn(Model):
    kind: Literal["line", "polyline", "arc", "circle", "ellipse", "spline", "point", "text", "hatch", "dimension", "picture"]
    layer: Layer = "wall"
    points: Annotated[list[Place], Field(min_length=1, max_length=2000)]
    radius: Annotated[FiniteFloat, Field(ge=0, le=10_000)] = 0.0
    shape: ShapeIn = ShapeIn()


class PinnedOut(Out):
    """tall: how high the picture is of its width."""

    id: str
    tall: float


class TracePatch(Model):
    version: Version
    state: Literal["accepted", "found", "rejected"] | None = None
    layer: Layer | None = None
    points: Annotated[list[Place], Field(min_length=1, max_length=2000)] | None = None
    radius: Annotated[FiniteFloat, Field(ge=0, le=10_000)] | None = None
    shape: ShapeIn | None = None


class EditTracesIn(Model):
    """at: picks, value: a length (m) or an angle (radians), count: of an array; see what each needs in the words of the answer."""

    do: Literal["move", "copy", "turn", "mirror", "stretch", "array", "offset", "trim", "extend", "corner", "join", "break"]
    ids: Ids
    at: Annotated[list[Place], Field(max_length=4)] = []
    value: Number = 0.0
    count: Annotated[int, Field(ge=2, le=1000)] = 2


class TracesIn(Model):
    ids: Ids


class MadeTraces(Out):
    ids: list[str]


class AcceptFoundIn(Model):
    """None: whatever it is."""

    most_rms_mm: Annotated[FiniteFloat, Field(gt=0, le=1000)] | None = None
    least_seen: Annotated[FiniteFloat, Field(ge=0, le=1)] | None = None
    layers: Annotated[list[Layer], Field(max_length=500)] | None = None


class RegulariseIn(Model):
    limit_mm: Annotated[FiniteFloat, Field(gt=0, le=200)] = 10.0
    ids: Ids | None = None  # None: all lines of the section


class RegularisedOut(Out):
    lines: int
    most_mm: float


class RefitIn(Model):
    version: Version
    stripe: Annotated[FiniteFloat, Field(ge=0.01, le=1)] | None = None  # width of the painted stripe that it is laid on; None: on points


class FittedOut(Out):
    rms_mm: float
    points: int
    length: float
    moved_mm: float


class LayerIn(Model):
    name: Layer
    colour: Annotated[str, Field(pattern="^#[0-9a-fA-F]{6}$")] = "#1e2530"
    line_type: Literal["continuous", "dashed", "dotted", "dash-dot"] = "continuous"
    weight: Annotated[FiniteFloat, Field(gt=0, le=5)] = 0.25
    locked: bool = False
    shown: bool = True


class LayersIn(Model):
    """layers: instead of those that are; template: one of our lists; rename: old and new name."""

    layers: Annotated[list[LayerIn], Field(min_length=1, max_length=500)] | None = None
    template: Literal["building survey", "plant", "topographic"] | None = None
    rename: Annotated[list[Layer], Field(min_length=2, max_length=2)] | None = None


class LayerOut(Out):
    name: str
    colour: str
    line_type: str
    weight: float
    locked: bool
    shown: bool
    traces: int


class Revision(Model):
    date: Annotated[str, Field(max_length=10)]
    words: Annotated[str, Field(max_length=120)]


class SheetParams(Model):
    paper: Literal["A4", "A3", "A2", "A1", "A0"] | None = None
    upright: bool | None = None
    scale: Annotated[int, Field(ge=1, le=10_000)] | None = None  # None: the largest usual one that fits
    sections: Annotated[list[Id], Field(min_length=1, max_length=24)] | None = None
    picture: Picture | Literal[""] | None = None  # "": none below the lines
    block: dict[Literal["drawn by", "checked by", "number", "client"], Annotated[str, Field(max_length=80)]] | None = None
    revisions: Annotated[list[Revision], Field(max_length=20)] | None = None
    title: Id | None = None  # the customer's title block; None: ours
    fields: dict[Annotated[str, Field(max_length=60)], Annotated[str, Field(max_length=200)]] | None = None


class SheetIn(SheetParams):
    name: Name = ""


class SheetPatch(SheetParams):
    version: Version
    name: Name | None = None


class ViewPlace(Out):
    section: str
    title: str
    x: float
    y: float
    wide: float
    tall: float


class FieldOut(Out):
    tag: str
    text: str


class TitleBlockOut(Out):
    """wide, tall: millimetres; tags: of its fields, from the top down."""

    id: str
    version: int
    name: str
    wide: float
    tall: float
    tags: list[str]


class SheetOut(Out):
    """fits: the scale that it is plotted at, wide and tall: the paper, places of views from the lower left: millimetres; problem: why it
    cannot be plotted."""

    id: str
    version: int
    name: str
    paper: str
    upright: bool
    scale: int | None
    sections: list[str]
    picture: str
    block: dict[str, str]
    revisions: list[Revision]
    title: str | None
    fields: dict[str, str]
    says: list[FieldOut]  # what stands in the fields of the customer's title block
    fits: int | None
    wide: float
    tall: float
    views: list[ViewPlace]
    problem: str
