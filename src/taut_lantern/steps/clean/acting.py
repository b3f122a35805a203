"""What is done with a selection: deleted, hidden, shown alone, given a class, kept as a zone, brought back."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from ...core.clean.select import All
from ...core.errors import BadInput, Conflict
from ...site.common import owned, settled, state_of, still
from ...store import journal
from ...store.marks import packed
from ...store.models import Station, Zone
from . import looking, selecting, zones
from .classes import name_of
from .edits import TOO_MUCH, Index, Left, left_of, living, made, restore
from .shapes import Chosen

DOES = ("delete", "hide", "only", "class", "keep", "into", "out_of", "restore")


def act(project_id: str, do: str, revision: int, given: Mapping[str, Any]) -> dict[str, Any]:
    """Do something with what whoever asks has selected. revision: of the selection that was looked at.

    given, as ``do`` needs it: sure (bool: also more than a fifth of a station), stations (those that are seen), code (of a class), name and
    parent (of a zone), zone. Returns the number of points, the id of what was made, how many were spared because they are locked or gone
    by now, and a message.
    """
    if do not in DOES:
        raise BadInput(f"nothing is done as {do!r}", subject="do", remedy=f"use {', '.join(DOES)}")

    def compute(s: Session) -> tuple[int, dict[str, Index], int, dict[str, Left]]:
        state = state_of(s, project_id)
        parts, spared = _meant(s, project_id, do, revision, given)
        return state, parts, spared, left_of(s, project_id, parts) if do == "restore" else {}

    return settled(compute, lambda meant: _done(project_id, do, revision, given, *meant), project_id)


def _meant(s: Session, project_id: str, do: str, revision: int, given: Mapping[str, Any]) -> tuple[dict[str, Index], int]:
    """(points by station, how many of the selection are left out), in one state of the project."""
    _, last, chosen = selecting.points_of(s, project_id, revision)
    total = sum(len(i) for i in chosen.values())
    if not total or last is None:
        raise BadInput("nothing is selected", subject="selection", remedy="select points first", code="nothing_selected")
    if (last["among"] == "deleted") != (do == "restore"):
        raise BadInput(
            "deleted points can only be brought back" if last["among"] == "deleted" else "these points are not deleted",
            subject="selection",
            remedy="bring them back, or select living points"
            if last["among"] == "deleted"
            else "look at what is deleted, and select there",
        )
    if do == "only":
        shown = looking.look(s, project_id, Chosen(All()), list(given.get("stations") or []))
        nothing = np.zeros(0, np.int64)
        rest = {x: np.setdiff1d(i, chosen.get(x, nothing), assume_unique=True) for x, i in (shown.parts or {}).items()}
        return {x: i for x, i in rest.items() if len(i)}, 0
    if do == "restore":
        return chosen, 0
    parts = living(s, chosen)
    return parts, total - sum(len(i) for i in parts.values())


def _done(
    project_id: str,
    do: str,
    revision: int,
    given: Mapping[str, Any],
    state: int,
    parts: dict[str, Index],
    spared: int,
    left: dict[str, Left],
) -> dict[str, Any]:
    count, own = sum(len(i) for i in parts.values()), None
    with journal.change(project_id, "", topic="edits" if do in ("delete", "class", "restore") else "zones") as c:
        still(c.s, project_id, state)
        selecting.points_of(c.s, project_id, revision)  # another window may have gone on since
        if not count and do != "only":
            raise Conflict(
                "all of what was selected is gone or locked by now", subject="selection", remedy="select again", code="nothing_selected"
            )
        if do == "delete":
            if not given.get("sure"):
                _not_too_much(c.s, parts)
            own = made(c, f"Deleted {count:,} points", count, packed(parts)).id
        elif do == "class":
            name = name_of(c.project, int(given["code"]))
            own = made(c, f"{count:,} points: class {name}", count, packed(parts), does="class", detail={"class": int(given["code"])}).id
        elif do == "restore":
            count = restore(c, left)
        elif do in ("hide", "only"):
            zones.hide(c, parts)
            if do == "only":
                c.title = "Showed only what was selected"
        elif do == "keep":
            own = zones.keep(c, parts, str(given.get("name") or "zone"), given.get("parent")).id
        else:
            zones.change_points(c, owned(c.s, Zone, project_id, str(given["zone"]), "zone"), parts, do == "into")
        if do not in ("keep", "class", "into", "out_of", "only"):
            selecting.empty_after(c.s, project_id)
        return {"id": own, "count": count, "spared": spared, "message": c.title}


def _not_too_much(s: Session, parts: Mapping[str, Index]) -> None:
    share, station = max(((len(index) / (x := s.get_one(Station, key)).points, x) for key, index in parts.items()), key=lambda own: own[0])
    if share > TOO_MUCH:
        raise Conflict(
            f"that is {100 * share:.0f} % of {station.name}",
            subject=station.name,
            remedy="look whether it is meant, and say that you are sure",
            code="too_much",
        )
