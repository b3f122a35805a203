"""Find lines in a slab: walls with both faces, arcs, pipes; accept them by rule, lay them parallel and square, fit them anew."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.draw import walls
from ...core.draw.faces import Around, Face, reaches_up
from ...core.draw.fit import Circle, refitted
from ...core.draw.layers import TO_CHECK
from ...core.draw.openings import facade, openings
from ...core.draw.profiles import Flight, beams, flights, hanging
from ...core.draw.series import nominal as standard_of
from ...core.draw.steel import Found as Profiled
from ...core.draw.steel import standing as columns_of
from ...core.draw.stripe import centre_line
from ...core.errors import BadInput
from ...site.common import Moved, Progress, get_project, matrix, owned, settled
from ...site.drawing import LEVEL, cut_of, layers_of, locked_of, open_layer, shape_of
from ...site.slab import AT_ONCE, Slab, cleaning_of, deeper, slab_of
from ...site.solution import solution_of
from ...store import journal
from ...store.db import session
from ...store.models import Job, Section, Trace
from ...store.queue import LIVE, enqueue

READ = 3_000_000  # points of a slab that lines are found in
SIDES = ("left", "bottom", "right", "top")  # of an opening
THROUGH = 12.0  # metres before and behind an elevation that rays go to through its openings
ABOVE, BELOW = 1.45, 1.0  # metres above and below a plan that tell of lean and height; below a ceiling as far as above


def start(project_id: str, section_id: str) -> str:
    """Find lines and circles in the background; asking again while that is under way gives the same job."""
    with session() as s:
        journal.locked_project(s, project_id)
        section = owned(s, Section, project_id, section_id, "section")
        if section.kind == "unrolled":
            raise BadInput(
                "lines on an unrolled wall are not found by themselves",
                subject=section.name,
                remedy="trace them by hand; doors and windows are found in an elevation",
            )
        q = select(Job.id).where(Job.project_id == project_id, Job.kind == "fit", Job.state.in_(LIVE))
        if (running := s.scalar(q.where(Job.params["section_id"].astext == section_id).limit(1))) is not None:
            return running
        return enqueue(s, project_id, "fit", f"Finding lines in {section.name}", section_id=section_id).id


def job(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Find lines and circles in the slab. What was accepted, drawn or rejected stays, and is not found again; earlier findings go."""
    section_id = params["section_id"]

    def compute(s: Session) -> tuple[int, int, list[Trace], dict[str, int]]:
        section = owned(s, Section, project_id, section_id, "section")
        slab = slab_of(s, project_id, section, READ, 10 * AT_ONCE, progress)
        if len(slab.points) < 50:
            raise BadInput(
                f"{section.name} holds {len(slab.points)} points",
                subject=section.name,
                remedy="make it deeper, or cut elsewhere",
                code="empty_section",
            )
        around = slab
        if standing := section.kind == "plan":  # what stands goes on above and below; what a ceiling shows hangs
            around = slab_of(s, project_id, section, READ, AT_ONCE, progress, deeper(cut_of(section), ABOVE, BELOW))
        progress.report("fitting lines and circles", 0, 0)
        if section.kind == "elevation":
            cut = cut_of(section)
            through = slab_of(s, project_id, section, READ, AT_ONCE, progress, deeper(cut, cut.before + THROUGH, cut.behind + THROUGH))
            revision = get_project(s, project_id).network_revision
            holes = _Traces(s, project_id, section, slab, revision).openings(slab, through)
            return section.version, revision, holes, {"lines": 0, "circles": 0, "openings": len(holes)}
        found = walls.find(slab.points, Around(around.points, around.station, around.stands), standing)
        steel: list[tuple[Profiled, set[int]]] = []
        if section.kind == "plan":
            progress.report("telling steel columns", 0, 0)
            sides = [(np.array(f.a), np.array(f.b)) for f in found.faces]
            steel = columns_of(slab.points[:, :2], sides, slab.stands[:, :2])
            gone = {k for _, own in steel for k in own}
            kept = [f for k, f in enumerate(found.faces) if k not in gone]
            found = replace(found, faces=kept, walls=walls.walls_of(kept) if gone else found.walls)
        stairs: list[Flight] = []
        hung: set[int] = set()
        if section.kind == "upright":
            stairs = flights(slab.points[:, :2])
            free = [f for f in found.faces if not any(x.holds(f.a, f.b) or x.along(f.a, f.b) for x in stairs)]
            found, hung = replace(found, faces=free, walls=walls.walls_of(free)), beams(free)
        elif section.kind == "ceiling":
            cut = cut_of(section)
            below = slab_of(s, project_id, section, READ, AT_ONCE, progress, deeper(cut, cut.before, ABOVE))
            under = Around(below.points, below.station, below.stands)
            hung = {k for k, f in enumerate(found.faces) if hanging(f, under)}
        revision = get_project(s, project_id).network_revision
        made = _Traces(s, project_id, section, around, revision)
        return (
            section.version,
            revision,
            made.of(found, hung) + [made.steel(x) for x, _ in steel] + [t for x in stairs for t in made.stair(x)],
            {"lines": len(found.faces) + len(found.arcs), "circles": len(found.circles), "walls": len(found.walls)},
        )

    def commit(made: tuple[int, int, list[Trace], dict[str, int]]) -> dict[str, Any]:
        version, revision, found, counts = made
        with journal.change(project_id, "", topic="sections") as c:
            section = owned(c.s, Section, project_id, section_id, "section")
            if c.project.network_revision != revision or section.version != version:
                raise Moved
            here = list(c.s.scalars(select(Trace).where(Trace.section_id == section_id)))
            for old in here:
                if old.state == "found":
                    c.remove(old)
            decided = [t for t in here if t.state != "found"]
            c.s.add_all(t for t in found if not any(alike(t, d) for d in decided))
            lines = f"{counts['lines']} lines and {counts['circles']} circles"
            c.title = f"Found {str(counts['openings']) + ' openings' if 'openings' in counts else lines} in {section.name}"
            return progress.conclude(c.s, counts)

    return settled(compute, commit, project_id)


