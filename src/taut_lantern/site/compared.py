"""What the cloud leaves a design model by: figures, a report, and a table of its elements."""

from __future__ import annotations

import io
from typing import Any

from PIL import Image, ImageDraw
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.errors import BadInput
from ..formats.report import Report, ReportPicture, ReportTable
from ..store.models import DesignModel, ModelMesh
from .common import get_project, owned
from .models import of_now, why_old


def compared(s: Session, project_id: str, model_id: str) -> tuple[DesignModel, dict[str, Any]]:
    """A comparison with its elements, those farthest off first. BadInput when none was made."""
    row = owned(s, DesignModel, project_id, model_id, "model")
    told = s.scalar(select(ModelMesh.compared).where(ModelMesh.model_id == model_id))
    if told is None:
        raise BadInput(f"{row.name} was not compared yet", subject=row.name, remedy="compare the cloud with it first", code="not_compared")
    elements = sorted(told["elements"], key=lambda e: (e["points"] == 0, -(e["p95"] or 0.0), e["name"]))
    old = why_old(told["of"], of_now(s, project_id, row, get_project(s, project_id).network_revision))
    return row, {**told, "elements": elements, "why_old": old}


MARGIN = 90  # pixels at the sides of a histogram, for its figures


def _mm(value: float | None, sign: str = "") -> str:
    return "–" if value is None else f"{1000 * value:{sign}.1f}"


def report(s: Session, project_id: str, model_id: str) -> Report:
    """A comparison as a report: figures, how distances are spread, and element by element."""
    row, told = compared(s, project_id, model_id)
    points, tolerance = told["points"], told["tolerance"]
    seen = [e for e in told["elements"] if e["points"]]
    said = [
        f"{told['within'] / points:.1%} of {points:,} points that lie within {1000 * told['reach']:g} mm of {row.name} are within {1000 * tolerance:g} mm of it."
        if points
        else f"No point lies within {1000 * told['reach']:g} mm of {row.name}.",
        f"{len(seen):,} of {len(told['elements']):,} elements were seen.",
    ]
    if told["why_old"]:
        said.append(f"Out of date: {told['why_old']}.")
    figures = ReportTable(
        "Distances, positive before the model's faces",
        ("figure", "mm"),
        (
            ("median", _mm(told["median"], "+")),
            ("5 % are below", _mm(told["p05"], "+")),
            ("95 % are below", _mm(told["p95"], "+")),
            ("root mean square", _mm(told["rms"])),
            ("tolerance", _mm(tolerance)),
        ),
    )
    rows = tuple(
        (
            e["name"],
            str(e["points"]),
            f"{100 * e['within'] / e['points']:.1f}" if e["points"] else "–",
            _mm(e["mean"], "+"),
            _mm(e["rms"]),
            _mm(e["p95"]),
            _mm(e["most"]),
        )
        for e in told["elements"][:400]
    )
    left = len(told["elements"]) - len(rows)
    elements = ReportTable(
        "Elements, the farthest off first",
        ("element", "points", "% within", "mean mm", "RMS mm", "95 % mm", "most mm"),
        rows,
        f"{left:,} more stand in the table (CSV)." if left > 0 else "",
    )
    picture = ReportPicture("How many points lie how far from the model; what is within the tolerance is dark", "png", *_bars(told))
    company = get_project(s, project_id).company
    return Report(
        f"{row.name} and the cloud",
        f"compared {told['at'][:16].replace('T', ' ')} UTC",
        tuple(said),
        (figures, elements),
        None,
        company,
        pictures=(picture,),
    )


def _bars(told: dict[str, Any], wide: int = 1200, high: int = 420) -> tuple[bytes, int, int]:
    """A histogram as a PNG."""
    counts, reach, tolerance = told["histogram"], told["reach"], told["tolerance"]
    image = Image.new("RGB", (wide, high), "#FCFAF5")
    pen = ImageDraw.Draw(image)
    most = max(max(counts), 1)
    step = (wide - 2 * MARGIN) / len(counts)
    for k, n in enumerate(counts):
        at = (k + 0.5) / len(counts) * 2 * reach - reach
        top = high - 50 - (high - 80) * n / most
        pen.rectangle(
            [MARGIN + k * step + 1, top, MARGIN + (k + 1) * step - 1, high - 50], fill="#23407A" if abs(at) <= tolerance else "#D9A35F"
        )
    pen.line([MARGIN, high - 50, wide - MARGIN, high - 50], fill="#1E2530", width=2)
    for share in (-1.0, -0.5, 0.0, 0.5, 1.0):
        x = MARGIN + (share + 1) / 2 * (wide - 2 * MARGIN)
        pen.text((x, high - 40), f"{1000 * share * reach:+.0f} mm" if share else "0", fill="#1E2530", anchor="ma", font_size=22)
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue(), wide, high


COLUMNS = ("element", "points", "share_within", "mean_mm", "rms_mm", "p95_mm", "most_mm")


def table(told: dict[str, Any]) -> list[dict[str, Any]]:
    """A comparison element by element, a row each: see ``COLUMNS``. Words that a spreadsheet would take for a formula are quoted."""

    def mm(v: float | None) -> float | None:
        return None if v is None else round(1000 * v, 2)

    return [
        {
            "element": f"'{e['name']}" if e["name"][:1] in ("=", "+", "-", "@") else e["name"],
            "points": e["points"],
            "share_within": round(e["within"] / e["points"], 4) if e["points"] else None,
            "mean_mm": mm(e["mean"]),
            "rms_mm": mm(e["rms"]),
            "p95_mm": mm(e["p95"]),
            "most_mm": mm(e["most"]),
        }
        for e in told["elements"]
    ]
