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

FILLED = Path(__file__).parents[1] / "fixtures" / "filled_0002.sql.gz"
BULK = "SELECT count(*), sum(length(data)), md5(string_agg(md5(data), '' ORDER BY {key})) FROM {table}"


def bulk(c: Any) -> dict[str, Any]:
    """What the large tables hold."""
    keys = {"tile": "id", "grid": "station_id", "edit_delta": "edit_id, station_id"}
    return {table: c.execute(BULK.format(table=table, key=key)).fetchone() for table, key in keys.items()}


@pytest.fixture(scope="module")
def came_along(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Served, dict[str, Any]]]:
    """The database as it was filled, brought to today's version by the start of the server; and what it held before."""
    database = fresh_database("lantern_filled")
    psql = sorted(Path("/usr/lib/postgresql").glob("*/bin/psql"))[-1]
    sql = gzip.decompress(FILLED.read_bytes())
    own = f"{SERVER}/lantern_filled"
    subprocess.run([psql, "-q", "-v", "ON_ERROR_STOP=1", own], input=sql, check=True, capture_output=True)
    give_roles("lantern_filled")
    with psycopg.connect(own) as c:
        before = {**bulk(c), "journal": c.execute("SELECT id, title, rows FROM journal ORDER BY id").fetchall()}
    served = Served(database, tmp_path_factory.mktemp("filled") / "log")
    served.start()
    yield served, before
    served.stop()


def project(served: Served, name: str) -> str:
    return str(next(p["id"] for p in served.get("/projects") if p["name"] == name))


def test_no_byte_of_points_grids_marks_and_no_line_of_the_journal_is_lost(came_along: tuple[Served, dict[str, Any]]) -> None:
    _, before = came_along
    with psycopg.connect(f"{SERVER}/lantern_filled") as c:
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
    (old,) = served.get(f"/projects/{p}/deliveries")
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
    assert served.get(f"/projects/{gone}/stations")[0]["points"] == 300 == sum(t["count"] for t in served.get(f"/projects/{gone}/tiles"))
    with psycopg.connect(f"{SERVER}/lantern_filled") as c:
        assert c.execute("SELECT count(*) FROM chunk WHERE data = 'orphan'").fetchone() == (0,)


def test_a_job_that_was_stuck_in_the_first_version_ends(came_along: tuple[Served, dict[str, Any]]) -> None:
    served, _ = came_along
    p = project(served, "Stuck")
    job = served.wait(lambda: served.job(p, "tie", "done", "failed", "cancelled"))
    assert job["state"] in ("done", "failed") and (job["error"] is None or job["error"]["message"])
