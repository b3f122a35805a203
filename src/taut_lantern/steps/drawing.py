"""The usual drawings of a site by themselves: cuts, lines that the profile allows, a sheet; of a job without a screen also the files of them."""

from __future__ import annotations

import math
import zipfile
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select

from ..core.draw.walls import hanging_together
from ..core.errors import BadInput, Cancelled, LanternError
from ..core.frames import pose
from ..site.common import Progress, get_project, matrix, profile_of, stations_of
from ..site.drawing import LEVEL
from ..site.parts import stations_in, wanted
from ..site.sheets import EDGE
from ..site.slab import slab_of
from ..store import journal
from ..store.db import file_chunks, session
from ..store.models import Job, Section, Sheet, Trace
from ..store.queue import LIVE, enqueue
from .draw import cuts, finding, sheets
from .hand_over import deliver
from .hand_over.drawn import values_of

SEEN = 0.5  # share of a line's length that must be seen for it to be accepted by itself
BEYOND, OUTSIDE, BEHIND = 6.0, 0.3, 2.5  # metres: of cuts beyond the stations, of elevations outside the walls, and of their depth
ROUND, SHORTEST = 2.0, 0.4  # metres shown round the building; of a line that says where it is
PIXEL = 0.005
PAPERS, USUAL = ("A3", "A2", "A1"), 100  # the scale, 1 to so much, that a building is drawn at
ABOVE = 1.2  # metres above the floor that the usual plan is cut at


@dataclass(frozen=True)
class Drawings:
    """plans: metres above the floor that most instruments stood on; sections, elevations: auto, or none."""

    plans: Sequence[float] = ()
    sections: bool = False
    elevations: bool = False

    def __bool__(self) -> bool:
        return bool(self.plans or self.sections or self.elevations)


def read_wanted(plans: str, sections: str, elevations: str) -> Drawings:
    """What the words of a command line ask for. BadInput when they cannot be read."""
    try:
        heights = [float(w) for w in plans.split(",") if w.strip()]
    except ValueError:
        raise BadInput(f"cannot read the heights {plans!r}", subject="plans", remedy="write metres above the floor, e.g. 1.2,4.5") from None
    for name, word in (("sections", sections), ("elevations", elevations)):
        if word not in ("", "auto"):
            raise BadInput(f"unknown {name} {word!r}", subject=name, remedy="write auto, or leave it away")
    if any(not 0 < h < 200 for h in heights):
        raise BadInput("plans are cut above the floor", subject="plans", remedy="write metres above the floor, e.g. 1.2,4.5")
    return Drawings(heights, sections == "auto", elevations == "auto")


def start(project_id: str) -> str:
    """Draw the usual set in the background: a plan, two sections, the elevations round it, and a sheet of them all. Asking again while that is
    under way gives the same job."""
    with session() as s:
        journal.locked_project(s, project_id)
        if not any(x.points for x in stations_of(s, project_id)):
            raise BadInput("there are no points to draw from", subject="drawing", remedy="bring in a scan first")
        q = select(Job.id).where(Job.project_id == project_id, Job.kind == "draft", Job.state.in_(LIVE))
        if (running := s.scalar(q.limit(1))) is not None:
            return running
        return enqueue(s, project_id, "draft", "Drawing a plan, sections, elevations and a sheet").id


