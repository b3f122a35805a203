"""Deliveries: clouds, drawing and report, each made from one state and kept with its checksum."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select

from ...core import frames
from ...core.clean.even import Even
from ...core.clean.select import Clip
from ...core.errors import BadInput, NotFound
from ...core.scan.scan import Scan
from ...formats import e57, html, las, pdf
from ...formats.report import Report
from ...site.common import Array, Progress, content_of, file_name, get_project, matrix, owned, state_of, stations_of
from ...site.density import evened
from ...site.frames import Currency, InUse, in_use
from ...site.parts import stations_in, wanted
from ...site.report import build
from ...site.visible import clip_of
from ...store import bin, journal, scratch
from ...store.db import notify, session, snapshot, store_file
from ...store.marks import Marks, class_marks, classes_from, marks_of, mask_of, points_of_zones, read_set, zones_of
from ...store.models import Delivery, Job, Journal, Station, new_id
from ...store.queue import enqueue
from ...store.tiles import read_station
from . import drawn

KINDS = {
    "e57": "Cloud, E57",
    "laz": "Cloud, LAZ",
    **drawn.KINDS,
    "pdf": "Registration report, PDF",
    "html": "Registration report, HTML",
}
REPORTS = {"pdf": pdf.write, "html": html.write}


def start(project_id: str, kind: str, params: dict[str, Any]) -> str:
    """Make a delivery in the background; asking for the same again while that is under way gives the same job."""
    if kind not in KINDS:
        raise BadInput(f"unknown delivery {kind!r}", subject="kind", remedy=f"use one of {', '.join(KINDS)}")
    with session() as s:
        project = journal.locked_project(s, project_id)
        stations = stations_of(s, project_id)
        part = wanted(s, project, params.get("part"))
        if kind in ("e57", "laz") and not (params.get("part") and part) and len(stations_in(stations, part)) < min(2, len(stations)):
            raise BadInput("no station is tied yet", subject=project.name, remedy="tie the stations first")
        if kind in ("e57", "laz") and not stations:
            raise BadInput("there are no stations yet", subject=project.name, remedy="bring in a scan first")
        same = {"what": kind, **params}
        q = select(Job.id).where(Job.project_id == project_id, Job.kind == "deliver", Job.state == "waiting", Job.params == same)
        if (running := s.scalar(q.limit(1))) is not None:
            return running
        return enqueue(s, project_id, "deliver", f"Making {KINDS[kind]}", **same).id


@dataclass(frozen=True)
class State:
    """All that a delivery shows, of one part in one state of the project: poses, marks, frame, box, drawing and report. Points are
    never rewritten, so they may be read afterwards."""

    entry: int
    project: str
    frame: InUse
    old: str  # why the frame is out of date, or ""
    stations: list[tuple[Station, Marks]]
    box: Clip | None
    chosen: dict[str, NDArray[np.int64]] | None  # by station the points of the zones that were asked for; None: all
    thinned: dict[str, NDArray[np.int64]]  # by station what is left out at the one spacing that is seen
    spacing: float | None  # of that
    apart: list[tuple[str, dict[str, NDArray[np.int64]]]]  # zones that are clouds of their own: name, and points by station
    classes: dict[str, list[tuple[int, int, bytes]]]  # by station what edits say of them
    report: Report | None


def state_for(project_id: str, kind: str, params: dict[str, Any]) -> State:
    """Read in one snapshot."""
    with snapshot() as s:
        project = get_project(s, project_id)
        frame = in_use(s, project, params.get("part"))
        placed = stations_in(stations_of(s, project_id), frame.part)
        zones = zones_of(s, project_id) if kind in ("e57", "laz") else []
        even = next((z for z in zones if z.kind == "even" and not z.shown and z.detail["part"] == frame.part), None)
        if params.get("even") is not None:
            even = None  # another one was asked for
        return State(
            state_of(s, project_id),
            project.name,
            frame,
            Currency(s, project_id).why_old(frame.row) if frame.row is not None else "",
            [(x, marks_of(s, x.id)) for x in placed] if kind in ("e57", "laz") else [],
            clip_of(s, project_id, frame.part) if params.get("crop", True) else None,
            points_of_zones(s, project_id, params["zones"]) if params.get("zones") else None,
            read_set(s, even.points) if even else {},
            float(even.detail["spacing"]) if even else None,
            [(z.name, read_set(s, z.points)) for z in zones if z.apart] if kind == "e57" else [],
            {x.id: class_marks(s, x.id) for x in placed} if kind == "laz" else {},
            build(s, project_id, frame.part) if kind in REPORTS else None,
        )


def _living(state: State, k: int) -> tuple[Scan, NDArray[np.int64]]:
    """The Scan of a station without deleted and cropped points and those of zones that were not asked for, and the points' numbers."""
    station, marks = state.stations[k]
    with session() as s:
        scan = read_station(s, station)
    keep = ~mask_of(marks, station.points)
    if state.box is not None:
        keep &= state.box.inside(frames.apply(matrix(station.pose), scan.xyz))
    if state.chosen is not None:
        own = np.zeros(station.points, bool)
        own[state.chosen.get(station.id, np.zeros(0, np.int64))] = True
        keep &= own
    keep[state.thinned.get(station.id, np.zeros(0, np.int64))] = False
    return scan.take(keep), np.nonzero(keep)[0]


