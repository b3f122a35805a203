"""What an unattended run found, as result.json has it, and why it is not simply good."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..site.common import get_project, matrix, stations_of
from ..site.frames import deviation_in, in_use
from ..site.placing import residuals_of
from ..site.solution import solution_of
from ..store.db import session
from ..store.models import Control, Edit, Link, Original, PointSet, Sighting, Target
from .tie import questions

FORMAT = 1


def describe(project_id: str, timings: dict[str, float], findings: list[dict[str, str]]) -> dict[str, Any]:
    """The content of result.json: the contract for everyone who automates."""
    with session() as s:
        project = get_project(s, project_id)
        frame, data, asked = in_use(s, project), solution_of(s, project_id), questions.describe(s, project_id)
        names = {p["id"]: p["name"] for p in data["parts"]}
        stations_by = {x.id: x for x in stations_of(s, project_id)}
        files = {o.id: o.name for o in s.scalars(select(Original).where(Original.project_id == project_id))}
        out_stations = []
        for x in stations_by.values():
            own = data["stations"][x.id]
            inside = x.part_id == frame.part
            pose = frames.unstretched(frame.T_frame_part @ matrix(x.pose))
            out_stations.append(
                {
                    "name": x.name,
                    "file": files.get(x.original_id or "", ""),
                    "points": x.points,
                    "part": names[own["part"]],
                    "pose": {"rotation": pose[:3, :3].tolist(), "translation": pose[:3, 3].tolist()} if inside else None,
                    "frame": frame.kind,
                    "sigma_position_mm": deviation_in(frame, x.id, matrix(x.pose), own["sigma_position_mm"]) if inside else None,
                    "sigma_rotation_mdeg": own["sigma_rotation_mdeg"],
                }
            )
        out_links = []
        for k in s.scalars(select(Link).where(Link.project_id == project_id)):
            own, e = data["links"][k.id], k.evidence
            out_links.append(
                {
                    "a": stations_by[k.a].name,
                    "b": stations_by[k.b].name,
                    "kind": k.kind,
                    "status": own["status"],
                    "used": k.used,
                    "T_a_b": matrix(k.T_a_b).tolist(),
                    "fit_median_mm": 1000 * e["fit_median"],
                    "fit_rms_mm": 1000 * e["fit_rms"],
                    "fit_p90_mm": 1000 * e["fit_p90"],
                    "overlap": e["overlap"],
                    "see_through": e["see_through"],
                    "weak_sigma_mm": 1000 * e["weak_sigma"],
                    "weak_direction": e["weak_direction"],
                    "residual_mm": own["residual_mm"],
                    "residual_mdeg": own["residual_mdeg"],
                    "reasons": own["reasons"],
                }
            )
        sightings = list(s.scalars(select(Sighting).where(Sighting.project_id == project_id)))
        kinds = {t.id: t.kind for t in s.scalars(select(Target).where(Target.project_id == project_id))}
        out_targets = []
        for t in data["targets"]:
            inside = t["part"] == frame.part
            out_targets.append(
                {
                    "name": t["name"],
                    "part": names[t["part"]],
                    "kind": kinds.get(t["id"], "sphere"),
                    "position": frames.apply(frame.T_frame_part, np.array([t["position"]]))[0].tolist() if inside else None,
                    "sightings": [
                        {
                            "station": stations_by[g.station_id].name,
                            "center": g.centre,
                            "fit_rms_mm": 1000 * g.rms,
                            "points": g.points,
                            "sigma_mm": 1000 * float(np.sqrt(np.trace(np.array(g.covariance).reshape(3, 3)))),
                            "used": g.used,
                            "remark": g.remark,
                            "normalized": data["sightings"].get(g.id, {}).get("normalized"),
                        }
                        for g in sightings
                        if g.target_id == t["id"] and stations_by[g.station_id].part_id == t["part"]
                    ],
                }
            )
        cleaning = _cleaning(s, project_id, {k: x.name for k, x in stations_by.items()})
        has_control = s.scalar(select(Control.id).where(Control.project_id == project_id).limit(1)) is not None
        state = residuals_of(s, project_id) if has_control else {}
    out_control = []
    if has_control:
        out_control = [
            {
                "name": p["name"],
                "role": p["role"],
                "matched_to": p["target_name"],
                "matched_by": p["matched_by"],
                "sigma_mm": p["sigma_mm"],
                "residual_mm": p["residual_mm"],
                "status": p["status"],
                "reasons": p["reasons"],
            }
            for p in state["points"]
        ]
        findings = findings + state["findings"]
    return {
        "format": FORMAT,
        "stations": out_stations,
        "links": out_links,
        "targets": out_targets,
        "control": out_control,
        "solution": {
            **{k: data[k] for k in ("sigma0", "degrees_of_freedom", "global_test", "converged")},
            "parts": [[stations_by[x].name for x in p["stations"]] for p in data["parts"]],
            "scale": frames.stretch(frame.T_frame_part),
            "levels": {stations_by[x].name: v for x, v in data["levels"].items() if x in stations_by},
        },
        "cleaning": cleaning,
        "findings": data["findings"] + findings,
        "undecided": [
            {
                "station": q["station_name"],
                "other": q["other_name"],
                "kind": q["kind"],
                "message": q["message"],
                "readings": [
                    {
                        "answer": r["word"],
                        "partner": r["partner_name"],
                        "T_partner_station": None
                        if r["T_partner_station"] is None
                        else np.reshape(r["T_partner_station"], (4, 4)).tolist(),
                        "agree_m2": r["agree_m2"],
                        "contradicted_m2": r["contradicted_m2"],
                    }
                    for r in q["readings"]
                ],
            }
            for q in asked
            if q["answer"] is None
        ],
        "timings": timings,
    }


REASONS = {"mover": "movers", "door": "doors", "ghost": "ghosts", "edge": "noise", "lone": "noise", "dust": "noise", "hand": "by hand"}


def _cleaning(s: Session, project_id: str, names: dict[str, str]) -> list[dict[str, Any]]:
    """What is deleted, by station and reason. area: m2 of things that moved and of images, across their two larger sides."""
    q = select(Edit.kind, Edit.detail, PointSet.station_id, PointSet.count).join(PointSet, PointSet.set_id == Edit.points)
    found: dict[tuple[str, str], dict[str, Any]] = {}
    for kind, detail, station, count in s.execute(q.where(Edit.project_id == project_id, Edit.active, Edit.does == "delete")):
        own = found.setdefault((station, REASONS.get(kind, kind)), {"points": 0, "area": 0.0, "objects": 0})
        own["points"] += count
        if kind in ("mover", "ghost"):
            a, b = sorted(detail["size"])[1:]
            own["area"] += a * b
            own["objects"] += 1
    return [{"station": names[station], "reason": reason, **own} for (station, reason), own in sorted(found.items()) if station in names]


def verdict(result: dict[str, Any]) -> list[str]:
    """Why the job is not simply good; empty when every station is in one network and no used link is parted."""
    reasons = [
        f["message"]
        for f in result["findings"]
        if f["code"]
        in (
            "not_connected",
            "not_converged",
            "weak_geometry",
            "unplaced",
            "ambiguous",
            "alike",
            "truncated",
            "not_e57",
            "empty_file",
            "no_points",
            "unreadable",
            "no_scans",
        )
    ]
    reasons += [f"the link {k['a']} · {k['b']} is parted" for k in result["links"] if k["used"] and k["status"] == "parted"]
    reasons += [f["message"] for f in result["findings"] if f["subject"] == "control" and f["severity"] == "fault"]
    parts = result["solution"]["parts"] or []
    if len(parts) > 1 and not any("not connected" in r for r in reasons):
        reasons.append(f"the stations fall into {len(parts)} parts")
    return reasons
