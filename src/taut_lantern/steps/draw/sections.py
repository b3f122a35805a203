"""Cut, fit, trace: sections of the placed cloud and the drawing over them."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.draw.fit import find_circles, find_lines
from ...core.draw.section import box_meets, plan, slab, upright
from ...core.errors import BadInput
from ...site.common import Array, Moved, Progress, clean_name, finite, get_project, heavy, matrix, owned, settled, stations_of
from ...site.drawing import cut_of
from ...site.frames import in_use
from ...site.parts import stations_in, wanted
from ...site.visible import clip_of
from ...store import journal
from ...store.db import session, snapshot
from ...store.marks import deleted_mask
from ...store.models import Job, Section, Trace
from ...store.queue import LIVE, enqueue
from ...store.tiles import read_tiles, tiles_of

LAYERS = ("wall", "floor", "pipe", "steel", "ground", "to check")


def make_section(project_id: str, kind: str, params: dict[str, Any], name: str = "", part_id: str | None = None) -> str:
    """kind plan: height; kind upright: a, b plan picks; both: before, behind. Frame of the part, metres."""
    depth = finite([params.get("before", 0.0), params.get("behind", 0.05)], 2, "the depth")
    if kind == "plan":
        kept: dict[str, Any] = {"height": finite([params.get("height", math.nan)], 1, "the height")[0]}
        plan(kept["height"], *depth)
    elif kind == "upright":
        kept = {"a": finite(params.get("a") or [], 2, "the first pick"), "b": finite(params.get("b") or [], 2, "the second pick")}
        upright((kept["a"][0], kept["a"][1]), (kept["b"][0], kept["b"][1]), *depth)
    else:
        raise BadInput(f"unknown kind of section {kind!r}", subject="kind", remedy="use plan or upright")
    with journal.change(project_id, "", topic="sections") as c:
        count = c.s.scalar(select(func.count(Section.id)).where(Section.project_id == project_id, Section.kind == kind)) or 0
        frame = in_use(c.s, c.project, part_id)  # a height is said in the coordinates and the unit that are in use
        height = float((frame.T_frame_part @ [0.0, 0.0, kept.get("height", 0.0), 1.0])[2]) / frames.METRE_PER_UNIT[frame.unit]
        shown = f"{height:+.0f}" if frame.unit == "mm" else f"{height:+.2f}"
        label = clean_name(name, f"Plan {shown}" if kind == "plan" else f"Section {chr(65 + count % 26)}")
        own = {"project_id": project_id, "part_id": frame.part}
        row = Section(**own, name=label, kind=kind, params={**kept, "before": depth[0], "behind": depth[1]})
        c.s.add(row)
        c.title = f"Cut {label}"
        c.s.flush()
        return row.id


def delete_section(project_id: str, section_id: str, version: int | None = None) -> None:
    with journal.change(project_id, "", topic="sections") as c:
        row = owned(c.s, Section, project_id, section_id, "section")
        journal.checked_version(row, version, f"the section {row.name}")
        row.deleted = True
        c.title = f"Deleted {row.name}"


def floor_height(project_id: str, part_id: str | None = None) -> float:
    """Height of the main floor of a part (its z, metres): the strongest peak of coarse points below the lowest instrument."""
    with session() as s:
        stations = stations_in(stations_of(s, project_id), wanted(s, get_project(s, project_id), part_id))
        heights = [frames.apply(matrix(x.pose), t.xyz)[:, 2] for x in stations for t in read_tiles(station_id=x.id, most_level=1, kinds=())]
        lowest = min((float(matrix(x.pose)[2, 3]) for x in stations), default=0.0)
    if not heights:
        raise BadInput("there are no stations to cut", subject="section", remedy="bring in a scan first")
    z = np.concatenate(heights) - lowest
    z = z[(z > -60) & (z < 60)]
    count, edge = np.histogram(z, bins=1200, range=(-60, 60))
    below = count * (edge[:-1] < 0)
    return lowest + float(edge[int(np.argmax(below if below.any() else count))] + 0.05)


AT_ONCE = 20_000_000  # points read for a picture in a request; a larger slab is shown from its coarser levels


def slab_points(
    s: Session, project_id: str, section: Section, most: int = 600_000, reads: int = AT_ONCE, progress: Progress = Progress()
) -> tuple[Array, np.ndarray, dict[str, int]]:
    """(points (n, 3) section frame, colours (n, 4) uint8 rgb + intensity, counts). Reads only tiles the slab meets, coarse
    levels first, until ``reads`` points."""
    cut, box = cut_of(section), clip_of(s, project_id, section.part_id)
    T_base_part = frames.inverse(matrix(section.T_part_base))
    parts, colours = [], []
    placed = stations_in(stations_of(s, project_id), section.part_id)
    rows = {x.id: tiles_of(s, [x.id]) for x in placed}
    pose = {x.id: T_base_part @ matrix(x.pose) for x in placed}
    met = {x.id: [r for r in rows[x.id] if box_meets(cut, pose[x.id], np.array(r.low), np.array(r.high))] for x in placed}
    levels: dict[int, int] = {}
    for r in (r for found in met.values() for r in found):
        levels[r.level] = levels.get(r.level, 0) + r.count
    deepest, held = -1, 0
    for level in sorted(levels):
        held += levels[level]
        if held > reads and deepest >= 0:
            break
        deepest = level
    read = 0
    for k, station in enumerate(placed):
        progress.report(f"cutting {station.name}", k, len(placed))
        progress.check()
        ids = [r.id for r in met[station.id] if r.level <= deepest]
        read += len(ids)
        dead = deleted_mask(s, station) if ids else None
        for tile in read_tiles(ids):
            p, inside = slab(cut, frames.apply(pose[station.id], tile.xyz))
            if dead is not None:
                inside &= ~dead[tile.first : tile.first + len(p)]
            if box is not None and inside.any():
                inside &= box.inside(frames.apply(matrix(station.pose), tile.xyz))
            parts.append(p[inside])
            colours.append(np.concatenate([tile.rgb[inside], (tile.intensity[inside] >> 8).astype(np.uint8)[:, None]], axis=1))
    points = np.concatenate(parts) if parts else np.zeros((0, 3))
    colour = np.concatenate(colours) if colours else np.zeros((0, 4), np.uint8)
    counts = {"points": len(points), "tiles_read": read, "tiles": sum(len(x) for x in rows.values())}
    if len(points) > most:
        keep = np.random.default_rng(1).permutation(len(points))[:most]
        points, colour = points[keep], colour[keep]
    return points, colour, counts


def slab_bytes(project_id: str, section_id: str) -> tuple[bytes, dict[str, int]]:
    """A slab for a picture: 12 bytes a point, float32 along and across of all points, then rgb and intensity of all."""
    with heavy(), snapshot() as s:
        section = owned(s, Section, project_id, section_id, "section")
        points, colour, counts = slab_points(s, project_id, section)
    return np.ascontiguousarray(points[:, :2].astype(np.float32)).tobytes() + colour.tobytes(), counts


def start_fit(project_id: str, section_id: str) -> str:
    """Find lines and circles in the background; asking again while that is under way gives the same job."""
    with session() as s:
        journal.locked_project(s, project_id)
        section = owned(s, Section, project_id, section_id, "section")
        q = select(Job.id).where(Job.project_id == project_id, Job.kind == "fit", Job.state.in_(LIVE))
        if (running := s.scalar(q.where(Job.params["section_id"].astext == section_id).limit(1))) is not None:
            return running
        return enqueue(s, project_id, "fit", f"Finding lines in {section.name}", section_id=section_id).id


def fit_job(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Find lines and circles in the slab. What was accepted, drawn or rejected stays, and is not found again; earlier
    findings go."""
    section_id = params["section_id"]

    def compute(s: Session) -> tuple[int, int, list[Trace], dict[str, int]]:
        section = owned(s, Section, project_id, section_id, "section")
        points, _, _ = slab_points(s, project_id, section, 3_000_000, 10 * AT_ONCE, progress)
        if len(points) < 50:
            raise BadInput(
                f"{section.name} holds {len(points)} points",
                subject=section.name,
                remedy="make it deeper, or cut elsewhere",
                code="empty_section",
            )
        progress.report("fitting lines and circles", 0, 0)
        revision = get_project(s, project_id).network_revision
        return section.version, revision, *_found(project_id, section, points, revision)

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
            c.s.add_all(t for t in found if not any(_alike(t, d) for d in decided))
            c.title = f"Found {counts['lines']} lines and {counts['circles']} circles in {section.name}"
            return progress.conclude(c.s, counts)

    return settled(compute, commit, project_id)


