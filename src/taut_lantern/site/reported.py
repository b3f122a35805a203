"""Tables of the report on targets, on what is known beside the scans, on site grids and on what instruments brought."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.frames import UNIT_WORDS
from ..formats.report import ReportTable
from ..store.models import Job, Known, Sighting, Station, Target
from .frames import Currency, InUse, frames_of

NOTHING = "–"


def tenths(value: float | None, digits: int = 1) -> str:
    return NOTHING if value is None else f"{round(value, digits) + 0.0:.{digits}f}"  # never minus nothing


def targets_table(s: Session, project_id: str, data: dict[str, Any], part: str | None) -> list[ReportTable]:
    """Targets of a part with the worst of their sightings."""
    seen = [t for t in data["targets"] if t["part"] == part]
    if not seen:
        return []
    kinds = {t.id: t.kind for t in s.scalars(select(Target).where(Target.project_id == project_id))}
    of: dict[str, list[Sighting]] = {}
    for g in s.scalars(select(Sighting).where(Sighting.project_id == project_id)):
        of.setdefault(g.target_id or "", []).append(g)
    rows = []
    for t in seen:
        own = of.get(t["id"], [])
        worst = max((data["sightings"].get(g.id, {}).get("normalized") or 0.0 for g in own), default=0.0)
        left_out = sum(1 for g in own if not g.used)
        remarks = dict.fromkeys(g.remark for g in own if g.remark)
        words = [f"{left_out} left out"] if left_out else []
        rows.append(
            (
                t["name"],
                kinds.get(t["id"], ""),
                str(t["sightings"]),
                tenths(t["spread_mm"]),
                tenths(worst) if worst else NOTHING,
                " · ".join([*words, *remarks]),
            )
        )
    columns = ("target", "kind", "sightings", "spread mm", "worst in deviations", "remarks")
    return [ReportTable("Targets", columns, tuple(rows))]


def known_table(s: Session, project_id: str, data: dict[str, Any], names: dict[str, str]) -> list[ReportTable]:
    """Tapes, plumb walls, and the scanners' levels."""
    rows: list[tuple[str, ...]] = []
    for k in s.scalars(select(Known).where(Known.project_id == project_id).order_by(Known.kind.desc(), Known.name, Known.id)):
        own = data["known"].get(k.id, {})
        off = None if own.get("off") is None else 1000 * own["off"]
        given = f"{k.value:.4f} m ±{1000 * k.sigma:.1f} mm" if k.kind == "tape" else f"plumb ±{1000 * k.sigma:.1f} mm/m"
        state = own.get("status", "loose") if k.used else "off"
        rows.append(("tape" if k.kind == "tape" else "wall", k.name, given, tenths(off, 2), tenths(own.get("normalized")), state))
    levels = data["levels"]
    kept = [v for v in levels.values() if v["used"]]
    if kept:
        worst = max(v["off"] for v in kept)
        rows.append(("levels", f"{len(kept)} scanners", "", tenths(1000 * worst, 2), tenths(max(v["normalized"] for v in kept)), "taut"))
    rows += [
        ("level", names.get(x, ""), "", tenths(1000 * v["off"], 2), NOTHING, "left out: it leans")
        for x, v in levels.items()
        if not v["used"]
    ]
    columns = ("kind", "what", "given", "off by", "in deviations", "state")
    note = "Off by: millimetres of tapes, millimetres a metre of walls and levels."
    return [ReportTable("Known beside the scans", columns, tuple(rows), note)] if rows else []


def grids_table(s: Session, project_id: str, frame: InUse) -> list[ReportTable]:
    """Site grids and how well what they were laid by holds them."""
    currency = Currency(s, project_id)
    rows = []
    for f in frames_of(s, project_id):
        if f.kind != "grid":
            continue
        d, corner = f.detail, f.detail.get("corner")
        laid = "from a place towards another" if d.get("picks", {}).get("by_points") else "along a wall"
        rows.append(
            (
                f.name + (", in use" if f.id == frame.id else ""),
                laid,
                str(d.get("points") or NOTHING),
                tenths(d.get("wall_rms_mm")),
                tenths(d.get("off_plumb"), 2),
                NOTHING if corner is None else f"±{corner['sigma_mm']:.1f} mm, {corner['off_square']:.2f}° off square",
                UNIT_WORDS[f.unit],
                currency.why_old(f) or "follows",
            )
        )
    columns = ("grid", "laid", "points", "RMS mm", "leans °", "hung on a corner", "unit", "state")
    return [ReportTable("Site grids", columns, tuple(rows))] if rows else []


def instruments_table(s: Session, project_id: str, stations: list[Station]) -> list[ReportTable]:
    """Scans that came from instruments, and what was measured finely with them."""
    rows = []
    q = select(Job).where(Job.project_id == project_id, Job.kind == "device", Job.state == "done").order_by(Job.ended_at)
    for j in s.scalars(q):
        rows.append(
            (
                str(j.params["device"]),
                "scan",
                str((j.result or {}).get("name", "")),
                NOTHING if j.ended_at is None else f"{j.ended_at:%Y-%m-%d %H:%M}",
            )
        )
    names = {x.id: x.name for x in stations}
    fine = list(s.scalars(select(Sighting).where(Sighting.project_id == project_id, Sighting.remark == "measured finely")))
    targets = {t.id: t.name for t in s.scalars(select(Target).where(Target.project_id == project_id))}
    rows += [
        ("scanner", "fine measurement", f"{targets.get(g.target_id or '', '')} from {names.get(g.station_id, '')}", NOTHING) for g in fine
    ]
    return [ReportTable("Instruments", ("instrument", "did", "what", "when"), tuple(rows))] if rows else []
