"""What goes in and out of the HTTP API. Lengths in metres unless the name says otherwise."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, FiniteFloat

Id = Annotated[str, Field(pattern=r"^[0-9a-f]{32}$")]
Text = Annotated[str, Field(min_length=1, max_length=300)]
Number = Annotated[FiniteFloat, Field(ge=-1e9, le=1e9)]
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


class ProjectIn(Model):
    name: Text
    unit: Literal["m", "mm", "ft"] = "m"


class ProjectPatch(Model):
    version: int | None = Field(None, ge=0, le=2**31 - 1)
    name: Text | None = None
    unit: Literal["m", "mm", "ft"] | None = None
    profile: Annotated[str, Field(max_length=40)] | None = None
    frame: Annotated[str, Field(pattern=r"^(project|[0-9a-f]{32})$")] | None = None


class ProjectCard(Out):
    id: str
    name: str
    demo: bool
    created_at: datetime
    stations: int
    points: int


class Frame(Out):
    id: str
    name: str
    kind: str


class KnotOut(Out):
    step: str
    state: Literal["empty", "begun", "done", "out of date"]
    question: str


class ProjectOut(Out):
    id: str
    version: int
    name: str
    unit: Literal["m", "mm", "ft"]
    demo: bool
    profile: dict[str, Any]
    network_revision: int
    frame: str
    frame_name: str
    T_frame_project: list[float]
    frames: list[Frame]
    stations: int
    points: int
    thread: list[KnotOut]
    undo: str | None
    redo: str | None


class UploadIn(Model):
    name: Text
    size: Annotated[int, Field(ge=0, le=2**50)]


class UploadOut(Out):
    id: str
    received: int
    size: int
    state: str


class ScanReading(Out):
    name: str
    points: int
    rows: int
    columns: int
    has_pose: bool
    intensity: bool
    colour: bool
    problems: list[str]


class ErrorOut(Out):
    code: str
    message: str
    remedy: str


class OriginalOut(Out):
    id: str
    name: str
    size: int
    received: int
    state: str
    scans: list[ScanReading]
    problem: ErrorOut | None
    same_as: str | None
    brought_in: bool


class BringIn(Model):
    originals: Annotated[list[Id], Field(min_length=1, max_length=500)]
    min_range: Annotated[FiniteFloat, Field(ge=0, le=5000)] = 0.4
    max_range: Annotated[FiniteFloat, Field(gt=0, le=5000)] = 200.0
    unit: Literal["m", "mm", "ft", "us_ft"] = "m"


class StationOut(Out):
    id: str
    version: int
    name: str
    points: int
    has_rgb: bool
    has_intensity: bool
    low: list[float]
    high: list[float]
    hue: int
    pose: list[float] | None
    report: dict[str, Any]
    status: Status
    part: int
    sigma_position_mm: list[float] | None
    links: int
    marked: int


class StationPatch(Model):
    version: int | None = Field(None, ge=0, le=2**31 - 1)
    name: Text | None = None
    deleted: Literal[True] | None = None


class TileOut(Out):
    id: int
    station: str
    level: int
    first: int
    count: int
    low: list[float]
    high: list[float]
    spacing: float


class FindingOut(Out):
    code: str
    subject: str
    message: str
    severity: str


class LinkOut(Out):
    id: str
    version: int
    a: str
    b: str
    name_a: str
    name_b: str
    kind: str
    used: bool
    status: Status
    sentence: str
    fit_median_mm: float
    fit_rms_mm: float
    fit_p90_mm: float
    histogram: list[int]
    overlap: float
    see_through: float
    weak_sigma_mm: float
    weak_direction: list[float]
    residual_mm: float | None
    residual_mdeg: float | None
    redundancy: float | None
    reasons: list[FindingOut]


class NetworkOut(Out):
    revision: int
    out_of_date: bool
    sentence: str
    sigma0: float
    degrees_of_freedom: int
    global_test: dict[str, Any]
    parts: list[list[str]]
    findings: list[FindingOut]
    links: list[LinkOut]


class Used(Model):
    used: bool
    version: int | None = Field(None, ge=0, le=2**31 - 1)


class PairIn(Model):
    a: Id
    b: Id
    T_a_b: Annotated[list[Number], Field(min_length=16, max_length=16)]


class SpheresIn(Model):
    radii_mm: Annotated[list[FiniteFloat], Field(min_length=1, max_length=8)] = [100.0]


class SightingOut(Out):
    id: str
    version: int
    station: str
    station_name: str
    target: str
    radius_mm: float
    rms_mm: float
    points: int
    sigma_mm: float
    remark: str
    used: bool
    position: list[float] | None
    spread_mm: float | None


class SightingPatch(Model):
    version: int | None = Field(None, ge=0, le=2**31 - 1)
    used: bool | None = None
    target: Annotated[str, Field(max_length=120)] | None = None


class ControlText(Model):
    text: Annotated[str, Field(max_length=4_000_000)]
    file: Annotated[str, Field(max_length=300)] = "control.csv"
    columns: Annotated[list[Literal["name", "n", "e", "h", "remark", "skip"]], Field(max_length=30)] | None = None
    unit: Literal["m", "mm", "ft", "us_ft"] = "m"


class ControlPreviewPoint(Out):
    name: str
    enh: list[float]
    remark: str
    role: str


class ControlPreview(Out):
    separator: str
    decimal_comma: bool
    columns: list[str]
    header: list[str]
    points: list[ControlPreviewPoint]
    findings: list[FindingOut]
    usable: bool


class ControlPointOut(Out):
    id: str
    version: int
    name: str
    role: str
    enh: list[float]
    remark: str
    target: str | None
    residual_mm: dict[str, float] | None
    status: Status
    reasons: list[FindingOut]


class ControlOut(Out):
    points: list[ControlPointOut]
    problem: str | None
    applied: bool
    up_to_date: bool
    sentence: str
    sigma_mm: float | None
    findings: list[FindingOut]
    targets: list[str]
    tolerance_mm: float


class ControlPatch(Model):
    version: int | None = Field(None, ge=0, le=2**31 - 1)
    role: Literal["control", "check", "off"] | None = None
    target: Annotated[str, Field(max_length=120)] | None = None


class SquareIn(Model):
    wall: Annotated[list[Number], Field(min_length=3, max_length=3)]
    point: Annotated[list[Number], Field(min_length=3, max_length=3)]
    given: Annotated[list[Number], Field(min_length=3, max_length=3)]
    flip: bool = False
    name: Text = "site"


class SquareOut(Out):
    id: str
    wall_rms_mm: float
    points: int


class LassoIn(Model):
    view: Annotated[list[Number], Field(min_length=16, max_length=16)]
    outline: Annotated[list[Annotated[list[Number], Field(min_length=2, max_length=2)]], Field(min_length=3, max_length=5000)]
    stations: Annotated[list[Id], Field(max_length=5000)]
    only_count: bool = False


class LassoOut(Out):
    edit: str | None
    count: int
    stations: list[str]


class EditOut(Out):
    id: str
    version: int
    title: str
    count: int
    active: bool


class EditPatch(Model):
    active: bool
    version: int | None = Field(None, ge=0, le=2**31 - 1)


class BoxIn(Model):
    name: Text = "crop box"
    centre: Annotated[list[Number], Field(min_length=3, max_length=3)]
    half: Annotated[list[Number], Field(min_length=3, max_length=3)]
    yaw: Number = 0.0
    active: bool = True
    version: int | None = Field(None, ge=0, le=2**31 - 1)


class BoxOut(Out):
    id: str
    version: int
    name: str
    centre: list[float]
    half: list[float]
    yaw: float
    active: bool


class BoxProposal(Out):
    centre: list[float]
    half: list[float]
    yaw: float


class SectionIn(Model):
    kind: Literal["plan", "upright"]
    name: Annotated[str, Field(max_length=120)] = ""
    height: Number | None = None
    above_floor: Number | None = None
    a: Annotated[list[Number], Field(min_length=2, max_length=2)] | None = None
    b: Annotated[list[Number], Field(min_length=2, max_length=2)] | None = None
    before: Annotated[FiniteFloat, Field(ge=0, le=100)] = 0.0
    behind: Annotated[FiniteFloat, Field(ge=0, le=100)] = 0.05


class TraceOut(Out):
    id: str
    version: int
    kind: str
    layer: str
    points: list[list[float]]
    radius: float
    state: str
    fit: dict[str, Any]


class SectionOut(Out):
    id: str
    version: int
    name: str
    kind: str
    params: dict[str, Any]
    T_section_project: list[float]
    traces: list[TraceOut]


class FitOut(Out):
    lines: int
    circles: int


class TraceIn(Model):
    kind: Literal["line", "polyline", "circle", "point"]
    layer: Annotated[str, Field(min_length=1, max_length=60)] = "wall"
    points: Annotated[list[Annotated[list[Number], Field(min_length=2, max_length=2)]], Field(min_length=1, max_length=2000)]
    radius: Annotated[FiniteFloat, Field(ge=0, le=10_000)] = 0.0


class TracePatch(Model):
    version: int | None = Field(None, ge=0, le=2**31 - 1)
    state: Literal["accepted", "found", "rejected"] | None = None
    layer: Annotated[str, Field(min_length=1, max_length=60)] | None = None


class DeliveryIn(Model):
    kind: Literal["e57", "laz", "dxf", "pdf"]
    crop: bool = True
    coordinates: Literal["grid", "section"] = "grid"
    unit: Literal["m", "mm", "ft"] = "m"
    sections: Annotated[list[Id], Field(max_length=500)] | None = None


class DeliveryOut(Out):
    id: str
    kind: str
    title: str
    name: str
    size: int
    sha256: str
    params: dict[str, Any]
    created_at: datetime
    outdated: bool


class JobOut(Out):
    id: str
    kind: str
    title: str
    state: str
    stage: str
    done: int
    total: int
    error: dict[str, Any] | None
    result: dict[str, Any] | None
    created_at: datetime
    started_at: datetime | None
    ended_at: datetime | None


class JournalOut(Out):
    id: int
    at: datetime
    actor: str
    title: str
    undone: bool
    undoable: bool