def _alike(a: Trace, b: Trace, within: float = 0.03) -> bool:
    """Whether two traces show the same thing: ends, or centre and radius, within 3 cm."""
    if a.kind != b.kind or len(a.points) != len(b.points):
        return False
    ways = (b.points, b.points[::-1])
    return abs(a.radius - b.radius) < within and any(
        all(math.dist(p, q) < within for p, q in zip(a.points, way, strict=True)) for way in ways
    )


def _found(project_id: str, section: Section, points: Array, made_from: int) -> tuple[list[Trace], dict[str, int]]:
    """Lines and circles of a slab as traces that nobody has said yes to."""
    circles = find_circles(points)
    flat = points[:, :2]
    for k in circles:  # what a circle explains is not offered as short lines again
        flat = flat[np.abs(np.hypot(flat[:, 0] - k.centre[0], flat[:, 1] - k.centre[1]) - k.radius) > 0.015]
    lines = find_lines(flat)
    own = {"project_id": project_id, "section_id": section.id}
    out = []
    for line in lines:
        along, across = line.b[0] - line.a[0], line.b[1] - line.a[1]
        length = math.hypot(along, across)
        note: dict[str, Any] = {"rms_mm": 1000 * line.rms, "points": line.points, "length": length, "made_from": made_from}
        layer = "wall"
        if section.kind == "upright":
            lean = abs(along) if abs(across) > abs(along) else abs(across)
            if lean < 0.1 * length:
                note["out_of_plumb_mm" if abs(across) > abs(along) else "out_of_level_mm"] = 1000 * lean
            layer = "wall" if abs(along) < 0.1 * length else "floor" if abs(across) < 0.1 * length else "steel"
        layer = layer if line.rms < 0.006 else "to check"
        out.append(Trace(**own, kind="line", layer=layer, points=[list(line.a), list(line.b)], radius=0.0, state="found", fit=note))
    for k in circles:
        note = {"rms_mm": 1000 * k.rms, "points": k.points, "share": k.share, "made_from": made_from}
        layer = "pipe" if k.share > 0.35 else "to check"
        out.append(Trace(**own, kind="circle", layer=layer, points=[list(k.centre)], radius=k.radius, state="found", fit=note))
    return out, {"lines": len(lines), "circles": len(circles)}


