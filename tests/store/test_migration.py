"""A filled database of the first version comes along with nothing lost, and what that version lost is told."""

from __future__ import annotations

import gzip
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import laspy
import numpy as np
import psycopg
import pytest

from tests.databases import SERVER, fresh_database, give_roles
from tests.served import Served

FIXTURES = Path(__file__).parents[1] / "fixtures"
BULK = "SELECT count(*), sum(length(data)), md5(string_agg(md5(data), '' ORDER BY {key})) FROM {table}"


def bulk(c: Any) -> dict[str, Any]:
    """What the large tables hold."""
    keys = {"tile": "id", "grid": "station_id"}
    before = c.execute("SELECT to_regclass('edit_delta')").fetchone()[0]  # as the sets of points were called
    marks = ("edit_delta", "edit_id, station_id") if before else ("point_set", "set_id, station_id")
    found = {table: c.execute(BULK.format(table=table, key=key)).fetchone() for table, key in keys.items()}
    return found | {"marks": c.execute(BULK.format(table=marks[0], key=marks[1])).fetchone()}


def brought(version: str, folder: Path) -> tuple[Served, dict[str, Any]]:
    """A database as that version filled it, brought to today's by the start of the server; and what it held before."""
    name = f"lantern_filled_{version}"
    database, own = fresh_database(name), f"{SERVER}/{name}"
    psql = sorted(Path("/usr/lib/postgresql").glob("*/bin/psql"))[-1]
    sql = gzip.decompress((FIXTURES / f"filled_{version}.sql.gz").read_bytes())
    subprocess.run([psql, "-q", "-v", "ON_ERROR_STOP=1", own], input=sql, check=True, capture_output=True)
    give_roles(name)
    with psycopg.connect(own) as c:
        before = {**bulk(c), "journal": c.execute("SELECT id, title, rows FROM journal ORDER BY id").fetchall()}
    served = Served(database, folder / "log")
    served.start()
    return served, before


@pytest.fixture(scope="module")
def came_along(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Served, dict[str, Any]]]:
    """From the first version."""
    served, before = brought("0002", tmp_path_factory.mktemp("filled"))
    yield served, before
    served.stop()


@pytest.fixture(scope="module")
def second(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Served, dict[str, Any]]]:
    """From the version that had no parts, and laid two unconnected pairs on each other."""
    served, before = brought("0003", tmp_path_factory.mktemp("second"))
    yield served, before
    served.stop()


def project(served: Served, name: str) -> str:
    return str(next(p["id"] for p in served.get("/projects") if p["name"] == name))


@pytest.mark.parametrize("version", ["0002", "0003"])
def test_no_byte_of_points_grids_marks_and_no_line_of_the_journal_is_lost(
    version: str, came_along: tuple[Served, dict[str, Any]], second: tuple[Served, dict[str, Any]]
) -> None:
    before = {"0002": came_along, "0003": second}[version][1]
    with psycopg.connect(f"{SERVER}/lantern_filled_{version}") as c:
        assert bulk(c) == {k: v for k, v in before.items() if k != "journal"}
        after = c.execute("SELECT id, title, rows FROM journal ORDER BY id").fetchall()
        assert [x for x in after if x[0] <= before["journal"][-1][0]] == before["journal"]
        owners = c.execute("SELECT DISTINCT tableowner FROM pg_tables WHERE schemaname = 'public'").fetchall()
    assert owners == [("lantern_app",)]


def test_a_project_goes_on_where_it_was(came_along: tuple[Served, dict[str, Any]], tmp_path: Path) -> None:
    served, _ = came_along
    p = project(served, "Weir house of last year")
    stations = served.get(f"/projects/{p}/stations")
    assert [(s["name"], s["points"], s["marked"], s["pose"] is not None) for s in stations] == [
        ("ST-1", 700, 126, True),
        ("ST-2", 700, 0, True),
    ]
    assert len(served.get(f"/projects/{p}/network")["links"]) == 1 and len(served.get(f"/projects/{p}/sightings")) == 2
    assert len(served.get(f"/projects/{p}/control")["points"]) == 3
    assert [b["name"] for b in served.get(f"/projects/{p}/boxes")] == ["second"]
    assert len(served.get(f"/projects/{p}/sections")[0]["traces"]) == 1
    old = served.get(f"/projects/{p}/deliveries")[-1]
    got = served.http.get(f"/projects/{p}/deliveries/{old['id']}/file").content
    assert len(got) == old["size"]
    (tmp_path / "old.laz").write_bytes(got)
    served.wait(lambda: served.job(p, "deliver", "done"))  # the job that waited in the old version's queue is done by the new one
    new = served.get(f"/projects/{p}/deliveries")[0]
    (tmp_path / "new.laz").write_bytes(served.http.get(f"/projects/{p}/deliveries/{new['id']}/file").content)
    one, other = (laspy.read(tmp_path / f"{n}.laz").xyz for n in ("old", "new"))
    assert len(one) == 1400 - 126  # without what was deleted, and within the box that is on
    np.testing.assert_array_equal(one, other)