def _even(state: State, spacing: float, progress: Progress) -> Even:
    """Which points stay when all stations together have one spacing: the best of each cell."""
    clouds = ((x.name, _living(state, k)[0], matrix(x.pose)) for k, (x, _) in enumerate(state.stations))
    return evened(clouds, len(state.stations), spacing, progress)


@dataclass(frozen=True)
class Cloud:
    """What goes out of a station: its scan without what is left out, the points' coordinates in the frame (n, 3), and their numbers."""

    station: int
    name: str
    scan: Scan
    at: Array
    pose: Array
    index: NDArray[np.int64]


def _clouds(state: State, spacing: float | None, progress: Progress) -> Iterator[Cloud]:
    """Cloud by cloud, without deleted and cropped points; points of zones that are apart in clouds of their own. spacing: metres, of all
    stations together; None: as they were scanned."""
    T_frame_part = state.frame.T_frame_part
    even = None if spacing is None else _even(state, spacing, progress)
    for k, (station, _) in enumerate(state.stations):
        progress.check()
        progress.report(f"writing {station.name}", k, len(state.stations))
        pose, (scan, index) = matrix(station.pose), _living(state, k)
        if even is not None:
            kept = even.kept(k)
            scan, index = scan.take(kept), index[kept]
        there = T_frame_part @ pose
        at, stretch = frames.apply(there, scan.xyz), frames.stretch(T_frame_part)
        if abs(stretch - 1) > 1e-12:  # a pose holds no scale: the scan's own points take it
            scan = replace(scan, xyz=(scan.xyz * stretch).astype(np.float32))
        left = np.ones(len(index), bool)
        for name, points in state.apart:
            own = left & np.isin(index, points.get(station.id, np.zeros(0, np.int64)), assume_unique=True)
            if own.any():
                yield Cloud(k, f"{name} ({station.name})", scan.take(own), at[own], frames.unstretched(there), index[own])
                left &= ~own
        if not left.all():
            scan, at, index = scan.take(left), at[left], index[left]
        yield Cloud(k, station.name, scan, at, frames.unstretched(there), index)


