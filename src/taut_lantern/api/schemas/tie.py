"""Links, questions, network, groups, what is known of stations."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field, FiniteFloat

from .base import FindingOut, Id, Model, Number, Out, Status, Version


class LinkOut(Out):
    """A link as lists and strings need it; its sentence and its histogram come with the link itself."""

    id: str
    version: int
    a: str
    b: str
    name_a: str
    name_b: str
    kind: str
    used: bool
    status: Status
    fit_median_mm: float
    fit_rms_mm: float
    fit_p90_mm: float
    overlap: float
    see_through: float
    weak_sigma_mm: float
    residual_mm: float | None
    residual_mdeg: float | None
    redundancy: float | None
    reasons: list[FindingOut]


class RegionOut(Out):
    """The box that a link was compared in alone: T_a_box (16), half (3), metres."""

    T_a_box: list[float]
    half: list[float]


class WholeLinkOut(LinkOut):
    """histogram: counts of surface distances in bins of 0.5 mm; weak_direction: unit vector in a's frame. contradicted_m2: of things
    that do not move, seen by one where the other looked freely, of which allowed_m2 are explained; distinct_m2: what both saw and is
    more than bare walls and floors."""

    sentence: str
    histogram: list[int]
    weak_direction: list[float]
    carried: str  # by the clouds or by targets, "" when no target is seen from both
    contradicted_m2: float
    allowed_m2: float
    distinct_m2: float
    region: RegionOut | None
    bare_m2: float  # that distinct_m2 is asked to be at least


class ReadingOut(Out):
    """One way to understand the scans. T_partner_station: 16 numbers, row by row, metres; null where the two share nothing."""

    word: str
    says: str
    partner: str | None
    partner_name: str | None
    T_partner_station: list[float] | None
    agree_m2: float
    contradicted_m2: float


class QuestionOut(Out):
    """What the scans do not decide. places: what one saw where the other looked freely, metres, in the frame of the other."""

    id: str
    version: int
    kind: Literal["alike", "place"]
    station: str
    station_name: str
    other: str
    other_name: str
    message: str
    places: list[list[float]]
    readings: list[ReadingOut]
    words: list[str]  # that can be answered
    answer: str | None
    answered_by: str | None
    answered_at: datetime | None


class AnswerIn(Model):
    """word: of the reading that is right, or none; null opens the question again."""

    word: Literal["one", "two", "first", "second", "third", "fourth", "none"] | None
    version: Version


class NetworkPart(Out):
    id: str
    name: str
    stations: list[str]
    datum: str


class NetworkOut(Out):
    revision: int
    out_of_date: bool
    sentence: str
    sigma0: float
    degrees_of_freedom: int
    global_test: dict[str, Any]
    converged: bool
    parts: list[NetworkPart]
    findings: list[FindingOut]
    links: list[LinkOut]


class Used(Model):
    used: bool
    version: Version


class RegionIn(Model):
    """A box in the part's coordinates, metres; yaw in radians."""

    centre: Annotated[list[Number], Field(min_length=3, max_length=3)]
    half: Annotated[list[Annotated[FiniteFloat, Field(gt=0, le=10_000)]], Field(min_length=3, max_length=3)]
    yaw: Number = 0.0


class PairIn(Model):
    a: Id
    b: Id
    T_a_b: Annotated[list[Number], Field(min_length=16, max_length=16)]
    box: Annotated[Id | None, Field(description="crop box in which alone the two are compared")] = None
    region: Annotated[RegionIn | None, Field(description="or a box drawn for this link alone")] = None
    reach: Annotated[
        FiniteFloat | None, Field(ge=0.1, le=5, description="metres from where b was put within which it is looked for; 1.2 unless given")
    ] = None


class MatchIn(Model):
    """The same place picked in both scans: metres, each in its station's frame."""

    a: Annotated[list[Number], Field(min_length=3, max_length=3)]
    b: Annotated[list[Number], Field(min_length=3, max_length=3)]


class MatchesIn(Model):
    a: Id
    b: Id
    matches: Annotated[list[MatchIn], Field(max_length=40)]


class MatchOut(Out):
    """kind: what the match holds: point, line (an edge, a pipe), plane, or none when hardly anything lies round a pick."""

    kind: Literal["point", "line", "plane", "none"]
    residual_mm: float | None
    said: str


class MatchesOut(Out):
    """T_a_b: null until the matches give a placement; wide_mm: its deviation 10 m from their middle; why: what is missing, "" when the
    placement may be used."""

    T_a_b: list[float] | None
    matches: list[MatchOut]
    wide_mm: float | None
    why: str


class AdvisedLink(Out):
    """T_a_b: where the two stand now, to link them from; shared: of what the one saw that saw less, the share that the other saw."""

    a: str
    b: str
    T_a_b: list[float]
    shared: float
    gains: str  # the station that gains most
    before_mm: float
    after_mm: float
    says: str


