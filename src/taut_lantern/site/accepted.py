"""What somebody accepted, and whether it still stands: an acceptance holds for what was looked at, and for nothing that came after."""

from __future__ import annotations

import hashlib
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..store.models import Acceptance, Link, Project
from .common import profile_of, stations_of
from .solution import solution_of

MOVED_MM = 0.5  # the residual of a link after adjustment may change by so much without being another one: a tenth of the tightest profile
LOOSE: dict[str, Any] = {"status": "loose", "residual_mm": None}


def digest(values: list[float]) -> str:
    return hashlib.sha256(repr([round(v, 9) for v in values]).encode()).hexdigest()[:16]


def link_state(k: Link, own: dict[str, Any]) -> dict[str, Any]:
    """What is accepted of a link."""
    return {"placement": digest(k.T_a_b), "used": k.used, "status": own["status"], "residual_mm": own["residual_mm"]}


def network_state(project: Project, stations: list[str], links: list[Link], data: dict[str, Any]) -> dict[str, Any]:
    """What is accepted of the network as a whole."""
    return {
        "stations": sorted(stations),
        "links": {k.id: link_state(k, data["links"].get(k.id, LOOSE)) for k in links},
        "profile": profile_of(project).name,
        "passed": data["global_test"]["passed"],
    }


def why_not_link(then: dict[str, Any], now: dict[str, Any] | None) -> str:
    """Why an acceptance of a link stands no more, in words; "" while it does."""
    if now is None:
        return "the link was taken out"
    if then["placement"] != now["placement"]:
        return "the link was made anew"
    if then["used"] != now["used"]:
        return f"the link was switched {'on' if now['used'] else 'off'}"
    if then["status"] != now["status"]:
        return f"it was {then['status']} and is {now['status']} now"
    was, is_ = then["residual_mm"], now["residual_mm"]
    if (was is None) != (is_ is None) or (was is not None and is_ is not None and abs(was - is_) > MOVED_MM):
        told = ["nothing" if v is None else f"{v:.1f} mm" for v in (was, is_)]
        return f"after adjustment {told[0]} was left and {told[1]} is now"
    return ""


def why_not_network(then: dict[str, Any], now: dict[str, Any]) -> str:
    """Why an acceptance of the network stands no more; "" while it does."""
    gone, new = len(set(then["stations"]) - set(now["stations"])), len(set(now["stations"]) - set(then["stations"]))
    if gone or new:
        return f"{new} stations came and {gone} went"
    if then["profile"] != now["profile"]:
        return f"the tolerance profile was {then['profile']} and is {now['profile']} now"
    changed = [k for k in then["links"].keys() | now["links"].keys() if _changed(then["links"].get(k), now["links"].get(k))]
    if changed:
        return f"{len(changed)} {'link' if len(changed) == 1 else 'links'} changed"
    return "" if then["passed"] == now["passed"] else "the global test has another outcome"


def _changed(then: dict[str, Any] | None, now: dict[str, Any] | None) -> bool:
    return then is None or bool(why_not_link(then, now))


def acceptances(s: Session, project: Project) -> list[dict[str, Any]]:
    """Of each link, and of the network, the last one: who accepted it, when, and why it stands no more if so. The network's first."""
    rows = list(s.scalars(select(Acceptance).where(Acceptance.project_id == project.id).order_by(Acceptance.accepted_at)))
    if not rows:
        return []
    stations = {x.id: x.name for x in stations_of(s, project.id)}
    links = {k.id: k for k in s.scalars(select(Link).where(Link.project_id == project.id)) if {k.a, k.b} <= stations.keys()}
    data = solution_of(s, project.id)
    whole = network_state(project, list(stations), list(links.values()), data)
    last = {r.link_id: r for r in rows}
    out = []
    for link_id, r in sorted(last.items(), key=lambda x: (x[0] is not None, x[1].accepted_at)):
        if r.withdrawn_by:
            why = f"withdrawn by {r.withdrawn_by}"
        elif link_id is None:
            why = why_not_network(r.state, whole)
        else:
            why = why_not_link(r.state, whole["links"].get(link_id))
        k = links.get(link_id) if link_id else None
        what = "the network" if link_id is None else " · ".join((stations[k.a], stations[k.b])) if k else "a link that was taken out"
        out.append(
            {
                "id": r.id,
                "version": r.version,
                "link": link_id,
                "what": what,
                "by": r.accepted_by,
                "at": r.accepted_at,
                "remark": r.remark,
                "stands": not why,
                "why": why,
            }
        )
    return out
