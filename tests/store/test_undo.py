"""Every kind of change, all taken back and all brought back: every table and every delivered point at each state."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from sqlalchemy import text

from taut_lantern.core import frames
from taut_lantern.core.errors import Conflict, LanternError
from taut_lantern.formats import e57
from taut_lantern.site.common import Progress, numbers, stations_of
from taut_lantern.site.solution import empty, refresh_solution
from taut_lantern.steps import projects
from taut_lantern.steps.bring_in import stations
from taut_lantern.steps.clean import acting, boxes, edits, selecting, zones
from taut_lantern.steps.draw import cuts, finding, sheets, tracing
from taut_lantern.steps.hand_over import deliver
from taut_lantern.steps.place import control
from taut_lantern.steps.tie import links, targets
from taut_lantern.store import journal
from taut_lantern.store.db import Damaged, file_chunks, session
from taut_lantern.store.marks import class_marks, classes_from, deleted_mask, hidden_mask
from taut_lantern.store.models import JOURNALED, Control, CropBox, Edit, Link, Section, Sighting, Station, Trace, Zone
from taut_lantern.store.tiles import read_station
from tests.support import bring_in, link_rows, make_project, room, write_scan

ABOVE = [0.3, 0, 0, 0, 0, 0.4, 0, 0, 0, 0, -0.2, 0, 0, 0, 0, 1]
TABLES = [*JOURNALED, "solution"]


def rows(project: str) -> dict[str, Any]:
    """All rows in sight of a project, without what counts changes."""
    out: dict[str, Any] = {}
    with session() as s:
        for table in TABLES:
            key = "id" if table == "project" else "project_id"
            sight = "" if table == "solution" else "AND NOT deleted"
            found = s.execute(text(f"SELECT to_jsonb(t) FROM {table} t WHERE {key} = :p {sight}"), {"p": project}).scalars()
            skip = {"version", "network_revision"}  # they count what was done, and undo is something done
            out[table] = sorted(({k: v for k, v in r.items() if k not in skip} for r in found), key=str)
    out["solution"] = [r["data"] for r in out["solution"]] or [empty()]
    return out


def points(project: str) -> dict[str, str]:
    """Checksum of what is seen of each station and of its classes, read back from the store through the marks."""
    out = {}
    with session() as s:
        for x in stations_of(s, project):
            scan = read_station(s, x)
            seen = ~deleted_mask(s, x) & ~hidden_mask(s, x)
            out[x.name] = hashlib.sha256(scan.xyz[seen].tobytes() + classes_from(class_marks(s, x.id), x.points).tobytes()).hexdigest()
    return out


def delivered(project: str, folder: Path) -> dict[str, tuple[int, str]]:
    """Points and their checksum in a delivered E57, by station."""
    made = deliver.make(project, {"what": "e57"}, Progress())
    path = folder / "out.e57"
    path.write_bytes(b"".join(file_chunks(made["delivery"], made["size"])))
    heads = e57.headers(path)
    return {h.name: (h.points, hashlib.sha256(e57.points(path, k)[0].xyz.tobytes()).hexdigest()) for k, h in enumerate(heads)}


def ids(project: str, model: type[Any]) -> list[str]:
    from sqlalchemy import select

    with session() as s:
        return list(s.scalars(select(model.id).where(model.project_id == project).order_by(model.id)))


def link_both(project: str) -> None:
    a, b = (ids(project, Station) + ["", ""])[:2]
    if not b or ids(project, Link):
        raise LanternError("there are no two, or they are linked")
    link_rows(project, (a, b, frames.pose(0.0, (1.0, 0, 0))))


def sight(project: str) -> None:
    with journal.change(project, "Saw a sphere", network=True) as c:
        for k, x in enumerate(ids(project, Station)[:2]):
            row = Sighting(project_id=project, station_id=x, radius=0.1, rms=0.001, points=90, by_hand=[])
            row.centre, row.covariance = [2.0 - k, 0, 0], numbers(1e-6 * np.eye(3))
            c.s.add(row)
        c.s.flush()
        refresh_solution(c.s, c.project)


def lasso(project: str, reach: float) -> None:
    outline = [[-reach, -reach], [reach, -reach], [reach, reach], [-reach, reach]]
    edits.delete_in_lasso(project, ABOVE, outline, ids(project, Station))


def chosen(project: str, do: str, among: str = "living", **given: Any) -> None:
    """Select a ball of what is seen, or of what is deleted, and do something with it."""
    ball = {"kind": "sphere", "centre": [1.0, 0.5, 0.0], "radius": 2.2}
    told = selecting.choose(project, ball, ids(project, Station), among=among)
    acting.act(project, do, told["revision"], {"sure": True, "stations": ids(project, Station), **given})


def first(project: str, model: type[Any]) -> str:
    found = ids(project, model)
    if not found:
        raise LanternError("there is none")
    return found[0]


def changes(folder: Path) -> dict[str, Callable[[str], Any]]:
    number = iter(range(1000))

    def scan(project: str) -> None:
        k = next(number)
        bring_in(project, [write_scan(folder / f"{project}-{k}.e57", room(900, seed=k), name=f"ST-{k}")])

    return {
        "bring in": scan,
        "rename": lambda p: stations.change_station(p, first(p, Station), None, f"Hall {next(number)}", None),
        "take out": lambda p: stations.change_station(p, ids(p, Station)[-1], None, None, True),
        "link": link_both,
        "switch": lambda p: links.switch_link(p, first(p, Link), False, None),
        "sight": sight,
        "name targets": targets.regroup,
        "leave a sighting out": lambda p: targets.change_sighting(p, first(p, Sighting), None, False, "K1"),
        "control": lambda p: control.take_in(p, f"a;{next(number)};2;3\nb;4;5;6\nc;7;8;1\n", "c.csv", None, "m"),
        "other control": lambda p: control.take_in(p, "b;4;5;6\nd;7;8;1\n", "d.csv", None, "m"),
        "role": lambda p: control.change_control(p, first(p, Control), None, "off", None),
        "lasso": lambda p: lasso(p, 0.3),
        "larger lasso": lambda p: lasso(p, 0.8),
        "switch an edit": lambda p: edits.switch_edit(p, first(p, Edit), False, None),
        "delete a ball": lambda p: chosen(p, "delete"),
        "bring part back": lambda p: chosen(p, "restore", "deleted"),
        "class": lambda p: chosen(p, "class", code=6),
        "zone": lambda p: chosen(p, "keep", name=f"zone {next(number)}"),
        "hide": lambda p: chosen(p, "hide"),
        "show only": lambda p: chosen(p, "only"),
        "lock": lambda p: zones.change_zone(p, first(p, Zone), None, {"locked": True}),
        "give a zone up": lambda p: zones.remove_zone(p, first(p, Zone), None),
        "box": lambda p: boxes.set_box(p, f"box {next(number)}", [0, 0, 0], [2, 2, 2], 0.1),
        "remove a box": lambda p: boxes.remove_box(p, first(p, CropBox)),
        "section": lambda p: cuts.make_section(p, "plan", {"height": 0.1, "behind": 0.5}),
        "delete a section": lambda p: cuts.delete_section(p, first(p, Section)),
        "fit": lambda p: finding.job(p, {"section_id": first(p, Section)}, Progress()),
        "draw": lambda p: tracing.draw(p, first(p, Section), "line", "wall", [[0, 0], [1, 1]]),
        "move a section": lambda p: cuts.change_section(p, first(p, Section), None, None, {"behind": 0.4}),
        "copy a trace": lambda p: tracing.edit(p, "copy", [first(p, Trace)], [[0, 0], [0.5, 0.5]]),
        "mirror a trace": lambda p: tracing.edit(p, "mirror", [first(p, Trace)], [[0, 0], [0, 1]]),
        "remove a trace": lambda p: tracing.remove(p, [first(p, Trace)]),
        "layers": lambda p: tracing.layers_from(p, "plant"),
        "name a layer": lambda p: tracing.rename_layer(p, "pipe", f"pipe {next(number)}"),
        "sheet": lambda p: sheets.make(p, f"sheet {next(number)}", {"sections": [first(p, Section)]}),
        "accept": lambda p: tracing.change(p, first(p, Trace), None, "accepted", "pipe"),
        "reject": lambda p: tracing.change(p, first(p, Trace), None, "rejected", None),
        "unit": lambda p: projects.change_project(p, None, f"Site {next(number)}", "mm", "topographic", None),
    }


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("undo")


KINDS = list(changes(Path("/")))


@given(st.lists(st.sampled_from(KINDS), min_size=4, max_size=14))
@settings(max_examples=12, phases=[Phase.generate], suppress_health_check=list(HealthCheck))
def test_undo_and_redo_lead_through_the_very_same_states(database: str, folder: Path, steps: list[str]) -> None:
    project, do = make_project("every change"), changes(folder)
    for kind in ("bring in", "bring in"):
        do[kind](project)
    walk(project, [*steps], do)


def walk(project: str, steps: list[str], do: dict[str, Callable[[str], Any]]) -> None:
    def last_entry() -> int:
        with session() as s:
            known = projects.describe(s, project)["undo"]
            return known["entry"] if known else 0

    states, last = [(rows(project), points(project))], last_entry()
    for kind in steps:
        try:
            do[kind](project)
        except LanternError:
            continue  # there is nothing that it could change now
        if (entry := last_entry()) == last:
            continue  # it found nothing to change
        last = entry
        states.append((rows(project), points(project)))
    for expected in reversed(states[:-1]):
        title = projects.undo(project)
        assert differing(project, expected) == {}, f"taking back: {title} of {steps}"
    for expected in states[1:]:
        title = projects.undo(project, redo=True)
        assert differing(project, expected) == {}, f"bringing back: {title} of {steps}"


def differing(project: str, expected: tuple[dict[str, Any], dict[str, str]]) -> dict[str, Any]:
    """Tables, and the points, that are not as they were: what is there, and what was."""
    now, before = (
        {**r, **r.pop("solution")[0], "points": p} for r, p in ((rows(project), points(project)), (dict(expected[0]), expected[1]))
    )
    return {
        k: [
            x
            for a, b in ((now[k], before[k]), (before[k], now[k]))
            for x in (a.items() if isinstance(a, dict) else a)
            if x not in (b.items() if isinstance(b, dict) else b)
        ]
        for k in now
        if now[k] != before[k]
    }


def test_every_kind_of_change_in_one_project_is_taken_back_and_brought_back_with_its_points(database: str, folder: Path) -> None:
    project, do = make_project("all of them"), changes(folder)
    order = ["bring in", "bring in", "link", "sight", "name targets", "control", "box", "section", "fit", "accept", "reject", "lasso"]
    walk(project, [*order, *(k for k in KINDS if k not in order)], do)


def test_what_goes_out_after_undo_and_redo_is_what_went_out_before(database: str, folder: Path, tmp_path: Path) -> None:
    project = make_project("delivered")
    bring_in(project, [write_scan(tmp_path / "ST-1.e57", room(4000), name="ST-1")])
    whole = delivered(project, tmp_path)
    lasso(project, 0.5)
    cut = delivered(project, tmp_path)
    assert 0 < cut["ST-1"][0] < whole["ST-1"][0] == 4000
    for _ in range(2):
        projects.undo(project)
        assert delivered(project, tmp_path) == whole
        projects.undo(project)  # the station itself
        with pytest.raises(LanternError):
            deliver.start(project, "e57", {})
        projects.undo(project, redo=True)
        assert delivered(project, tmp_path) == whole
        projects.undo(project, redo=True)
        assert delivered(project, tmp_path) == cut


def test_undo_takes_back_the_entry_that_is_named_and_no_other(database: str) -> None:
    project = make_project("two tabs")
    boxes.set_box(project, "one", [0, 0, 0], [1, 1, 1], 0.0)
    with session() as s:
        seen = projects.describe(s, project)["undo"]
    boxes.set_box(project, "two", [0, 0, 0], [1, 1, 1], 0.0)  # somebody else, meanwhile
    before = rows(project)
    with pytest.raises(Conflict, match="Set the crop box two") as caught:
        projects.undo(project, entry=seen["entry"])
    assert caught.value.code == "not_the_last" and rows(project) == before


def test_a_station_whose_tiles_do_not_cover_its_points_is_never_read_as_if_they_did(database: str, tmp_path: Path) -> None:
    project = make_project("damaged")
    (station,) = bring_in(project, [write_scan(tmp_path / "ST-1.e57", room(60_000, (30, 20, 6)), name="ST-1")])
    with session() as s:
        s.execute(text("DELETE FROM tile WHERE id = (SELECT max(id) FROM tile WHERE station_id = :s)"), {"s": station})
    with session() as s, pytest.raises(Damaged, match=r"ST-1: [\d,]+ of 60,000 points are in the store"):
        read_station(s, s.get_one(Station, station))
    with pytest.raises(Damaged):
        deliver.make(project, {"what": "laz"}, Progress())