def alike(a: Trace, b: Trace, within: float = 0.03) -> bool:
    """Whether two traces show the same thing: centre and radius within 3 cm, or half of the shorter line within 3 cm of the other."""
    if a.kind != b.kind or abs(a.radius - b.radius) > within:
        return False
    if a.kind != "line":
        return len(a.points) == len(b.points) and all(math.dist(p, q) < within for p, q in zip(a.points, b.points, strict=True))
    one, other = sorted((a, b), key=lambda t: math.dist(*t.points))
    p, q = np.array(one.points), np.array(other.points)
    along = (q[1] - q[0]) / max(math.dist(q[0], q[1]), 1e-9)
    t, off = (p - q[0]) @ along, (p - q[0]) @ np.array([-along[1], along[0]])
    common = min(t.max(), math.dist(q[0], q[1])) - max(t.min(), 0.0)
    return bool(np.abs(off).max() < within and common > 0.5 * float(np.ptp(t)))


class _Traces:
    """Makes traces of what was found, that nobody has said yes to."""

    def __init__(self, s: Session, project_id: str, section: Section, slab: Slab, revision: int) -> None:
        self.section, self.slab = section, slab
        self.own = {"project_id": project_id, "section_id": section.id, "state": "found"}
        self.since = {"made_from": revision, "deletions": cleaning_of(s, project_id, section)}
        self.known = {x["name"] for x in layers_of(get_project(s, project_id))}
        solved = solution_of(s, project_id)["stations"]
        self.expected = [solved.get(x.id, {}).get("expected") for x in slab.stations]
        self.T_part_section = matrix(section.T_part_base) @ frames.inverse(cut_of(section).T_section_base)

    def of(self, found: walls.Found, hung: set[int]) -> list[Trace]:
        columns = walls.columns(found.faces)
        thick = {k: w for w in found.walls for k in (w.one, w.other)}
        out = []
        for k, f in enumerate(found.faces):
            layer = "beam" if k in hung else "column" if k in columns else self._layer(f)
            note = self._note(f.rms, f.points, f.length, f.seen, f.bridged) | self._lean(f)
            note |= {"error_mm": 1000 * math.hypot(f.error, self._network(f)), "corners": list(f.ends), "side": f.side}
            note["pieces"] = [[list(p) for p in piece] for piece in f.pieces]
            note["stations"] = [self.slab.stations[j].name for j in f.stations][:12]
            if k in thick:
                w = thick[k]
                note |= {"thickness_mm": 1000 * w.thickness, "thickness_error_mm": 1000 * w.error}
            out.append(
                Trace(**self.own, kind="line", layer=self._known(layer), points=[list(f.a), list(f.b)], radius=0.0, shape={}, fit=note)
            )
        for a in found.arcs:
            note = self._note(a.rms, a.points, a.radius * ((a.end - a.start) % math.tau), a.seen, a.bridged)
            shape = {"start": a.start, "end": a.end}
            out.append(
                Trace(**self.own, kind="arc", layer=self._known("wall"), points=[list(a.centre)], radius=a.radius, shape=shape, fit=note)
            )
        for c in found.circles:
            out.append(self._circle(c))
        return out

    def steel(self, f: Profiled) -> Trace:
        """A column of rolled steel, its section's outline."""
        corners = f.corners
        long = float(np.linalg.norm(corners - np.roll(corners, 1, axis=0), axis=1).sum())
        note = self._note(f.rms, f.points, long, f.seen * long, (1 - f.seen) * long) | {"section": f.profile.name}
        points = [[float(x), float(y)] for x, y in corners]
        layer = self._known("column")
        return Trace(**self.own, kind="polyline", layer=layer, points=points, radius=0.0, shape={"closed": True}, fit=note)

    def stair(self, f: Flight) -> list[Trace]:
        """A flight as one outline; of open treads each as a line."""
        layer = self._known("stair")
        same = {"rise_mm": 1000 * f.rise, "going_mm": 1000 * f.going, "uneven_mm": 1000 * f.uneven, "treads": len(f.treads)}
        points = sum(t.points for t in f.treads)
        rms = math.sqrt(sum(t.points * t.rms**2 for t in f.treads) / max(points, 1))
        if f.closed:
            corners = [[float(x), float(y)] for x, y in f.outline]
            long = sum(math.dist(a, b) for a, b in zip(corners, corners[1:], strict=False))
            seen = min(sum(t.seen + t.riser for t in f.treads), long)
            note = self._note(rms, points, long, seen, long - seen) | same
            return [Trace(**self.own, kind="polyline", layer=layer, points=corners, radius=0.0, shape={}, fit=note)]
        out = []
        for t in f.treads:
            long = abs(t.x1 - t.x)
            note = self._note(t.rms, t.points, long, min(t.seen, long), max(long - t.seen, 0.0)) | same
            out.append(Trace(**self.own, kind="line", layer=layer, points=[[t.x, t.z], [t.x1, t.z]], radius=0.0, shape={}, fit=note))
        return out

    def openings(self, slab: Slab, through: Slab) -> list[Trace]:
        """The doors, windows and gaps of the surface that an elevation shows."""
        at = facade(slab.points)
        found = None if at is None else openings(Around(through.points, through.station, through.stands), at)
        out = []
        for o in found[1] if found else []:
            (x0, y0), (x1, y1) = o.low, o.high
            note: dict[str, Any] = {
                "rms_mm": 1000 * o.error,
                "error_mm": 1000 * o.error,
                "length": 2 * (x1 - x0 + y1 - y0),
                "width_mm": 1000 * (x1 - x0),
                "height_mm": 1000 * (y1 - y0),
                "through": o.through,
                "points": 0,
                **self.since,
            }
            unseen = sum(h * long for h, long in zip(o.hidden, (y1 - y0, x1 - x0) * 2, strict=True))
            note |= {"bridged": unseen, "seen": note["length"] - unseen, "hidden": [w for w, h in zip(SIDES, o.hidden, strict=True) if h]}
            corners = [[x0, y0], [x1, y0], [x1, y1], [x0, y1]]
            own: dict[str, Any] = {"points": corners, "radius": 0.0, "shape": {"closed": True}, "fit": note}
            out.append(Trace(**self.own, kind="polyline", layer=self._known("opening"), **own))
        return out

    def _known(self, layer: str) -> str:
        return layer if layer in self.known or layer == TO_CHECK else TO_CHECK

    def _note(self, rms: float, points: int, length: float, seen: float, bridged: float) -> dict[str, Any]:
        return {"rms_mm": 1000 * rms, "points": points, "length": length, "seen": seen, "bridged": bridged, **self.since}

    def _lean(self, f: Face) -> dict[str, float]:
        out: dict[str, float] = {}
        if not math.isnan(f.lean):
            out["lean_mm_m"] = f.lean
        if not math.isnan(f.tall):
            out["tall"] = f.tall
        along, across = abs(f.b[0] - f.a[0]), abs(f.b[1] - f.a[1])
        if self.section.kind not in LEVEL and (lean := min(along, across)) < 0.1 * f.length:
            out["out_of_plumb_mm" if across > along else "out_of_level_mm"] = 1000 * lean
        return out

    def _layer(self, f: Face) -> str:
        if f.rms >= 0.006:
            return TO_CHECK
        if self.section.kind in LEVEL:
            return "furniture" if f.tall < 0.5 else "wall"
        along, across = abs(f.b[0] - f.a[0]), abs(f.b[1] - f.a[1])
        if along < 0.1 * f.length:
            return "wall"
        if across < 0.1 * f.length:
            up = f.side * (1 if f.b[0] > f.a[0] else -1)
            return "ceiling" if up < 0 else "floor"
        return "steel"

    def _network(self, f: Face) -> float:
        """One deviation of where the network holds the middle of a face, across it, metres: of the instrument that saw most of it."""
        expected = self.expected[f.stations[0]] if f.stations else None
        if expected is None:
            return 0.0
        station = self.slab.stations[f.stations[0]]
        middle = (np.array(f.a) + f.b) / 2
        at = frames.apply(frames.inverse(matrix(station.pose)) @ self.T_part_section, np.array([[*middle, 0.0]]))[0]
        p = np.array([*at, 1.0])
        return math.sqrt(max(float(p @ np.array(expected).reshape(4, 4) @ p), 0.0) / 3) / 1000

    def _circle(self, c: Circle) -> Trace:
        note: dict[str, Any] = {"rms_mm": 1000 * c.rms, "points": c.points, "share": c.share, **self.since}
        if (nominal := standard_of(c)) is not None:
            note["nominal_mm"] = 1000 * nominal
        stands = self.section.kind != "plan" or reaches_up(c, self.slab.points)
        layer = self._known("pipe" if c.share > 0.35 and stands else TO_CHECK)
        return Trace(**self.own, kind="circle", layer=layer, points=[list(c.centre)], radius=c.radius, shape={}, fit=note)