def test_changes_of_the_first_version_are_taken_back_and_brought_back(came_along: tuple[Served, dict[str, Any]]) -> None:
    """Among them the box that the first version deleted from its table."""
    served, _ = came_along
    p = project(served, "Weir house of last year")
    look = lambda: (  # noqa: E731
        [s["marked"] for s in served.get(f"/projects/{p}/stations")],
        sorted(b["name"] for b in served.get(f"/projects/{p}/boxes")),
        len(served.get(f"/projects/{p}/sections")),
        len(served.get(f"/projects/{p}/control")["points"]),
    )
    now, seen = look(), []
    while (last := served.get(f"/projects/{p}")["undo"]) is not None:
        served.post(f"/projects/{p}/undo", entry=last["entry"])
        seen.append(look())
    assert now == ([126, 0], ["second"], 1, 3) and ([0, 0], ["box", "second"], 0, 3) in seen and ([0, 0], [], 0, 0) in seen
    assert seen[-1][0] == []  # before anything was brought in
    while (following := served.get(f"/projects/{p}")["redo"]) is not None:
        served.post(f"/projects/{p}/redo", entry=following["entry"])
    assert look() == now


def test_what_the_first_version_lost_is_told_and_not_shown_as_if_it_were_there(came_along: tuple[Served, dict[str, Any]]) -> None:
    served, _ = came_along
    lost = project(served, "Undone and done again")
    assert served.get(f"/projects/{lost}/edits") == []
    assert any("which points were deleted" in j["title"] for j in served.get(f"/projects/{lost}/journal"))
    without = project(served, "Station without points")
    assert served.get(f"/projects/{without}")["redo"] is None  # its points went when it was undone
    twice = project(served, "Brought in twice")
    both = served.get(f"/projects/{twice}/stations")  # two of one scan stay two: it is for people to say which goes
    assert sorted((s["name"], s["points"]) for s in both) == [("ST-7", 300), ("ST-7 (2)", 0)]
    assert [p["name"] for p in served.get("/bin")] == ["Gone"]
    served.post(f"/bin/{served.get('/bin')[0]['id']}/restore")
    gone = project(served, "Gone")
    assert served.get(f"/projects/{gone}/stations")[0]["points"] == 300 == served.stored_points(gone)
    with psycopg.connect(f"{SERVER}/lantern_filled_0002") as c:
        assert c.execute("SELECT count(*) FROM chunk WHERE data = 'orphan'").fetchone() == (0,)


def test_a_job_that_was_stuck_in_the_first_version_ends(came_along: tuple[Served, dict[str, Any]]) -> None:
    served, _ = came_along
    p = project(served, "Stuck")
    job = served.wait(lambda: served.job(p, "tie", "done", "failed", "cancelled"))
    assert job["state"] in ("done", "failed") and (job["error"] is None or job["error"]["message"])


def test_pairs_that_lay_on_each_other_become_two_parts(second: tuple[Served, dict[str, Any]]) -> None:
    served, _ = second
    p = project(served, "Two pairs on each other")
    parts = served.get(f"/projects/{p}")["parts"]
    names = {s["id"]: s["name"] for s in served.get(f"/projects/{p}/stations")}
    assert [[names[x] for x in q["stations"]] for q in parts] == [["P-1", "P-2"], ["P-3", "P-4"]]
    assert {f["code"] for f in served.get(f"/projects/{p}/network")["findings"]} == {"not_connected"}


def test_targets_control_and_grids_of_the_version_before_stand_as_they_stood(second: tuple[Served, dict[str, Any]]) -> None:
    served, _ = second
    p = project(served, "Sluice of this year")
    control = served.get(f"/projects/{p}/control")
    assert [(c["name"], c["target_name"], c["status"]) for c in control["points"]] == [(f"K{k}", f"T{k}", "taut") for k in range(1, 5)]
    head = served.get(f"/projects/{p}")
    assert head["frame_name"] == "control" and abs(head["T_frame_part"][3] - 437215.482) < 0.001
    frame = next(f for f in head["frames"] if f["kind"] == "control")
    assert "earlier version" in frame["old"]  # it did not keep what it was made from: made anew, it knows
    served.post(f"/projects/{p}/frames/{frame['id']}/renew", version=frame["version"])
    assert [f["old"] for f in served.get(f"/projects/{p}")["frames"]] == ["", ""]
    squared = served.get(f"/projects/{project(served, 'Squared')}")
    assert squared["frame_name"] == "hall" and len(squared["frames"]) == 2


def test_changes_of_the_version_before_are_taken_back_and_brought_back(second: tuple[Served, dict[str, Any]]) -> None:
    """Among them targets that were named in words, a placement, and poses of a time without parts."""
    served, _ = second
    p = project(served, "Sluice of this year")

    def look() -> Any:
        head, stations = served.get(f"/projects/{p}"), served.get(f"/projects/{p}/stations")
        return (
            [(s["name"], s["marked"], s["tied"], [round(v, 9) for v in s["pose"]]) for s in stations],
            sorted((g["station_name"], g["target_name"]) for g in served.get(f"/projects/{p}/sightings")),
            [(c["name"], c["target_name"]) for c in served.get(f"/projects/{p}/control")["points"]],
            [s["name"] for s in served.get(f"/projects/{p}/sections")],
            head["frame_name"],
        )

    now, seen = look(), []
    while (last := served.get(f"/projects/{p}")["undo"]) is not None:
        served.post(f"/projects/{p}/undo", entry=last["entry"])
        seen.append(look())
    assert now[4] == "control" and len(now[1]) == 8 and [tied for _, _, tied, _ in now[0]] == [True, True]
    assert any(s[4] == "project" and len(s[2]) == 4 for s in seen) and any(len(s[0]) == 2 and not s[0][0][2] for s in seen)
    assert seen[-1][0] == [] and seen[-1][1] == []
    while (following := served.get(f"/projects/{p}")["redo"]) is not None:
        served.post(f"/projects/{p}/redo", entry=following["entry"])
    assert look() == now
