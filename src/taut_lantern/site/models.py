"""Design models beside the cloud: where they stand, their faces, how far points lie from them, and where sections cut them."""

from __future__ import annotations

import io
import json
import threading
from collections import OrderedDict
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.draw.model import Mesh, Near, cut, edges
from ..core.draw.shapes import Shape
from ..core.errors import NotFound
from ..formats.drawn import Drawn
from ..store.marks import deletions_of
from ..store.models import CropBox, DesignModel, ModelMesh, Section, Station
from ..store.tiles import tile_of, unpack
from .common import Array, get_project, matrix, owned
from .drawing import cut_of
from .frames import InUse

COLOURED = 0.25  # metres from a model that points are coloured by their distance up to
STEP, NONE = 0.0001, -32768  # metres of a count in what is told, and the count of a point that lies near no model
DESIGN = "design"  # the layer of what sections cut of models
EDGES = 60_000  # of a model that are drawn, the longest
_KEEP = 2
_kept: OrderedDict[str, Near] = OrderedDict()
_lock = threading.Lock()


def packed(mesh: Mesh) -> bytes:
    """The faces as they are stored, compressed; corners to 0.01 mm of a model of 100 m."""
    at = (mesh.box[0] + mesh.box[1]) / 2
    out = io.BytesIO()
    names = np.frombuffer(json.dumps(mesh.names).encode(), np.uint8)
    vertices = (mesh.vertices - at).astype(np.float32)
    np.savez_compressed(
        out, at=at, vertices=vertices, faces=mesh.faces.astype(np.int32), element=mesh.element.astype(np.int32), names=names
    )
    return out.getvalue()


def unpacked(data: bytes) -> Mesh:
    with np.load(io.BytesIO(data), allow_pickle=False) as z:
        names = tuple(json.loads(z["names"].tobytes()))
        return Mesh(z["vertices"].astype(float) + z["at"], z["faces"].astype(np.int64), z["element"].astype(np.int64), names)


def near_of(s: Session, row: DesignModel) -> Near:
    """The faces of a model with the boxes over them, kept for the next time."""
    with _lock:  # tiles come six at a time and want the same one
        if row.id not in _kept:
            data = s.scalar(select(ModelMesh.data).where(ModelMesh.model_id == row.id))
            if data is None:
                raise NotFound("the faces of this model are gone", subject=row.name, remedy="bring it in again")
            _kept[row.id] = Near(unpacked(data))
            while len(_kept) > _KEEP:
                _kept.popitem(last=False)
        _kept.move_to_end(row.id)
        return _kept[row.id]


def T_part_model(row: DesignModel) -> Array:
    return matrix(row.T_part_base) @ matrix(row.T_base_model)


def models_of(s: Session, project_id: str, part_id: str | None) -> list[DesignModel]:
    q = select(DesignModel).where(DesignModel.project_id == project_id, DesignModel.part_id == part_id)
    return list(s.scalars(q.order_by(DesignModel.name, DesignModel.id)))


def of_now(s: Session, project_id: str, row: DesignModel, revision: int) -> dict[str, Any]:
    """The state that a comparison is of."""
    q = select(CropBox.id, CropBox.version).where(CropBox.project_id == project_id, CropBox.part_id == row.part_id, CropBox.active)
    crop = sorted([str(box), int(version)] for box, version in s.execute(q).tuples())  # what they take away is not compared
    return {
        "T": [round(float(v), 9) for v in T_part_model(row).ravel()],
        "revision": revision,
        "deletions": deletions_of(s, project_id),
        "crop": crop,
    }


def why_old(was: dict[str, Any], now: dict[str, Any]) -> str:
    """Why a comparison is out of date, or ""."""
    words = {
        "T": "the model was moved since",
        "revision": "the network changed since",
        "deletions": "points were deleted or brought back since",
        "crop": "crop boxes were changed since",
    }
    return next((words[k] for k in words if was.get(k) != now[k]), "")