def accept(
    project_id: str, section_id: str, most_rms_mm: float | None = None, least_seen: float | None = None, layers: list[str] | None = None
) -> int:
    """Accept the found traces of a section that a rule takes: residual at most so many millimetres, at least such a share of the length
    seen, on some layers; as one change. Returns how many."""
    with journal.change(project_id, "", topic="sections") as c:
        section = owned(c.s, Section, project_id, section_id, "section")
        rows = list(c.s.scalars(select(Trace).where(Trace.section_id == section_id, Trace.state == "found")))
        taken = [t for t in rows if _taken(t, most_rms_mm, least_seen, layers)]
        for row in taken:
            row.state = "accepted"
        c.title = f"Accepted {len(taken)} of {len(rows)} found lines and circles of {section.name}"
        return len(taken)


def _taken(t: Trace, most_rms_mm: float | None, least_seen: float | None, layers: list[str] | None) -> bool:
    long = float(t.fit.get("length") or 0.0)
    share = float(t.fit.get("seen", long)) / long if long > 0 else float(t.fit.get("share", 1.0))
    return (
        (most_rms_mm is None or float(t.fit.get("rms_mm", math.inf)) <= most_rms_mm)
        and (least_seen is None or share >= least_seen)
        and (layers is None or t.layer in layers)
    )


