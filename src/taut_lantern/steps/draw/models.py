"""Design models: brought in, moved and turned, laid on the cloud, and how far the cloud lies from them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from ...core import frames
from ...core.draw.model import Mesh, Tally, laid
from ...core.errors import BadInput, LanternError, NotEnough
from ...core.frames import METRE_PER_UNIT
from ...formats.model import SUFFIXES, read
from ...site import models
from ...site.common import Array, Moved, Progress, clean_name, finite, get_project, matrix, numbers, owned, settled, stations_of
from ...site.frames import in_use
from ...site.models import T_part_model, near_of
from ...site.parts import stations_in, wanted
from ...site.visible import clip_of
from ...store import journal, scratch
from ...store.db import notify, session
from ...store.marks import deleted_mask
from ...store.models import DesignModel, Job, ModelMesh, Station, new_id, now
from ...store.queue import LIVE, enqueue
from ...store.tiles import read_tiles, tiles_of

LARGEST = 128 << 20  # bytes of a file
LAID_ON = 60_000  # points that a model is laid on
TOLERANCE, REACH = (0.0005, 0.5), (0.005, 1.0)  # metres


def bring_in(project_id: str, name: str, data: bytes, unit: str | None = None, part_id: str | None = None) -> str:
    """Read a model from a file's bytes in the background; it stands where its coordinates say in those in use. unit: of its lengths; None: as
    the file says, else metres. Returns the job's id."""
    name = clean_name(name, "model")[-120:]
    if Path(name).suffix.lower() not in SUFFIXES:
        raise BadInput(
            f"{name} is no model that can be read", subject=name, remedy=f"bring it as {', '.join(x[1:].upper() for x in SUFFIXES)}"
        )
    if not data:
        raise BadInput(f"{name} is empty (0 bytes)", subject=name, remedy="save it again", code="empty_file")
    if unit is not None and unit not in METRE_PER_UNIT:
        raise BadInput(f"unknown unit {unit!r}", subject="unit", remedy=f"use one of {', '.join(METRE_PER_UNIT)}")
    with session() as s:
        project = get_project(s, project_id)
        part, model_id = wanted(s, project, part_id), new_id()
        s.add(ModelMesh(model_id=model_id, project_id=project_id, data=data))
        return enqueue(s, project_id, "model", f"Reading {name}", do="read", model=model_id, name=name, unit=unit, part=part).id


def start(project_id: str, model_id: str, do: str, reach: float, tolerance: float = 0.01) -> str:
    """Compare the cloud with a model, or lay the model on it, in the background. reach: metres from it that points are looked at; tolerance:
    metres. Asking for the same again while that is under way gives the same job."""
    for value, (low, high), what in ((reach, REACH, "reach"), (tolerance, TOLERANCE, "tolerance")):
        if not low <= value <= high:
            raise BadInput(f"the {what} has to be from {1000 * low:g} to {1000 * high:g} mm", subject=what, remedy="give another one")
    with session() as s:
        journal.locked_project(s, project_id)
        row = owned(s, DesignModel, project_id, model_id, "model")
        if not stations_in(stations_of(s, project_id), row.part_id):
            raise BadInput("there are no points to compare it with", subject=row.name, remedy="bring in a scan first")
        params = {"do": do, "model": model_id, "reach": reach, "tolerance": tolerance}
        q = select(Job.id).where(Job.project_id == project_id, Job.kind == "model", Job.state.in_(LIVE), Job.params == params)
        if (running := s.scalar(q.limit(1))) is not None:
            return running
        title = f"Comparing the cloud with {row.name}" if do == "compare" else f"Laying {row.name} on the cloud"
        return enqueue(s, project_id, "model", title, **params).id


