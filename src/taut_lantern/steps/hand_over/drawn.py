"""What is handed over of a drawing: DXF, SVG, sheets as PDF, the pictures of slabs at true scale, and the measured values."""

from __future__ import annotations

import csv
import zipfile
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.draw.raster import BAND, GATHERED, MODES, Raster, band, channels, full_ink, gathered, raster
from ...core.draw.shapes import corners_of
from ...core.errors import BadInput
from ...core.frames import METRE_PER_UNIT
from ...formats import bodies, dxf, geotiff, pdf, svg
from ...formats import sheet as sheet_file
from ...formats.drawn import Drawing, Underlay
from ...formats.part import whole
from ...formats.picture import looked_at
from ...site import compared, models, notes
from ...site.common import Array, Progress, file_name, get_project, owned, state_of
from ...site.drawing import LEVEL, T_frame_section, cut_of, drawn, guessed, layers_of, rolled, sections_of
from ...site.frames import InUse, in_use
from ...site.pictures import pinned
from ...site.sheets import page
from ...site.slab import Slicing
from ...store.db import snapshot
from ...store.models import Section, Sheet, Trace

KINDS = {
    "dxf": "Drawing, DXF",
    "svg": "Drawing of a section, SVG",
    "sheet": "Sheet, PDF",
    "slab": "Picture of a section with its drawing, GeoTIFF and DXF",
    "csv": "Measured values of lines, CSV",
    "ifc": "Pipes and lines in space, IFC",
    "glb": "Pipes and lines in space, glTF",
    "model-pdf": "The cloud and a design model, PDF",
    "model-csv": "The cloud and a design model by elements, CSV",
}
SUFFIX = {
    "dxf": "dxf",
    "svg": "svg",
    "sheet": "pdf",
    "slab": "zip",
    "csv": "csv",
    "ifc": "ifc",
    "glb": "glb",
    "model-pdf": "pdf",
    "model-csv": "csv",
}


def write(path: Path, project_id: str, kind: str, params: dict[str, Any], progress: Progress) -> tuple[int, str, int]:
    """Write a delivery. Returns the state of the project that it shows, what it is called, and how many things or points are in it."""
    with snapshot() as s:
        project = get_project(s, project_id)
        frame = in_use(s, project, params.get("part"))
        title, count = WRITE[kind](s, path, project_id, frame, params, progress)
        return state_of(s, project_id), title, count


def unit_of(params: dict[str, Any], frame: InUse) -> str:
    return str(params.get("unit") or frame.unit)


def _drawing(s: Session, project_id: str, frame: InUse, params: dict[str, Any]) -> Drawing:
    """Shapes, and in space the notes too: they lie in no section."""
    project, flat = get_project(s, project_id), params.get("coordinates") == "section"
    shapes = drawn(s, project, frame, params.get("sections"), flat)
    for section in sections_of(s, project_id, frame.part):
        if (not params.get("sections") or section.id in params["sections"]) and (flat or section.kind != "unrolled"):
            shapes += models.design_drawn(s, section, np.eye(4) if flat else T_frame_section(section, frame))
    space = [] if flat else notes.entities(s, project_id, frame) + rolled(s, project, frame, params.get("sections"))
    return Drawing(shapes, space, layers_of(project), [], project.name)


def _nothing(subject: str) -> BadInput:
    return BadInput("there is nothing drawn yet", subject=subject, remedy="cut a section and find or draw lines", code="nothing_drawn")


def _dxf(s: Session, path: Path, project_id: str, frame: InUse, params: dict[str, Any], progress: Progress) -> tuple[str, int]:
    drawing = _drawing(s, project_id, frame, params)
    count = sum(d.layer not in ("section", models.DESIGN) for d in drawing.drawn) + sum(e.kind != "text" for e in drawing.space)
    if not count:
        raise _nothing(drawing.title)
    dxf.write(path, drawing, unit_of(params, frame), params.get("version") or "R2018")
    return f"{file_name(drawing.title)}-drawing", count