def regularise(project_id: str, section_id: str, limit_mm: float, ids: list[str] | None = None) -> dict[str, float]:
    """Turn lines of a section to the main directions and close their corners, where no end moves by more than the limit (mm). Returns how
    many moved, and the largest movement (mm); each line keeps its own."""
    if not 0 < limit_mm <= 200:
        raise BadInput("lines may be moved by 0.1 to 200 mm", subject="limit", remedy="give another limit")
    with journal.change(project_id, "", topic="sections") as c:
        section = owned(c.s, Section, project_id, section_id, "section")
        q = select(Trace).where(Trace.section_id == section_id, Trace.kind == "line", Trace.state != "rejected").order_by(Trace.id)
        shut = locked_of(c.project)
        rows = [t for t in c.s.scalars(q) if (ids is None or t.id in ids) and t.layer.casefold() not in shut]
        faces = [_face(t) for t in rows]
        new, most = walls.regularised(faces, limit_mm / 1000)
        moved = 0
        for t, old, f in zip(rows, faces, new, strict=True):
            by = max(math.dist(old.a, f.a), math.dist(old.b, f.b))
            if by > 1e-6:
                moved += 1
                t.points, t.fit = [list(f.a), list(f.b)], {**t.fit, "length": f.length, "moved_mm": 1000 * by, "corners": list(f.ends)}
        c.title = f"Laid {moved} lines of {section.name} parallel and square, the farthest by {1000 * most:.1f} mm"
        return {"lines": moved, "most_mm": 1000 * most}