def job(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    return {"read": _read, "compare": _compare, "lay": _lay}[params["do"]](project_id, params, progress)


def _read(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    model_id, name = params["model"], params["name"]
    with session() as s:
        data = s.scalar(select(ModelMesh.data).where(ModelMesh.model_id == model_id))
    try:
        with scratch.folder() as folder:
            path = folder / f"model{Path(name).suffix.lower()}"
            path.write_bytes(data or b"")
            progress.report(f"reading {name}", 0, 0)
            mesh, unit = read(path, name, params["unit"], lambda done, total: progress.check())
    except LanternError:
        with session() as s:
            s.execute(delete(ModelMesh).where(ModelMesh.model_id == model_id))
        raise
    progress.check()
    body, (low, high) = models.packed(mesh), mesh.box
    detail = {"file": name, "unit": unit, "faces": len(mesh.faces), "elements": len(mesh.names), "low": low.tolist(), "high": high.tolist()}
    with journal.change(project_id, "", topic="models") as c:
        frame = in_use(c.s, c.project, params["part"])
        there = frames.inverse(frames.unstretched(frame.T_frame_part))
        row = DesignModel(id=model_id, project_id=project_id, part_id=frame.part, T_base_model=numbers(there), detail=detail)
        row.name = clean_name(Path(name).stem, "model")
        c.s.add(row)
        c.s.execute(update(ModelMesh).where(ModelMesh.model_id == model_id).values(data=body))
        c.title = f"Brought in the model {row.name}"
        return progress.conclude(c.s, {"model": model_id, "name": row.name, "faces": len(mesh.faces), "elements": len(mesh.names)})


def change(
    project_id: str,
    model_id: str,
    version: int,
    name: str | None = None,
    shown: bool | None = None,
    deleted: bool | None = None,
    shift: list[float] | None = None,
    turn: float = 0.0,
) -> None:
    """shift: metres along the axes in use; turn: radians about the upright through its middle, before that."""
    with journal.change(project_id, "", topic="models") as c:
        row = owned(c.s, DesignModel, project_id, model_id, "model")
        journal.checked_version(row, version, f"the model {row.name}")
        c.title = f"Changed the model {row.name}"
        if name is not None:
            row.name = clean_name(name, row.name)[:120]
        if shown is not None:
            row.shown = shown
            c.title = f"{'Showed' if shown else 'Hid'} the model {row.name}"
        if shift is not None or turn:
            by = finite(shift or [0.0, 0.0, 0.0], 3, "a shift")
            T_frame_part = frames.unstretched(in_use(c.s, c.project, row.part_id).T_frame_part)
            there = T_frame_part @ T_part_model(row)
            middle = frames.apply(there, models.middle_of(row)[None])[0]
            about, back = frames.pose(turn, tuple(middle + by)), frames.pose(0.0, tuple(-middle))
            _stand(row, frames.inverse(T_frame_part) @ about @ back @ there)
            c.title = f"Moved the model {row.name}"
        if deleted:
            row.deleted = True
            c.title = f"Deleted the model {row.name}"


def _stand(row: DesignModel, T_part_model: Array) -> None:
    row.T_base_model = numbers(frames.orthonormal(frames.inverse(matrix(row.T_part_base)) @ T_part_model))


class _Beside:
    """The points of a part's stations near a model, tile by tile, without what is deleted or cropped."""

    def __init__(self, s: Session, project_id: str, row: DesignModel, mesh: Mesh, reach: float) -> None:
        self.s, self.row = s, row
        self.low, self.high = mesh.box[0] - reach, mesh.box[1] + reach
        self.box = clip_of(s, project_id, row.part_id)
        self.T_model_part = frames.inverse(T_part_model(row))
        self.stations = stations_in(stations_of(s, project_id), row.part_id)

    def tiles(self, station: Station) -> list[Any]:
        t = self.T_model_part @ matrix(station.pose)
        out = []
        for x in tiles_of(self.s, [station.id]):
            corners = np.array([[a, b, c] for a in (x.low[0], x.high[0]) for b in (x.low[1], x.high[1]) for c in (x.low[2], x.high[2])])
            p = frames.apply(t, corners)
            if (p.max(axis=0) >= self.low).all() and (p.min(axis=0) <= self.high).all():
                out.append(x)
        return out

    def points(self, station: Station, ids: list[int]) -> Any:
        dead, there = deleted_mask(self.s, station), matrix(station.pose)
        for tile in read_tiles(ids, kinds=()):
            in_part = frames.apply(there, tile.xyz)
            keep = ~dead[tile.first : tile.first + len(in_part)]
            if self.box is not None and keep.any():
                keep &= self.box.inside(in_part)
            p = frames.apply(self.T_model_part, in_part[keep])
            yield p[((p >= self.low) & (p <= self.high)).all(axis=1)]


def _compare(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """What is found is of the state that it was read in; whether that still stands is told with it."""

    def compute(s: Session) -> dict[str, Any]:
        row = owned(s, DesignModel, project_id, params["model"], "model")
        near = near_of(s, row)
        beside = _Beside(s, project_id, row, near.mesh, params["reach"])
        tally = Tally(near.mesh, params["tolerance"], params["reach"])
        for k, station in enumerate(beside.stations):
            progress.report(f"comparing {station.name}", k, len(beside.stations))
            for p in beside.points(station, [x.id for x in beside.tiles(station)]):
                progress.check()
                tally.add(*near.asked(p, params["reach"]))
        return {
            **tally.told,
            "of": models.of_now(s, project_id, row, get_project(s, project_id).network_revision),
            "at": now().isoformat(),
            "name": row.name,
        }

    def commit(told: dict[str, Any]) -> dict[str, Any]:
        name = told.pop("name")
        with session() as s:
            s.execute(update(ModelMesh).where(ModelMesh.model_id == params["model"]).values(compared=told))
            notify(s, project_id, "models")
            return progress.conclude(s, {"name": name, "points": told["points"], "within": told["within"], "tolerance": told["tolerance"]})

    return settled(compute, commit, project_id)


def _lay(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    def compute(s: Session) -> tuple[int, int, Array, float, int]:
        row = owned(s, DesignModel, project_id, params["model"], "model")
        near = near_of(s, row)
        beside = _Beside(s, project_id, row, near.mesh, params["reach"])
        some: list[Array] = []
        for k, station in enumerate(beside.stations):
            progress.report(f"reading {station.name}", k, len(beside.stations))
            own, held = [], 0
            for x in beside.tiles(station):  # coarse first: an even choice
                if held > 20 * LAID_ON / len(beside.stations):
                    break
                own.append(x.id)
                held += x.count
            for p in beside.points(station, own):
                progress.check()
                some.append(p[near.asked(p, params["reach"])[1] >= 0])
        points = np.concatenate(some) if some else np.zeros((0, 3))
        if len(points) > LAID_ON:
            points = points[np.random.default_rng(1).permutation(len(points))[:LAID_ON]]
        if not len(points):
            raise NotEnough("no point lies near the model", subject=row.name, remedy="move it nearer by hand first, or look farther")
        progress.report("laying it on the points", 0, 0)
        t, rms, count = laid(near, points, params["reach"])
        return row.version, get_project(s, project_id).network_revision, T_part_model(row) @ t, rms, count

    def commit(made: tuple[int, int, Array, float, int]) -> dict[str, Any]:
        version, revision, there, rms, count = made
        with journal.change(project_id, "", topic="models") as c:
            row = owned(c.s, DesignModel, project_id, params["model"], "model")
            if row.version != version or c.project.network_revision != revision:
                raise Moved
            shift, angle = frames.difference(there, T_part_model(row))
            _stand(row, there)
            c.title = f"Laid the model {row.name} on the cloud"
            return progress.conclude(c.s, {"name": row.name, "rms": rms, "points": count, "turned": angle, "shifted": shift})

    return settled(compute, commit, project_id)


def list_models(s: Session, project_id: str) -> list[dict[str, Any]]:
    project = get_project(s, project_id)
    rows = s.scalars(select(DesignModel).where(DesignModel.project_id == project_id).order_by(DesignModel.name, DesignModel.id))
    return [models.describe(s, project_id, r, in_use(s, project, r.part_id)) for r in rows]
