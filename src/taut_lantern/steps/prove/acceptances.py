"""Accept a link or the network, with name, time and a remark; withdraw it. Later changes withdraw it by themselves (site.accepted)."""

from __future__ import annotations

from sqlalchemy import select

from ...core.errors import BadInput, NotEnough
from ...site.accepted import LOOSE, link_state, network_state
from ...site.common import get_station, owned, stations_of
from ...site.solution import solution_of
from ...store import journal
from ...store.db import actor
from ...store.models import Acceptance, Link, SolutionRow, now


def accept(project_id: str, link_id: str | None, remark: str, name: str = "") -> str:
    """Accept what is there now: the network must be computed. name: of who accepts it, when that is not who is signed in."""
    with journal.change(project_id, "") as c:
        solved = c.s.get(SolutionRow, project_id)
        if solved is not None and solved.network_revision != c.project.network_revision:
            raise BadInput(
                "the network changed since it was computed", subject="network", remedy="wait until it is adjusted, and look again"
            )
        data, stations = solution_of(c.s, project_id), stations_of(c.s, project_id)
        here = {x.id for x in stations}
        links = [k for k in c.s.scalars(select(Link).where(Link.project_id == project_id)) if {k.a, k.b} <= here]
        if link_id is None:
            if not links:
                raise NotEnough("there is no network to accept yet", subject="network", remedy="tie the stations first")
            parted = [k for k in links if k.used and data["links"].get(k.id, LOOSE)["status"] == "parted"]
            if parted:
                names = {x.id: x.name for x in stations}
                raise BadInput(
                    f"{len(parted)} links in use are parted, {names[parted[0].a]} · {names[parted[0].b]} among them",
                    subject="network",
                    remedy="switch them off or mend them, then accept what is left",
                    code="parted",
                )
            state, what = network_state(c.project, list(here), links, data), "the network"
        else:
            link = owned(c.s, Link, project_id, link_id, "link")
            state = link_state(link, data["links"].get(link_id, LOOSE))
            if state["status"] == "loose":
                raise BadInput("this link is not computed, or out of date", subject=link_id, remedy="wait until the network is adjusted")
            what = f"the link {get_station(c.s, project_id, link.a).name} · {get_station(c.s, project_id, link.b).name}"
        row = Acceptance(
            project_id=project_id,
            link_id=link_id,
            accepted_by=name.strip() or actor.get(),
            accepted_at=now(),
            remark=remark.strip(),
            state=state,
        )
        c.s.add(row)
        c.title = f"Accepted {what}" + (f": {remark.strip()[:120]}" if remark.strip() else "")
        c.s.flush()
        return str(row.id)


def withdraw(project_id: str, acceptance_id: str, version: int) -> None:
    with journal.change(project_id, "Withdrew an acceptance") as c:
        row = owned(c.s, Acceptance, project_id, acceptance_id, "acceptance")
        journal.checked_version(row, version, "the acceptance")
        row.withdrawn_by = actor.get()
