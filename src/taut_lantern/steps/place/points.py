"""Control points one by one: given by hand, taken away; and targets that go by the name of the control point they are."""

from __future__ import annotations

import re

from sqlalchemy import select

from ...core.errors import BadInput
from ...site.common import clean_name, owned
from ...site.placing import control_of
from ...site.solution import refresh_solution
from ...store import journal
from ...store.models import Control, Target

AUTOMATIC = re.compile(r"[TP]\d+")  # a name that the program gave


def add(
    project_id: str, name: str, enh: tuple[float | None, float | None, float | None], sigma: float | None, target_id: str | None = None
) -> str:
    """A control point of which at least one coordinate is given, metres; sigma: its deviation; target_id: what it is."""
    called = clean_name(name, "")[:120]
    if not called:
        raise BadInput("a control point needs a name", subject="name", remedy="name it as the surveyor does")
    if enh == (None, None, None):
        raise BadInput(f"{called} has no coordinate", subject=called, remedy="give E, N or H")
    with journal.change(project_id, f"Gave the control point {called}", topic="control") as c:
        if any(r.name == called for r in control_of(c.s, project_id)):
            raise BadInput(
                f"there is a control point {called} already", subject=called, remedy="choose another name, or take that one away"
            )
        row = Control(project_id=project_id, name=called, enh=list(enh), sigma=[], unit=c.project.unit, remark="by hand", by_hand=["made"])
        if sigma is not None:
            row.sigma = [None if v is None else sigma for v in enh]
        if target_id is not None:
            row.target_id = owned(c.s, Target, project_id, target_id, "target").id
            row.matched_by = "hand"
            row.decided("target")
        c.s.add(row)
        c.s.flush()
        take_names(c)
        return row.id


def remove(project_id: str, control_id: str, version: int | None) -> None:
    with journal.change(project_id, "", topic="control") as c:
        row = owned(c.s, Control, project_id, control_id, "control point")
        journal.checked_version(row, version, f"the control point {row.name}")
        c.title = f"Took the control point {row.name} away"
        c.remove(row)


def take_names(c: journal.Change) -> list[str]:
    """Targets that the program named take the name of the control point that they are matched to. Returns what was renamed, as said."""
    project_id, said = c.project.id, []
    targets = {t.id: t for t in c.s.scalars(select(Target).where(Target.project_id == project_id))}
    taken = {t.name for t in targets.values()}
    for r in control_of(c.s, project_id):
        t = targets.get(r.target_id or "")
        if t is not None and AUTOMATIC.fullmatch(t.name) and r.name not in taken:
            said.append(f"{t.name} is now {r.name}")
            taken.add(r.name)
            t.name = r.name
    if said:
        c.network = True
        c.s.flush()
        refresh_solution(c.s, c.project)
    return said


def match_by_list(project_id: str, text: str) -> int:
    """Match control to targets by lines of target and control point, names that differ; all of them or none. Returns how many."""
    pairs = []
    for number, line in enumerate(text.lstrip("\ufeff").splitlines(), 1):
        if line.strip() and not line.lstrip().startswith("#"):
            cells = [c.strip() for c in re.split(r"[;\t,=]|\s{2,}|\s(?=\S+$)", line.strip()) if c.strip()]
            if len(cells) != 2:
                raise BadInput(
                    f"line {number} holds no two names: {line.strip()[:60]}", subject="list", remedy="write target; control point"
                )
            pairs.append((number, cells[0], cells[1]))
    if not pairs:
        raise BadInput("the list is empty", subject="list", remedy="write a line for each pair: target; control point")
    with journal.change(project_id, f"Matched {len(pairs)} control points by a list", topic="control") as c:
        targets = {t.name: t for t in c.s.scalars(select(Target).where(Target.project_id == project_id))}
        rows = {r.name: r for r in control_of(c.s, project_id)}
        for number, target, point in pairs:
            if target not in targets and target in rows and point in targets:
                target, point = point, target  # written the other way round
            for name, known, what in ((target, targets, "target"), (point, rows, "control point")):
                if name not in known:
                    raise BadInput(f"line {number}: there is no {what} {name}", subject="list", remedy="correct that line")
            row = rows[point]
            row.target_id, row.matched_by = targets[target].id, "hand"
            row.decided("target")
        c.s.flush()
        take_names(c)
    return len(pairs)