def job(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """The usual set; what cannot be drawn of it is told."""
    findings: list[dict[str, str]] = []
    try:  # what is found in one section does not end the whole
        drawn, sheet = cut(project_id, Drawings((ABOVE,), True, True), replace(progress, run=None), findings)
    except Cancelled:
        raise Cancelled("cancelled; what was cut before stays, and each cut can be undone") from None
    if not drawn:
        raise BadInput(
            "nothing could be drawn", subject="drawing", remedy="tie the stations, or cut sections by hand", code="nothing_drawn"
        )
    return {"sections": len(drawn), "sheet": sheet, "left_out": [f["message"] for f in findings]}


def cut(project: str, what: Drawings, progress: Progress, findings: list[dict[str, str]]) -> tuple[list[str], str | None]:
    """Cut, find, accept what the profile allows, and lay out a sheet. Returns the sections in which something is drawn, and the sheet; what
    could not be drawn goes to the findings."""
    turn = cuts.direction(project)
    floor = cuts.floor_height(project) if what.plans else 0.0
    made = _there(
        project, [("plan", {"height": floor + h, "turn": turn, "behind": 0.05}, f"Plan {h:.2f} m above floor") for h in what.plans]
    )
    with session() as s:
        fit = profile_of(get_project(s, project)).fit
    drawn = [x for x in made if _found(project, x, fit, progress, findings)]
    upright: list[str] = []
    if what.sections:
        upright += _there(project, [("upright", p, "") for p in _through(project, turn)])
    if what.elevations:
        upright += _there(project, [("elevation", p, "") for p in _around(project, turn)])
    drawn += [x for x in upright if _found(project, x, fit, progress, findings)]
    for x in drawn:
        _window(project, x, turn)
    for x in {*made, *upright} - set(drawn):
        cuts.delete_section(project, x)
    if not drawn:
        return [], None
    with session() as s:
        sheet = next((x.id for x in s.scalars(select(Sheet).where(Sheet.project_id == project)) if x.params["sections"] == drawn), None)
    try:
        return drawn, sheet or sheets.make(project, "Drawings", _on_paper(project, drawn))
    except LanternError as problem:
        findings.append({"code": problem.code, "subject": "sheet", "message": str(problem), "severity": "doubt"})
        return drawn, None


def draw(project: str, folder: Path, what: Drawings, progress: Progress, findings: list[dict[str, str]]) -> list[dict[str, Any]]:
    """The same, and write DXF, GeoTIFF and the sheet. Returns what result.json says of each drawing."""
    drawn, sheet = cut(project, what, progress, findings)
    if not drawn:
        return []
    out = [_picture(project, x, folder, progress) for x in drawn]
    dxf = _written(project, {"what": "dxf"}, folder, progress)
    for entry in out:
        entry["files"].append(dxf)
    if sheet is not None:
        files = [_written(project, {"what": "sheet", "sheet": sheet}, folder, progress)]
        out.append({"kind": "sheet", "name": "Drawings", "files": files, "entities": []})
    return out


def _on_paper(project: str, drawn: list[str]) -> dict[str, Any]:
    """A sheet of sections: the smallest paper on which they fit at the usual scale, else the largest scale on a large one."""
    for paper in PAPERS[:-1]:
        params = {"paper": paper, "sections": drawn, "picture": "density"}
        with suppress(BadInput):  # they do not fit at all
            if sheets.scale_on(project, params) <= USUAL:
                return params
    return {"paper": PAPERS[-1], "sections": drawn, "picture": "density"}


def _there(project: str, wishes: list[tuple[str, dict[str, Any], str]]) -> list[str]:
    """The ids of cuts; those that are there already, as after a restart, are not made again."""
    out: list[str] = []
    for kind, params, name in wishes:
        kept = cuts.checked(kind, params)
        with session() as s:
            rows = s.scalars(select(Section).where(Section.project_id == project, Section.kind == kind))
            same = next((r.id for r in rows if _alike(r.params, kept)), None)
        out.append(same or cuts.make_section(project, kind, params, name))
    return out


def _alike(one: dict[str, Any], other: dict[str, Any], within: float = 1e-3) -> bool:
    """Whether two cuts of a kind are the same to a millimetre."""
    keys = ("height", "turn", "a", "b", "before", "behind")
    if one.get("of") or one.get("steps"):
        return False
    return all(np.allclose(one.get(k, 0.0), other.get(k, 0.0), atol=within) for k in keys if k in one or k in other)


def _found(project: str, section: str, fit: float, progress: Progress, findings: list[dict[str, str]]) -> bool:
    """Find lines in a section and accept those that the profile allows. False when it holds no points, or is an elevation of nothing."""
    try:
        finding.job(project, {"section_id": section}, progress)
    except LanternError as problem:
        findings.append({"code": problem.code, "subject": problem.subject or "drawing", "message": str(problem), "severity": "doubt"})
        return False
    with session() as s:
        row = s.get_one(Section, section)
        name, kind = row.name, row.kind
        any_ = s.scalar(select(Trace.id).where(Trace.section_id == section, Trace.state != "rejected").limit(1)) is not None
    if kind == "elevation" and not any_:
        findings.append({"code": "empty_section", "subject": name, "message": f"{name} shows no openings", "severity": "doubt"})
        return False
    finding.accept(project, section, 1000 * fit, SEEN)
    return True


def _box(project: str, turn: float) -> tuple[np.ndarray, np.ndarray, bool]:
    """The rectangle (2,), (2,), in coordinates turned along the walls, round the building: the walls of the plans that hang together most;
    False with it when there are none, and it is that round the instruments of the part in view."""
    with session() as s:
        plans = {x.id for x in s.scalars(select(Section).where(Section.project_id == project)) if x.kind in LEVEL}
        q = select(Trace).where(Trace.project_id == project, Trace.state == "accepted", Trace.layer == "wall", Trace.kind == "line")
        lines = [t.points for t in s.scalars(q) if t.section_id in plans and math.dist(*t.points) > SHORTEST]
        own = stations_in(stations_of(s, project), wanted(s, get_project(s, project), None))
        at = np.array([matrix(x.pose)[:3, 3] for x in own])
    if not lines:
        flat = (at @ pose(-turn)[:3, :3].T)[:, :2]
        return flat.min(axis=0), flat.max(axis=0), False
    walls = np.array(lines, float).reshape(-1, 2, 2)
    group = hanging_together(walls)
    length = np.bincount(group, np.linalg.norm(walls[:, 1] - walls[:, 0], axis=1))
    building = walls[group == int(np.argmax(length))].reshape(-1, 2)
    return building.min(axis=0), building.max(axis=0), True


def _back(turn: float, *points: tuple[float, float]) -> list[list[float]]:
    return [[float(v) for v in (pose(turn)[:3, :3] @ [x, y, 0.0])[:2]] for x, y in points]


def _through(project: str, turn: float) -> list[dict[str, Any]]:
    """Two sections through the middle of the building, or of the instruments: along the walls, and across them."""
    (x0, y0), (x1, y1), walls = _box(project, turn)
    x, y, more = (x0 + x1) / 2, (y0 + y1) / 2, ROUND if walls else BEYOND
    ends = [((x0 - more, y), (x1 + more, y)), ((x, y0 - more), (x, y1 + more))]
    return [{"a": a, "b": b, "before": 0.05, "behind": 0.05} for a, b in (_back(turn, *e) for e in ends)]


def _around(project: str, turn: float) -> list[dict[str, Any]]:
    """Four elevations outside the walls of the building, looking at them; round the instruments when there is no plan."""
    low, high, walls = _box(project, turn)
    more = OUTSIDE if walls else BEYOND
    (x0, y0), (x1, y1) = low - more, high + more
    round_ = [((x0, y0), (x1, y0)), ((x1, y0), (x1, y1)), ((x1, y1), (x0, y1)), ((x0, y1), (x0, y0))]  # the inside lies left of each
    return [{"a": a, "b": b, "before": 0.0, "behind": BEHIND} for a, b in (_back(turn, *e) for e in round_)]


def _window(project: str, section: str, turn: float) -> None:
    """What sheets show of a plan: the building, and a little round it; of an elevation: the wall that it was cut along."""
    with session() as s:
        row = s.get_one(Section, section)
        if row.params.get("window") or row.kind == "upright":
            return
        if row.kind == "elevation":
            seen = slab_of(s, project, row, 20_000, 400_000).points[:, 1]
            bottom, top = np.percentile(seen, [0.5, 99.5]) if len(seen) else (0.0, 1.0)
            low, high = np.array([0.0, bottom]) - EDGE, np.array([math.dist(row.params["a"], row.params["b"]), top]) + EDGE
        else:
            low, high, walls = _box(project, turn)
            if not walls:
                return
            low, high = low - ROUND, high + ROUND
    cuts.change_section(project, section, row.version, params={"window": [float(v) for v in (*low, *high)]})


def _written(project: str, params: dict[str, Any], folder: Path, progress: Progress) -> str:
    """Make a delivery and put its file into the folder. Returns its name."""
    made = deliver.make(project, params, progress)
    part = folder / (made["name"] + ".part")
    with part.open("wb") as out:
        for piece in file_chunks(made["delivery"], made["size"]):
            out.write(piece)
    part.replace(folder / made["name"])
    return str(made["name"])


def _picture(project: str, section: str, folder: Path, progress: Progress) -> dict[str, Any]:
    """The picture of a section with its world file, unpacked beside the other files; and its entities."""
    packed = folder / _written(project, {"what": "slab", "sections": [section], "pixel": PIXEL}, folder, progress)
    with zipfile.ZipFile(packed) as file:
        names = file.namelist()
        file.extractall(folder)
    packed.unlink()
    with session() as s:
        row = s.get_one(Section, section)
        entities = values_of(s, project, row.part_id, section)
        return {"kind": "section" if row.kind == "upright" else row.kind, "name": row.name, "files": names, "entities": entities}