def draw_trace(project_id: str, section_id: str, kind: str, layer: str, points: list[list[float]], radius: float = 0.0) -> str:
    """Keep a hand-drawn line, polyline, circle or point; points in section coordinates, metres."""
    need = {"line": 2, "polyline": 2, "circle": 1, "point": 1}
    if kind not in need:
        raise BadInput(f"unknown kind of trace {kind!r}", subject="kind", remedy=f"use one of {', '.join(need)}")
    if len(points) < need[kind] or (kind == "circle" and not 0 < radius < 1e4):
        raise BadInput(
            f"a {kind} needs {need[kind]} points" + (" and a radius" if kind == "circle" else ""), subject=kind, remedy="draw it again"
        )
    kept = [finite(p, 2, "a corner") for p in points[:2000]]
    with journal.change(project_id, f"Drew a {kind}", topic="sections") as c:
        owned(c.s, Section, project_id, section_id, "section")
        row = Trace(
            project_id=project_id,
            section_id=section_id,
            kind=kind,
            layer=clean_name(layer, "wall"),
            points=kept,
            radius=radius,
            state="drawn",
            fit={"length": sum(math.dist(a, b) for a, b in zip(kept, kept[1:], strict=False))},
        )
        c.s.add(row)
        c.s.flush()
        return row.id


def change_trace(project_id: str, trace_id: str, version: int | None, state: str | None, layer: str | None) -> None:
    """state: accepted | found | rejected (rejected is no longer shown, and not found again)."""
    with journal.change(project_id, "Changed a trace", topic="sections") as c:
        row = owned(c.s, Trace, project_id, trace_id, "trace")
        journal.checked_version(row, version, f"this {row.kind}")
        if layer is not None:
            row.layer = clean_name(layer, row.layer)
            c.title = f"Moved a {row.kind} to the layer {row.layer}"
        if state == "rejected":
            row.state = "rejected"
            c.title = f"Rejected a {row.kind}"
        elif state in ("accepted", "found"):
            row.state = state
            c.title = f"Accepted a {row.kind}"
        elif state is not None:
            raise BadInput(f"unknown state {state!r}", subject="state", remedy="use accepted, found or rejected")


def accept_all(project_id: str, section_id: str) -> int:
    """Accept every found trace of a section, as one change."""
    with journal.change(project_id, "", topic="sections") as c:
        section = owned(c.s, Section, project_id, section_id, "section")
        rows = list(c.s.scalars(select(Trace).where(Trace.section_id == section_id, Trace.state == "found")))
        for row in rows:
            row.state = "accepted"
        c.title = f"Accepted {len(rows)} found lines and circles of {section.name}"
        return len(rows)


def list_sections(s: Session, project_id: str) -> list[dict[str, Any]]:
    revision = get_project(s, project_id).network_revision
    rows = s.scalars(select(Section).where(Section.project_id == project_id).order_by(Section.kind, Section.name)).all()
    shown = select(Trace).where(Trace.project_id == project_id, Trace.state != "rejected")
    traces = s.scalars(shown.order_by(Trace.layer, Trace.id)).all()
    return [
        {
            "id": r.id,
            "version": r.version,
            "name": r.name,
            "kind": r.kind,
            "params": r.params,
            "part": r.part_id,
            "T_section_part": (cut_of(r).T_section_base @ frames.inverse(matrix(r.T_part_base))).ravel().tolist(),
            "traces": [
                {
                    "id": t.id,
                    "version": t.version,
                    "kind": t.kind,
                    "layer": t.layer,
                    "points": t.points,
                    "radius": t.radius,
                    "state": t.state,
                    "fit": t.fit,
                    "old": t.fit.get("made_from", revision) != revision,
                }
                for t in traces
                if t.section_id == r.id
            ],
        }
        for r in rows
    ]
