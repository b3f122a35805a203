"""The network as people look at it: parts, findings, links with their evidence."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.align.contradiction import BARE
from ...core.align.evidence import Evidence
from ...core.errors import NotFound
from ...site.common import get_project, matrix, numbers, owned, stations_of
from ...site.solution import empty, pair_of, solution_of
from ...store.models import Link, SolutionRow
from .carried import carried

WHOLE = ("sentence", "histogram", "weak_direction", "contradicted_m2", "allowed_m2", "distinct_m2", "region", "bare_m2")  # of a link alone
RANK = {"parted": 0, "slack": 1, "loose": 2, "taut": 3}  # what wants looking at comes first
NOTHING: dict[str, Any] = {
    "status": "loose",
    "sentence": "Not computed yet.",
    "residual_mm": None,
    "residual_mdeg": None,
    "redundancy": None,
    "reasons": [],
}


def describe(s: Session, project_id: str) -> dict[str, Any]:
    project = get_project(s, project_id)
    row = s.get(SolutionRow, project_id)
    data = row.data if row else empty()
    names = {x.id: x.name for x in stations_of(s, project_id)}
    links = [
        summary(describe_link(k, names, data["links"].get(k.id, NOTHING)))
        for k in s.scalars(select(Link).where(Link.project_id == project_id))
        if k.a in names and k.b in names
    ]
    return {
        "revision": row.network_revision if row else 0,
        "out_of_date": row is not None and row.network_revision != project.network_revision,
        "links": sorted(links, key=lambda k: (RANK[k["status"]], k["name_a"], k["name_b"])),
        **{k: data[k] for k in ("sentence", "sigma0", "degrees_of_freedom", "global_test", "converged", "parts", "findings")},
    }


def one_link(s: Session, project_id: str, link_id: str) -> dict[str, Any]:
    """A link with everything that is known of it."""
    k = owned(s, Link, project_id, link_id, "link")
    names = {x.id: x.name for x in stations_of(s, project_id)}
    if k.a not in names or k.b not in names:
        raise NotFound("a station of this link was taken out", subject=link_id, remedy="bring it back with undo")
    return describe_link(k, names, solution_of(s, project_id)["links"].get(k.id, NOTHING)) | {"carried": carried(s, k)}


def _region(k: Link, in_order: bool) -> dict[str, Any] | None:
    """The box of a link in the frame of the station that is named first."""
    if not k.region:
        return None
    T_a_box = matrix(k.region["T_a_box"])
    t = T_a_box if in_order else frames.inverse(matrix(k.T_a_b)) @ T_a_box
    return {"T_a_box": numbers(t), "half": k.region["half"]}


def summary(link: dict[str, Any]) -> dict[str, Any]:
    """What a list of links holds of one."""
    return {key: value for key, value in link.items() if key not in WHOLE}


def describe_link(k: Link, names: dict[str, str], own: dict[str, Any]) -> dict[str, Any]:
    """A link with its stations in the order in which people name them."""
    e, (first, second) = Evidence.of(k.evidence), pair_of(k, names)
    return {
        "id": k.id,
        "version": k.version,
        "a": k.a if names[k.a] == first else k.b,
        "b": k.b if names[k.a] == first else k.a,
        "name_a": first,
        "name_b": second,
        "kind": k.kind,
        "used": k.used,
        "fit_median_mm": 1000 * e.fit_median,
        "fit_rms_mm": 1000 * e.fit_rms,
        "fit_p90_mm": 1000 * e.fit_p90,
        "histogram": e.histogram,
        "overlap": e.overlap,
        "see_through": e.see_through,
        "weak_sigma_mm": 1000 * e.weak_sigma,
        "weak_direction": e.weak_direction,
        "contradicted_m2": e.contradicted_m2,
        "allowed_m2": e.allowed_m2,
        "distinct_m2": e.distinct_m2,
        "region": _region(k, names[k.a] == first),
        "bare_m2": BARE,
        **{key: own[key] for key in NOTHING},
    }