def middle_of(row: DesignModel) -> Array:
    """(3,) of its box, model frame."""
    return (np.array(row.detail["low"], float) + row.detail["high"]) / 2


def describe(s: Session, project_id: str, row: DesignModel, frame: InUse) -> dict[str, Any]:
    """T_part_edges: from the coordinates that its edges are told in. at: its middle in the coordinates in use, metres."""
    compared = s.scalar(select(ModelMesh.compared).where(ModelMesh.model_id == row.id))
    revision = get_project(s, project_id).network_revision
    there, middle = T_part_model(row), middle_of(row)
    at = frames.apply(frame.T_frame_part @ there, middle[None])[0]
    shifted = np.eye(4)
    shifted[:3, 3] = middle
    return {
        **{k: getattr(row, k) for k in ("id", "version", "name", "shown")},
        **{k: row.detail[k] for k in ("file", "unit", "faces", "elements")},
        "part": row.part_id,
        "size": [float(b - a) for a, b in zip(row.detail["low"], row.detail["high"], strict=True)],
        "T_part_edges": [float(v) for v in (there @ shifted).ravel()],
        "at": [float(v) for v in at],
        "compared": None if compared is None else {k: v for k, v in compared.items() if k not in ("of", "elements")},
        "why_old": "" if compared is None else why_old(compared["of"], of_now(s, project_id, row, revision)),
    }


def edges_of(s: Session, project_id: str, model_id: str) -> bytes:
    """float32 (k, 2, 3): the edges of a model that are seen, from its middle, the longest first; at most ``EDGES``."""
    row = owned(s, DesignModel, project_id, model_id, "model")
    found = edges(near_of(s, row).mesh) - middle_of(row)
    long = np.linalg.norm(found[:, 1] - found[:, 0], axis=1)
    return found[np.argsort(-long, kind="stable")[:EDGES]].astype("<f4").tobytes()


def distances(s: Session, project_id: str, station_id: str, first: int) -> bytes:
    """(count,) int16 of a tile's points: signed distance from the nearest model that is shown in steps of 0.1 mm, positive on the side that its
    faces look to; -32768 beyond ``COLOURED`` of all."""
    station: Station = owned(s, Station, project_id, station_id, "station")
    tile = tile_of(s, project_id, station_id, first)
    if tile is None:
        raise NotFound("this tile does not exist", subject=str(first), remedy="reload the project")
    xyz = unpack(*tile).xyz
    out = np.full(len(xyz), np.nan)
    for row in models_of(s, project_id, station.part_id):
        if row.shown:
            d, _ = near_of(s, row).asked(frames.apply(frames.inverse(T_part_model(row)) @ matrix(station.pose), xyz), COLOURED)
            nearer = np.isnan(out) | (np.abs(d) < np.abs(out))
            out[nearer] = d[nearer]
    counts: NDArray[np.int16] = np.where(np.isnan(out), NONE, np.rint(np.nan_to_num(out) / STEP)).astype("<i2")
    return counts.tobytes()


def design_lines(s: Session, section: Section) -> list[list[list[float]]]:
    """Where a section cuts the models that are shown, as lines in its coordinates."""
    if section.kind == "unrolled":  # a model's edges lie on no plane there
        return []
    t = cut_of(section).T_section_base @ frames.inverse(matrix(section.T_part_base))
    out: list[list[list[float]]] = []
    for row in models_of(s, section.project_id, section.part_id):
        if row.shown:
            out += np.round(cut(near_of(s, row).mesh, t @ T_part_model(row)), 5).tolist()
    return out


def design_lines_of(s: Session, project_id: str, section_id: str) -> list[list[list[float]]]:
    return design_lines(s, owned(s, Section, project_id, section_id, "section"))


def design_drawn(s: Session, section: Section, T_there: Array) -> list[Drawn]:
    """The same as they go onto a drawing, on a layer of their own."""
    lines = [Shape("line", ((a[0], a[1]), (b[0], b[1]))) for a, b in design_lines(s, section)]
    return [Drawn(x, DESIGN, T_there) for x in lines]