def _one(s: Session, project_id: str, params: dict[str, Any]) -> Section:
    chosen = params.get("sections") or []
    if len(chosen) != 1:
        raise BadInput("this shows one section at a time", subject="sections", remedy="choose one")
    return owned(s, Section, project_id, chosen[0], "section")


def _svg(s: Session, path: Path, project_id: str, frame: InUse, params: dict[str, Any], progress: Progress) -> tuple[str, int]:
    section = _one(s, project_id, params)
    project = get_project(s, project_id)
    own = drawn(s, project, in_use(s, project, section.part_id), [section.id], True)
    if len(own) < 2:  # its title alone
        raise _nothing(section.name)
    shown = pinned(s, project_id, (str(d.shape.more["picture"]) for d in own if d.shape.kind == "picture"))
    svg.write(path, own, layers_of(project), int(params.get("scale") or 50), section.name, shown)
    return f"{file_name(project.name)}-{file_name(section.name)}", len(own)


def _sheet(s: Session, path: Path, project_id: str, frame: InUse, params: dict[str, Any], progress: Progress) -> tuple[str, int]:
    row = owned(s, Sheet, project_id, str(params.get("sheet") or ""), "sheet")
    made = page(s, row, progress)
    sheet_file.write(path, made)
    return f"{file_name(get_project(s, project_id).name)}-{file_name(row.name)}", sum(len(v.drawn) for v in made.views)


class Spool:
    """Points of a picture put by, band by band, so that no more than a band is held."""

    def __init__(self, folder: Path, to: Raster) -> None:
        self.folder, self.to = folder, to
        self.count = 0

    def add(self, points: NDArray[np.void]) -> None:
        if not len(points):
            return
        which = points["row"] // BAND
        order = np.argsort(which, kind="stable")
        for k, own in zip(*_split(which[order], points[order]), strict=True):
            with (self.folder / f"band-{k}").open("ab") as f:
                f.write(own.tobytes())
        self.count += len(points)

    def bands(self, mode: str, depth: tuple[float, float], progress: Progress) -> Iterator[NDArray[np.uint8]]:
        full = full_ink(self.to, map(self._read, range(self.to.bands)), mode) if mode in ("density", "x-ray") else 1.0
        below = self._read(0)
        for k in range(self.to.bands):
            progress.report("drawing the picture", k, self.to.bands)
            progress.check()
            own, below = below, self._read(k + 1)
            edge = below[below["row"] == (k + 1) * BAND]
            yield band(self.to, k, np.concatenate([own, edge]) if mode == "relief" else own, mode, depth, full)

    def _read(self, k: int) -> NDArray[np.void]:
        path = self.folder / f"band-{k}"
        return np.fromfile(path, GATHERED) if path.exists() else np.zeros(0, GATHERED)


def _split(which: NDArray[np.int64], points: NDArray[np.void]) -> tuple[list[int], list[NDArray[np.void]]]:
    keys, first = np.unique(which, return_index=True)
    return [int(k) for k in keys], np.split(points, first[1:])