class AdvisedPlace(Out):
    """at (3): of the instrument, metres in the part; stations: those that it would share enough with, most first."""

    at: list[float]
    stations: list[str]
    gains: str
    before_mm: float
    after_mm: float
    says: str


class AdviceOut(Out):
    """apart: why stations are not in the part."""

    part: str | None
    sentence: str
    links: list[AdvisedLink]
    places: list[AdvisedPlace]
    apart: list[str]


class GroupIn(Model):
    """held: the stations keep how they stand to each other now, and move as one. parent: the group that it lies in."""

    stations: Annotated[list[Id], Field(min_length=1, max_length=5000)]
    name: Annotated[str, Field(max_length=110)] = ""
    parent: Id | None = None
    held: bool = False


class GroupPatch(Model):
    """parent: the group to put it into, "" for none."""

    version: Version
    name: Annotated[str, Field(min_length=1, max_length=110)] | None = None
    parent: Annotated[str, Field(pattern=r"^([0-9a-f]{32})?$")] | None = None
    held: bool | None = None


class PutIn(Model):
    """group: the group to put stations into, "" to take them out of theirs."""

    stations: Annotated[list[Id], Field(min_length=1, max_length=5000)]
    group: Annotated[str, Field(pattern=r"^([0-9a-f]{32})?$")] = ""


class MergeIn(Model):
    version: Version
    other: Id


class GroupOut(Out):
    """stations: those in it and in no group within it; held: all under it move as one."""

    id: str
    version: int
    name: str
    parent: str | None
    held: bool
    stations: list[str]


class SketchPlaceIn(Model):
    """Where a picture lies below the sketch: its lower left corner in metres, and metres a pixel."""

    x: Annotated[FiniteFloat, Field(ge=-1e6, le=1e6)]
    y: Annotated[FiniteFloat, Field(ge=-1e6, le=1e6)]
    size: Annotated[FiniteFloat, Field(gt=0, le=100)]


class SearchIn(Model):
    """reach: metres on the sketch, 0 for any; sketch: lines of station name, x, y in metres, empty to take it away; picture: where the
    one below it lies."""

    version: Version
    in_order: bool | None = None
    level: bool | None = None
    level_sigma_mrad: Annotated[FiniteFloat, Field(ge=0.001, le=50)] | None = None
    reach: Annotated[FiniteFloat, Field(ge=0, le=1000)] | None = None
    sketch: Annotated[str, Field(max_length=200_000)] | None = None
    picture: SketchPlaceIn | None = None


class SpotOut(Out):
    station: str
    station_name: str
    x: float
    y: float


class SketchPictureOut(Out):
    """A picture below the sketch: pixels, and where it lies there in metres."""

    id: str
    wide: int
    high: int
    x: float
    y: float
    size: float


class LaidOut(Out):
    """How the sketch lies on the plan of a part: (2, 3) row by row, metres."""

    part: str
    T_part_sketch: list[float]


class SearchOut(Out):
    version: int
    in_order: bool
    level: bool
    level_sigma_mrad: float
    reach: float
    spots: list[SpotOut]
    picture: SketchPictureOut | None
    laid: list[LaidOut]


class TapeIn(Model):
    """A distance by tape between two targets, ids."""

    a: str = Field(min_length=1, max_length=40)
    b: str = Field(min_length=1, max_length=40)
    metres: Annotated[FiniteFloat, Field(gt=0.01, le=1000)]
    sigma_mm: Annotated[FiniteFloat, Field(gt=0.01, le=1000)] = 2.0


class PlumbIn(Model):
    """A wall that is plumb, picked at ``at`` in the part's coordinates, metres; sigma: millimetres a metre."""

    at: Annotated[list[FiniteFloat], Field(min_length=3, max_length=3)]
    sigma_mm_m: Annotated[FiniteFloat, Field(gt=0.001, le=50)] = 1.0
    name: Annotated[str, Field(max_length=60)] = ""
    part: str | None = None


class KnownPatch(Model):
    version: Version
    used: bool | None = None


class KnownOut(Out):
    """What is known beside the scans: tape (millimetres), plumb and level (millimetres a metre)."""

    id: str
    version: int
    kind: Literal["tape", "plumb", "level"]
    name: str
    metres: float | None
    sigma: float | None
    off: float | None
    normalized: float | None
    used: bool
    status: str


class StopsIn(Model):
    """Reference stops of a mobile scan: lines of name, x, y, z, seconds in the scan's frame, metres."""

    station: Id
    text: Annotated[str, Field(max_length=1_000_000)]
    file: Annotated[str, Field(max_length=300)] = "stops.csv"
    sigma_mm: Annotated[FiniteFloat, Field(gt=0.01, le=1000)] = 5.0
