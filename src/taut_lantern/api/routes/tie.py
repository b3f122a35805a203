"""Links, the network, targets."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy import select

from ...steps.common import frames, get_project, matrix, stations_of
from ...steps.tie import links, targets
from ...steps.tie.network import pair_of
from ...store import db
from ...store.models import Link, Sighting, SolutionRow
from .. import schemas as x
from .base import P, router

api = router()


@api.post("/projects/{project_id}/tie", operation_id="tie", status_code=202)
def tie(project_id: P) -> x.Started:
    return x.Started(jobs=[links.start_tie(project_id)])


@api.post("/projects/{project_id}/links", operation_id="link_by_hand", status_code=202)
def link_by_hand(project_id: P, body: x.PairIn) -> x.Started:
    return x.Started(jobs=[links.start_pair(project_id, body.a, body.b, body.T_a_b)])


@api.patch("/projects/{project_id}/links/{link_id}", operation_id="switch_link")
def switch_link(project_id: P, link_id: P, body: x.Used) -> x.NetworkOut:
    links.switch_link(project_id, link_id, body.used, body.version)
    return get_network(project_id)


@api.get("/projects/{project_id}/network", operation_id="get_network")
def get_network(project_id: P) -> x.NetworkOut:
    from ...steps.tie.network import empty

    with db.session() as s:
        project = get_project(s, project_id)
        row = s.get(SolutionRow, project_id)
        data = row.data if row else empty()
        names = {st.id: st.name for st in stations_of(s, project_id)}
        out = [
            link_out(k, names, data["links"].get(k.id))
            for k in s.scalars(select(Link).where(Link.project_id == project_id))
            if k.a in names and k.b in names
        ]
        rank = {"parted": 0, "slack": 1, "loose": 2, "taut": 3}
        out.sort(key=lambda k: (rank[k.status], k.name_a, k.name_b))
        return x.NetworkOut(
            revision=row.network_revision if row else 0,
            out_of_date=row is not None and row.network_revision != project.network_revision,
            links=out,
            **{k: data[k] for k in ("sentence", "sigma0", "degrees_of_freedom", "global_test", "parts", "findings")},
        )


def link_out(k: Link, names: dict[str, str], own: dict[str, Any] | None) -> x.LinkOut:
    own = own or {
        "status": "loose",
        "sentence": "Not computed yet.",
        "residual_mm": None,
        "residual_mdeg": None,
        "redundancy": None,
        "reasons": [],
    }
    e = k.evidence
    first, second = pair_of(k, names)
    return x.LinkOut(
        id=k.id,
        version=k.version,
        a=k.a if names[k.a] == first else k.b,
        b=k.b if names[k.a] == first else k.a,
        name_a=first,
        name_b=second,
        kind=k.kind,
        used=k.used,
        status=own["status"],
        sentence=own["sentence"],
        fit_median_mm=1000 * e["fit_median"],
        fit_rms_mm=1000 * e["fit_rms"],
        fit_p90_mm=1000 * e["fit_p90"],
        histogram=e["histogram"],
        overlap=e["overlap"],
        see_through=e["see_through"],
        weak_sigma_mm=1000 * e["weak_sigma"],
        weak_direction=e["weak_direction"],
        residual_mm=own["residual_mm"],
        residual_mdeg=own["residual_mdeg"],
        redundancy=own["redundancy"],
        reasons=own["reasons"],
    )


@api.post("/projects/{project_id}/targets/find", operation_id="find_targets", status_code=202)
def find_targets(project_id: P, body: x.SpheresIn) -> x.Started:
    return x.Started(jobs=[targets.start_find(project_id, [r / 1000 for r in body.radii_mm])])


@api.post("/projects/{project_id}/targets/regroup", operation_id="regroup_targets")
def regroup_targets(project_id: P) -> x.Said:
    targets.regroup(project_id)
    return x.Said(message="matched by place")


@api.get("/projects/{project_id}/sightings", operation_id="list_sightings")
def list_sightings(project_id: P) -> list[x.SightingOut]:
    with db.session() as s:
        get_project(s, project_id)
        row = s.get(SolutionRow, project_id)
        found = row.data.get("targets", {}) if row else {}
        stations_by = {st.id: st for st in stations_of(s, project_id)}
        out = []
        for g in s.scalars(select(Sighting).where(Sighting.project_id == project_id)):
            if g.station_id not in stations_by:
                continue
            st, own = stations_by[g.station_id], found.get(g.target)
            position = None if st.pose is None else frames.apply(matrix(st.pose), np.array([g.centre]))[0].tolist()
            out.append(
                x.SightingOut(
                    id=g.id,
                    version=g.version,
                    station=st.id,
                    station_name=st.name,
                    target=g.target,
                    radius_mm=1000 * g.radius,
                    rms_mm=1000 * g.rms,
                    points=g.points,
                    sigma_mm=1000 * float(np.sqrt(np.trace(np.array(g.covariance).reshape(3, 3)))),
                    remark=g.remark,
                    used=g.used,
                    position=position,
                    spread_mm=own["spread_mm"] if own and own["sightings"] > 1 else None,
                )
            )
        return sorted(out, key=lambda g: (g.target == "", len(g.target), g.target, g.station_name))


@api.patch("/projects/{project_id}/sightings/{sighting_id}", operation_id="change_sighting")
def change_sighting(project_id: P, sighting_id: P, body: x.SightingPatch) -> x.Said:
    targets.change_sighting(project_id, sighting_id, body.version, body.used, body.target)
    return x.Said(message="changed")