def _extent(slicing: Slicing, progress: Progress) -> tuple[Array, Array]:
    """The rectangle of the points of a slab (2,), (2,); far strays left out."""
    some = [x.points[:: max(1, len(x.points) // 2000), :2] for x in slicing.pieces(progress)]
    if not some:
        raise BadInput("no points lie in this slab", subject="section", remedy="make it deeper, or cut elsewhere", code="empty_section")
    all_ = np.concatenate(some)
    low, high = np.percentile(all_, [0.1, 99.9], axis=0)
    return low - 0.1, high + 0.1


def _slab(s: Session, path: Path, project_id: str, frame: InUse, params: dict[str, Any], progress: Progress) -> tuple[str, int]:
    section, mode = _one(s, project_id, params), params.get("picture") or "density"
    if section.kind == "unrolled":  # it lies on no plane of the grid
        params = {**params, "coordinates": "section"}
    if mode not in MODES:
        raise BadInput(f"unknown picture {mode!r}", subject="picture", remedy=f"use one of {', '.join(MODES)}")
    frame, cut = in_use(s, get_project(s, project_id), section.part_id), cut_of(section)
    slicing = Slicing(s, project_id, section)
    to = raster(*_extent(Slicing(s, project_id, section, 2_000_000), progress), float(params.get("pixel") or 0.005))
    spool = Spool(path.parent, to)
    for piece in slicing.pieces(progress):
        spool.add(gathered(to, piece.points, piece.rgb, piece.intensity))
    unit = unit_of(params, frame)
    metre, in_grid = METRE_PER_UNIT[unit], params.get("coordinates") != "section"
    there = T_frame_section(section, frame) if in_grid else np.eye(4)
    level = not in_grid or section.kind in LEVEL
    m = geotiff.affine(there if level else None, to.low, to.high, to.pixel) / metre
    name = file_name(section.name)
    picture = path.parent / f"{name}.tif"
    geotiff.write(picture, spool.bands(mode, (cut.behind, cut.before), progress), to.wide, to.tall, channels(mode), m, metre, section.name)
    drawing = _drawing(s, project_id, frame, {**params, "sections": [section.id]})
    corner = frames.apply(there, np.array([[to.low, to.high - to.tall * to.pixel, 0.0]]))[0]
    drawing.underlays.append(Underlay(picture.name, to.wide, to.tall, corner, there[:3, 0] * to.pixel, there[:3, 1] * to.pixel))
    beside = _pinned_beside(s, path.parent, project_id, drawing)
    lines = path.parent / f"{name}.dxf"
    dxf.write(lines, drawing, unit, params.get("version") or "R2018")
    with whole(path) as part, zipfile.ZipFile(part, "w", zipfile.ZIP_STORED, allowZip64=True) as out:
        out.write(picture, picture.name)
        out.writestr(f"{name}.tfw", geotiff.world(m))
        out.write(lines, lines.name)
        for own in beside:
            out.write(own, own.name)
    return f"{file_name(get_project(s, project_id).name)}-{name}", spool.count


def _pinned_beside(s: Session, folder: Path, project_id: str, drawing: Drawing) -> list[Path]:
    """The pictures that are pinned to a drawing as files that it refers to; they lie below it."""
    own = [d for d in drawing.drawn if d.shape.kind == "picture"]
    bodies_ = pinned(s, project_id, (str(d.shape.more["picture"]) for d in own))
    out: list[Path] = []
    for k, d in enumerate(d for d in own if str(d.shape.more["picture"]) in bodies_):
        body = bodies_[str(d.shape.more["picture"])]
        kind, wide, tall = looked_at(body)
        path = folder / f"picture-{k + 1}.{'jpg' if kind == 'jpeg' else kind}"
        path.write_bytes(body)
        out.append(path)
        low, right, _, high = frames.apply(d.T_frame_section, np.array([[x, y, 0.0] for x, y in corners_of(d.shape)]))
        drawing.underlays.append(Underlay(path.name, wide, tall, low, (right - low) / wide, (high - low) / tall))
    return out


COLUMNS = (
    "section",
    "layer",
    "kind",
    "state",
    "length_m",
    "radius_mm",
    "thickness_mm",
    "nominal_diameter_mm",
    "fit_mm",
    "points",
    "seen_m",
)
MORE = (
    "bridged_m",
    "lean_mm_per_m",
    "out_of_plumb_mm",
    "out_of_level_mm",
    "moved_mm",
    "expected_error_mm",
    "dashed",
    "stations",
    "profile",
    "rise_mm",
    "going_mm",
    "uneven_mm",
)


def values_of(s: Session, project_id: str, part_id: str | None, section_id: str | None = None) -> list[dict[str, Any]]:
    """What was measured of each line and shape of a part or a section, one row each: see ``COLUMNS`` and ``MORE``."""
    out = []
    for section in sections_of(s, project_id, part_id):
        if section_id is not None and section.id != section_id:
            continue
        q = select(Trace).where(Trace.section_id == section.id, Trace.state != "rejected").order_by(Trace.layer, Trace.id)
        for t in s.scalars(q):
            f = t.fit
            row = {
                "section": section.name,
                "layer": t.layer,
                "kind": t.kind,
                "state": t.state,
                "length_m": _rounded(f.get("length"), 4),
                "radius_mm": _rounded(1000 * t.radius, 2) if t.radius else None,
                "nominal_diameter_mm": f.get("nominal_mm"),
                "points": f.get("points"),
                "dashed": guessed(t),
                "profile": f.get("section"),
                "stations": " ".join(f.get("stations") or []) or None,
            }
            named = {
                "fit_mm": "rms_mm",
                "seen_m": "seen",
                "bridged_m": "bridged",
                "lean_mm_per_m": "lean_mm_m",
                "expected_error_mm": "error_mm",
            }
            for key in ("thickness_mm", "out_of_plumb_mm", "out_of_level_mm", "moved_mm", "rise_mm", "going_mm", "uneven_mm", *named):
                row[key] = _rounded(f.get(named.get(key, key)), 3)
            out.append({k: row.get(k) for k in (*COLUMNS, *MORE)})
    return out


def _rounded(value: Any, places: int) -> float | None:
    return None if value is None else round(float(value), places)


def _csv(s: Session, path: Path, project_id: str, frame: InUse, params: dict[str, Any], progress: Progress) -> tuple[str, int]:
    rows = values_of(s, project_id, frame.part)
    if not rows:
        raise _nothing(get_project(s, project_id).name)
    _rows(path, (*COLUMNS, *MORE), rows)
    return f"{file_name(get_project(s, project_id).name)}-values", len(rows)


def _rows(path: Path, columns: Sequence[str], rows: list[dict[str, Any]]) -> None:
    with whole(path) as part, part.open("w", newline="", encoding="utf-8-sig") as f:
        out = csv.DictWriter(f, columns)
        out.writeheader()
        out.writerows({k: "" if v is None else v for k, v in row.items()} for row in rows)


def _bodies(s: Session, path: Path, project_id: str, frame: InUse, write: Callable[..., None]) -> tuple[str, int]:
    found, title = notes.bodies(s, project_id, frame), get_project(s, project_id).name
    if not found:
        raise BadInput("nothing is measured in space yet", subject=title, remedy="follow a pipe or pick a line (M)", code="nothing_drawn")
    write(path, title, frame.name, found)
    return f"{file_name(title)}-space", len(found)


def _ifc(s: Session, path: Path, project_id: str, frame: InUse, params: dict[str, Any], progress: Progress) -> tuple[str, int]:
    return _bodies(s, path, project_id, frame, bodies.ifc)


def _glb(s: Session, path: Path, project_id: str, frame: InUse, params: dict[str, Any], progress: Progress) -> tuple[str, int]:
    return _bodies(s, path, project_id, frame, bodies.glb)


def _model_pdf(s: Session, path: Path, project_id: str, frame: InUse, params: dict[str, Any], progress: Progress) -> tuple[str, int]:
    report = compared.report(s, project_id, str(params.get("model") or ""))
    pdf.write(path, report)
    return file_name(report.title), sum(len(t.rows) for t in report.tables)


def _model_csv(s: Session, path: Path, project_id: str, frame: InUse, params: dict[str, Any], progress: Progress) -> tuple[str, int]:
    row, told = compared.compared(s, project_id, str(params.get("model") or ""))
    rows = compared.table(told)
    _rows(path, compared.COLUMNS, rows)
    return f"{file_name(row.name)}-deviations", len(rows)


WRITE: dict[str, Callable[[Session, Path, str, InUse, dict[str, Any], Progress], tuple[str, int]]] = {
    "dxf": _dxf,
    "svg": _svg,
    "sheet": _sheet,
    "slab": _slab,
    "csv": _csv,
    "ifc": _ifc,
    "glb": _glb,
    "model-pdf": _model_pdf,
    "model-csv": _model_csv,
}