def make(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Make one delivery and keep it. Nothing stays when it fails or is cancelled."""
    kind = params["what"]
    state = state_for(project_id, kind, params)
    name = f"{file_name(state.project)}{'-report' if kind in REPORTS else ''}.{kind}"
    entry = state.entry
    with scratch.folder() as folder:
        path = folder / f"out.{kind}"
        if kind in drawn.KINDS:
            entry, title, points = drawn.write(path, project_id, kind, params, progress)
            name = f"{title}.{drawn.SUFFIX[kind]}"
        else:
            points = _write(path, kind, state, params, progress)
        progress.check()
        with session() as s:
            row = Delivery(
                id=new_id(),
                project_id=project_id,
                kind=kind,
                name=name,
                journal_at=entry,
                params={
                    **{k: v for k, v in params.items() if k != "what"},
                    "part": state.frame.part,
                    "frame": state.frame.name,
                    "frame_id": state.frame.id,
                    "frame_old": state.old,
                    "unit": unit_of(kind, params, state.frame),
                    "points": points,
                    "cropped": state.box is not None,
                    **({"even": state.spacing} if state.spacing is not None else {}),
                },
            )
            row.size, row.sha256 = store_file(s, row.id, path)
            s.add(row)
            s.flush()
            notify(s, project_id, "deliveries")
            return progress.conclude(s, {"delivery": row.id, "name": name, "size": row.size, "points": points})


def unit_of(kind: str, params: dict[str, Any], frame: InUse) -> str:
    """The unit that a delivery's numbers are in: what was asked for, else that of the frame. E57 knows metres only (E2807,
    8.4.1), and a cloud is not counted in millimetres unless somebody asks."""
    if kind == "e57":
        return "m"
    asked = params.get("unit") or frame.unit
    return "m" if kind == "laz" and asked == "mm" and not params.get("unit") else str(asked)


def _write(path: Path, kind: str, state: State, params: dict[str, Any], progress: Progress) -> int:
    """The file itself; returns how many points are in it."""
    points = 0
    if kind == "e57":

        def outgoing() -> Iterator[e57.Outgoing]:
            nonlocal points
            for c in _clouds(state, params.get("even"), progress):
                points += len(c.scan)
                if len(c.scan):
                    yield e57.Outgoing(c.name, c.scan, c.pose)

        e57.write(path, outgoing())
    elif kind == "laz":
        parts = (
            (c.station + 1, c.at, c.scan.intensity, c.scan.rgb, _classes(state, c)) for c in _clouds(state, params.get("even"), progress)
        )
        points = las.write(path, parts, state.frame.T_frame_part[:3, 3], frames.METRE_PER_UNIT[unit_of(kind, params, state.frame)])
    else:
        assert state.report is not None
        REPORTS[kind](path, state.report)
    return points


def _classes(state: State, cloud: Cloud) -> NDArray[np.uint8]:
    station = state.stations[cloud.station][0]
    return classes_from(state.classes[station.id], station.points)[cloud.index]


def list_deliveries(project_id: str) -> list[dict[str, Any]]:
    """All deliveries, the newest first; ``outdated`` when the project changed since."""
    with session() as s:
        get_project(s, project_id)
        latest = content_of(s, project_id)
        rows = s.scalars(select(Delivery).where(Delivery.project_id == project_id).order_by(Delivery.created_at.desc())).all()
        made_at = {r.journal_at for r in rows}
        titles = dict(s.execute(select(Journal.id, Journal.title).where(Journal.id.in_(made_at))).tuples().all())
        return [
            {
                "id": r.id,
                "kind": r.kind,
                "title": KINDS[r.kind],
                "name": r.name,
                "size": r.size,
                "sha256": r.sha256,
                "params": r.params,
                "created_at": r.created_at,
                "outdated": r.journal_at < latest,
                "let_go": r.let_go,
                "state": {"entry": r.journal_at, "title": titles.get(r.journal_at, "")},
            }
            for r in rows
        ]


def get_delivery(project_id: str, delivery_id: str) -> Delivery:
    """A delivery whose file is there."""
    with session() as s:
        row: Delivery = owned(s, Delivery, project_id, delivery_id, "delivery")
        if row.let_go is not None:
            raise NotFound(
                f"the file was let go of on {row.let_go['at'][:10]} by {row.let_go['by']}: {row.let_go['reason']}",
                subject=row.name,
                remedy="make it again",
                code="let_go",
            )
        return row


def let_go(project_id: str, delivery_id: str, reason: str) -> None:
    """Give up the file of a delivery; its line, its checksum and what it was made of stay."""
    with session() as s:
        row: Delivery = owned(s, Delivery, project_id, delivery_id, "delivery")
        if row.let_go is None:
            bin.let_go(s, row, reason)
            notify(s, project_id, "deliveries")
