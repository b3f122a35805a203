"""Deliveries: clouds, drawing and report, each made from one state and kept with its checksum."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.clean.select import Box
from ...core.errors import BadInput, NotFound
from ...formats import dxf, e57, las, pdf
from ...store.db import notify, session, store_file
from ...store.models import Delivery, Journal, Station
from ...store.queue import enqueue
from ...store.tiles import deleted_mask, read_station
from ..clean.edits import active_box
from ..common import Array, Progress, active_frame, clean_name, get_project, matrix, stations_of
from ..draw.sections import entities
from ..prove.report import build

KINDS = {"e57": "Cloud, E57", "laz": "Cloud, LAZ", "dxf": "Drawing, DXF", "pdf": "Registration report, PDF"}


def latest_entry(s: Session, project_id: str) -> int:
    """The journal's last entry: what is made now belongs to it, what was made before an entry is older."""
    return s.scalar(select(func.max(Journal.id)).where(Journal.project_id == project_id)) or 0


def start(project_id: str, kind: str, params: dict[str, Any]) -> str:
    if kind not in KINDS:
        raise BadInput(f"unknown delivery {kind!r}", subject="kind", remedy=f"use one of {', '.join(KINDS)}")
    with session() as s:
        project = get_project(s, project_id)
        if (
            kind in ("e57", "laz")
            and not any(x.pose is not None for x in stations_of(s, project_id))
            and len(stations_of(s, project_id)) != 1
        ):
            raise BadInput("no station is placed yet", subject=project.name, remedy="tie the stations first")
        return enqueue(s, project_id, "deliver", f"Making {KINDS[kind]}", what=kind, **params).id


def _living(station: Station, T_frame_station: Array, T_project_station: Array, box: Box | None) -> tuple[Any, Array]:
    """(Scan without deleted and cropped points, their coordinates in the frame)."""
    with session() as s:
        scan = read_station(s, station)
        keep = ~deleted_mask(s, station)
    if box is not None:
        keep &= box.inside(frames.apply(T_project_station, scan.xyz))
    scan = scan.take(keep)
    return scan, frames.apply(T_frame_station, scan.xyz)


def make(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Make one delivery and keep it. Nothing stays when it fails or is cancelled."""
    kind = params["what"]
    with session() as s:
        project = get_project(s, project_id)
        frame_id, frame_name, T_frame_project = active_frame(s, project)
        all_stations = stations_of(s, project_id)
        stations = [x for x in all_stations if x.pose is not None] or all_stations[:1]
        box = active_box(s, project_id) if params.get("crop", True) else None
        state = latest_entry(s, project_id)
        report = build(s, project_id) if kind == "pdf" else None
        drawn = entities(s, project_id, params.get("sections"), params.get("coordinates") == "section") if kind == "dxf" else []
    base = clean_name(project.name, "project").replace(" ", "-")
    suffix = "-report" if kind == "pdf" else "-drawing" if kind == "dxf" else ""
    name = f"{base}{suffix}.{kind}"
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"out.{kind}"
        points = 0

        def clouds() -> Iterator[tuple[Station, Any, Array, Array]]:
            for k, station in enumerate(stations):
                progress.check()
                progress.report(f"writing {station.name}", k, len(stations))
                pose = matrix(station.pose)
                scan, xyz = _living(station, T_frame_project @ pose, pose, box)
                yield station, scan, xyz, T_frame_project @ pose

        if kind == "e57":

            def outgoing() -> Iterator[e57.Outgoing]:
                nonlocal points
                for station, scan, _, pose in clouds():
                    points += len(scan)
                    if len(scan):
                        yield e57.Outgoing(station.name, scan, pose)

            e57.write(path, outgoing())
        elif kind == "laz":
            offset = T_frame_project[:3, 3]
            points = las.write(path, ((k + 1, xyz, scan.intensity, scan.rgb) for k, (_, scan, xyz, _) in enumerate(clouds())), offset)
        elif kind == "dxf":
            if not any(e.kind != "text" for e in drawn):
                raise BadInput(
                    "there is nothing drawn yet", subject=project.name, remedy="cut a section and fit or draw lines", code="nothing_drawn"
                )
            dxf.write(path, drawn, params.get("unit", "m"), project.name)
        else:
            assert report is not None
            pdf.write(path, report)
        progress.check()
        with session() as s:
            row = Delivery(
                project_id=project_id,
                kind=kind,
                name=name,
                journal_at=state,
                params={
                    **{k: v for k, v in params.items() if k != "what"},
                    "frame": frame_name,
                    "frame_id": frame_id,
                    "points": points,
                    "cropped": box is not None,
                },
            )
            s.add(row)
            s.flush()
            delivery_id = row.id
            row_size, row_sha = store_file(s, delivery_id, path)
            row = s.get_one(Delivery, delivery_id)
            row.size, row.sha256 = row_size, row_sha
            notify(s, project_id, "deliveries")
    return {"delivery": delivery_id, "name": name, "size": row_size, "points": points}


def list_deliveries(project_id: str) -> list[dict[str, Any]]:
    """All deliveries, the newest first; ``outdated`` when the project changed since."""
    with session() as s:
        get_project(s, project_id)
        latest = latest_entry(s, project_id)
        rows = s.scalars(select(Delivery).where(Delivery.project_id == project_id).order_by(Delivery.created_at.desc()))
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
            }
            for r in rows
        ]


def get_delivery(project_id: str, delivery_id: str) -> Delivery:
    with session() as s:
        row = s.get(Delivery, delivery_id)
        if row is None or row.project_id != project_id:
            raise NotFound("this delivery does not exist", subject=delivery_id, remedy="reload the page")
        return row
