"""The registration report, read from the one solution."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.frames import METRE_PER_UNIT, UNIT_WORDS
from ..formats.report import NetworkPlan, Report, ReportPicture, ReportTable
from ..store.db import file_chunks
from ..store.models import Journal, Link, Picture, Station
from .accepted import LOOSE, acceptances
from .common import get_project, matrix, profile_of, stations_of
from .frames import Currency, InUse, deviation_in, in_use
from .parts import stations_in
from .pictures import pictures_of
from .placing import compared, residuals_of
from .reported import grids_table, instruments_table, known_table, targets_table, tenths
from .solution import pair_of, solution_of


def build(s: Session, project_id: str, part_id: str | None = None) -> Report:
    """Everything the report says, with coordinates of one part. Numbers come from the solution row, nothing is computed anew."""
    project = get_project(s, project_id)
    data = solution_of(s, project_id)
    frame = in_use(s, project, part_id)
    stations = stations_of(s, project_id)
    names = {x.id: x.name for x in stations}
    links = [k for k in s.scalars(select(Link).where(Link.project_id == project_id)) if k.a in names and k.b in names]
    worst = ("parted", "slack", "loose", "taut")
    links.sort(key=lambda k: (worst.index(data["links"].get(k.id, LOOSE)["status"]), pair_of(k, names)))
    profile = profile_of(project)
    control = residuals_of(s, project_id, frame.part)
    old = Currency(s, project_id).why_old(frame.row) if frame.row is not None else ""
    test = data["global_test"]
    verdict = "passes" if test["passed"] else "does not pass"
    sentences = [data["sentence"]]
    if links:
        sentences.append(
            f"Global test: {test['statistic']:.0f} against {test['limit']:.0f}, {verdict} "
            f"(sigma0 {data['sigma0']:.2f}, {data['degrees_of_freedom']} degrees of freedom; deviations below are scaled by sigma0)."
        )
    if control["points"]:
        sentences.append(control["sentence"])
    if old:
        sentences.append(f"The coordinates {frame.name} are out of date: {old}.")
    tables = [
        ReportTable(
            f"Tolerance profile: {profile.name}",
            ("fit RMS", "overlap for taut", "seen through", "weak direction", "control"),
            (
                (
                    f"{1000 * profile.fit:.1f} mm",
                    f"{100 * profile.overlap_taut:.0f} %",
                    f"{100 * profile.see_through:.1f} %",
                    f"{1000 * profile.weak:.1f} mm",
                    f"{1000 * profile.control:.1f} mm",
                ),
            ),
        ),
        ReportTable(
            "Links",
            (
                "status",
                "stations",
                "fit RMS mm",
                "overlap %",
                "seen through %",
                "weakest mm",
                "after adjustment mm",
                "what speaks against it",
            ),
            tuple(_link_row(k, data, names) for k in links),
        ),
        ReportTable(
            "Stations",
            ("station", *(f"{axis} {frame.unit}" for axis in "ENH"), "sd x mm", "sd y mm", "sd z mm", "sd turn mdeg", "links"),
            tuple(_station_row(x, data, frame) for x in stations),
            f"Coordinates: {frame.name}, in {UNIT_WORDS[frame.unit]}. Stations of other parts have none."
            + (" Deviations carry those of control." if frame.kind == "control" else " Deviations are against the datum."),
        ),
    ]
    tables += targets_table(s, project_id, data, frame.part)
    tables += known_table(s, project_id, data, names)
    if control["points"]:
        tables.append(
            ReportTable(
                "Control and check points",
                ("point", "role", "target", "matched by", "east mm", "north mm", "height mm", "3D mm", "to others mm", "status", "remark"),
                tuple(_control_row(p) for p in control["points"]),
                _about_control(control),
            )
        )
    if len(placements := compared(s, project_id, frame.part)) > 1:
        kept = tuple(
            (
                str(p["revision"]),
                "in use" if p["in_use"] else "earlier",
                p["mode"],
                ", ".join(p["points"]),
                tenths(p["sigma_mm"]),
                tenths(p["check_mm"]),
                tenths(None if p["moves_mm"] is None else float(np.linalg.norm(p["moves_mm"]))),
            )
            for p in placements
        )
        columns = ("placement", "state", "solved", "points", "± mm", "check mm", "moves by mm")
        tables.append(
            ReportTable("Placements on control", columns, kept, "Moves by: from it to what is solved now, in the middle of the site.")
        )
    tables += grids_table(s, project_id, frame)
    tables += instruments_table(s, project_id, stations)
    if accepted := acceptances(s, project):
        tables.append(ReportTable("Acceptance", ("what", "by", "when", "remark", "now"), tuple(_accepted_row(a) for a in accepted)))
    findings = data["findings"] + control["findings"]
    if findings:
        tables.append(ReportTable("Findings", ("weight", "what"), tuple((f["severity"], f["message"]) for f in findings)))
    entries = s.scalars(
        select(Journal).where(Journal.project_id == project_id, ~Journal.undone).order_by(Journal.id.desc()).limit(25)
    ).all()
    tables.append(
        ReportTable("Journal, latest first", ("when", "what"), tuple((e.at.strftime("%Y-%m-%d %H:%M"), e.title) for e in entries))
    )
    shown = pictures_of(s, project_id)
    plan = None
    inside = stations_in(stations, frame.part)
    placed = {x.name: (float(matrix(x.pose)[0, 3]), float(matrix(x.pose)[1, 3])) for x in inside}
    if len(placed) > 1:
        strings = tuple(
            (
                names[k.a],
                names[k.b],
                "loose" if not k.used else data["links"][k.id]["status"],
                min(0.25, 0.08 * (data["links"][k.id]["residual_mm"] or 0) / (1000 * profile.fit) + 0.03),
            )
            for k in links
            if names[k.a] in placed and names[k.b] in placed and k.id in data.get("links", {})
        )
        plan = NetworkPlan(placed, strings)
    return Report(
        f"Registration report: {project.name}",
        f"Made {datetime.now(UTC):%Y-%m-%d %H:%M} UTC · coordinates: {frame.name}",
        tuple(sentences),
        tuple(tables),
        plan,
        project.company,
        next((_picture(x) for x in shown if x.logo), None),
        tuple(_picture(x) for x in shown if not x.logo),
    )


def _picture(x: Picture) -> ReportPicture:
    return ReportPicture(x.caption, x.kind, b"".join(file_chunks(x.id, x.size)), x.wide, x.high)


def _link_row(k: Link, data: dict[str, Any], names: dict[str, str]) -> tuple[str, ...]:
    own, e = data["links"].get(k.id, {"status": "loose", "residual_mm": None, "reasons": []}), k.evidence
    residual = own["residual_mm"]
    return (
        own["status"] + ("" if k.used else ", off"),
        " · ".join(pair_of(k, names)),
        f"{1000 * e['fit_rms']:.1f}",
        f"{100 * e['overlap']:.0f}",
        f"{100 * e['see_through']:.1f}",
        f"{1000 * e['weak_sigma']:.1f}",
        "–" if residual is None else f"{residual:.1f}",
        " · ".join(r["message"] for r in own["reasons"]),
    )


def _station_row(x: Station, data: dict[str, Any], frame: InUse) -> tuple[str, ...]:
    own = data["stations"].get(x.id)
    if x.part_id != frame.part or own is None:
        return (x.name, *["–"] * 8)
    at = (frame.T_frame_part @ matrix(x.pose))[:3, 3] / METRE_PER_UNIT[frame.unit]
    sd = deviation_in(frame, x.id, matrix(x.pose), own["sigma_position_mm"])
    return (
        x.name,
        *(f"{v:.{1 if frame.unit == 'mm' else 4}f}" for v in at),
        *(f"{v:.2f}" for v in sd),
        f"{max(own['sigma_rotation_mdeg']):.2f}",
        str(own["links"]),
    )


def _accepted_row(a: dict[str, Any]) -> tuple[str, ...]:
    return (a["what"], a["by"], f"{a['at']:%Y-%m-%d %H:%M}", a["remark"], "stands" if a["stands"] else a["why"])


def _control_row(p: dict[str, Any]) -> tuple[str, ...]:
    r = p["residual_mm"]
    cells = ("–",) * 5 if r is None else tuple(tenths(r[k]) for k in ("e", "n", "h", "d3", "alone"))
    remark = " · ".join(f["message"] for f in p["reasons"])
    return (p["name"], p["role"], p["target_name"] or "–", p["matched_by"] or "–", *cells, p["status"], remark)


def _about_control(control: dict[str, Any]) -> str:
    """What the placement was solved for, and what proves it."""
    text = {
        "level": "Level kept: shift and heading solved for.",
        "scaled": "Shift, all turns and scale solved for: distances in coordinates are not those that were scanned.",
        "network": "Control took part in the adjustment of the network, each point by its deviation.",
    }.get(control["mode"], "Shift and all turns solved for, no scale.")
    if control["scale_ppm"] is not None and control["mode"] == "scaled":
        text += f" Scale {control['scale_ppm']:+.0f} ppm (±{control['scale_sigma_ppm']:.0f})."
    elif control["scale_ppm"] is not None:
        text += f" Were scale left free it would be {control['scale_ppm']:+.0f} ppm (±{control['scale_sigma_ppm']:.0f})."
    if control["check_mm"] is not None:
        text += f" Check points took no part; they are off by {control['check_mm']:.1f} mm (root mean square in space)."
    return text