def _face(t: Trace) -> Face:
    a, b = ((float(p[0]), float(p[1])) for p in t.points)
    rms, seen = float(t.fit.get("rms_mm", 0.0)) / 1000, float(t.fit.get("seen", math.dist(a, b)))
    return Face(a, b, rms, int(t.fit.get("points", 0)), int(t.fit.get("side", 0)), seen, 0.0, 0.0)


def refit(project_id: str, trace_id: str, version: int, beside: float = 0.03) -> dict[str, Any]:
    """Fit a drawn line, polyline, arc or circle to the points within ``beside`` metres of it. Returns its residual and how far it moved."""

    def compute(s: Session) -> tuple[Any, dict[str, Any]]:
        t = owned(s, Trace, project_id, trace_id, "trace")
        section = owned(s, Section, project_id, t.section_id, "section")
        slab = slab_of(s, project_id, section, READ)
        shape, note = refitted(shape_of(t), slab.points[:, :2], beside)
        return shape, note | {"made_from": get_project(s, project_id).network_revision, "deletions": cleaning_of(s, project_id, section)}

    def commit(made: tuple[Any, dict[str, Any]]) -> dict[str, Any]:
        return _fitted(project_id, trace_id, version, *made, "Fitted")

    return settled(compute, commit, project_id)


def refine(project_id: str, trace_id: str, version: int, width: float) -> dict[str, Any]:
    """Lay a line along a painted stripe or joint on the middle of what differs in intensity beneath it, and take the heights from the points.
    width: about how wide the stripe is, metres."""

    def compute(s: Session) -> tuple[Any, dict[str, Any]]:
        t = owned(s, Trace, project_id, trace_id, "trace")
        slab = slab_of(s, project_id, owned(s, Section, project_id, t.section_id, "section"), READ)
        return centre_line(shape_of(t), slab.points, slab.intensity, width)

    def commit(made: tuple[Any, dict[str, Any]]) -> dict[str, Any]:
        return _fitted(project_id, trace_id, version, *made, "Laid on its stripe")

    return settled(compute, commit, project_id)


def _fitted(project_id: str, trace_id: str, version: int, shape: Any, note: dict[str, Any], done: str) -> dict[str, Any]:
    with journal.change(project_id, "", topic="sections") as c:
        t = owned(c.s, Trace, project_id, trace_id, "trace")
        journal.checked_version(t, version, f"this {t.kind}")
        open_layer(c.project, t.layer)
        t.points, t.radius, t.shape = [list(p) for p in shape.points], shape.radius, shape.more
        t.fit = {k: v for k, v in t.fit.items() if k not in ("moved", "moved_mm", "corners")} | note
        c.title = f"{done}: a {t.kind}, which moved by {note['moved_mm']:.1f} mm"
        return note
