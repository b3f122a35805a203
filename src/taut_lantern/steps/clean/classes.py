"""Classes of points: our short list, with the codes of the LAS specification where it has one (ASPRS LAS 1.4, table 17), and those that
people add to a project."""

from __future__ import annotations

from typing import Any

from ...core.errors import BadInput, Conflict
from ...site.common import clean_name, get_project
from ...store import journal
from ...store.db import session
from ...store.models import Project

OURS = {
    2: "ground",
    6: "structure",
    5: "vegetation",
    7: "noise",
    64: "pipe",
    65: "equipment",
    66: "furniture",
    67: "mover",
    68: "other",
}
FIRST, LAST = 100, 255  # codes of those that people add: the specification leaves them to us


def classes_of(project: Project) -> list[dict[str, Any]]:
    """Code and name of each, ours first; own: somebody added it."""
    ours = [{"code": code, "name": name, "own": False} for code, name in OURS.items()]
    return ours + [{"code": c["code"], "name": c["name"], "own": True} for c in project.classes]


def name_of(project: Project, code: int) -> str:
    """BadInput when there is no such class; 0 is none."""
    if code == 0:
        return "none"
    found = next((c["name"] for c in classes_of(project) if c["code"] == code), None)
    if found is None:
        raise BadInput(f"there is no class {code}", subject="class", remedy="choose one of the list, or add it")
    return str(found)


def list_classes(project_id: str) -> list[dict[str, Any]]:
    with session() as s:
        return classes_of(get_project(s, project_id))


def add(project_id: str, name: str) -> int:
    """A class more. Returns its code."""
    name = clean_name(name, "class")[:60]
    with journal.change(project_id, f"Added the class {name}", topic="project") as c:
        known = classes_of(c.project)
        if any(x["name"].casefold() == name.casefold() for x in known):
            raise Conflict(f"there is a class {name} already", subject=name, remedy="choose it, or give another name", code="name_taken")
        code = max([FIRST - 1, *(x["code"] for x in known if x["own"])]) + 1
        if code > LAST:
            raise BadInput("there are no codes left for another class", subject=name, remedy="use one of those that are there")
        c.project.classes = [*c.project.classes, {"code": code, "name": name}]
        return int(code)
