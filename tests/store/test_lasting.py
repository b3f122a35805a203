"""What was accepted lasts: people's work through automatic runs, deliveries of one state, files in the bin, pieces that are missing."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Any

import numpy as np
import psycopg
import pytest
from sqlalchemy import select, text

from taut_lantern.core import frames
from taut_lantern.core.align.believe import Tie, TiedPair
from taut_lantern.core.align.evidence import Evidence
from taut_lantern.core.errors import BadInput, Conflict, NotFound
from taut_lantern.formats import e57
from taut_lantern.site.common import Progress, matrix, numbers, stations_of
from taut_lantern.steps import projects
from taut_lantern.steps.bring_in import stations, uploads
from taut_lantern.steps.clean import boxes, edits, selecting
from taut_lantern.steps.hand_over import deliver
from taut_lantern.steps.place import control
from taut_lantern.steps.tie import links
from taut_lantern.steps.tie.links import PreparedScans
from taut_lantern.store import bin, journal, scratch
from taut_lantern.store.db import Damaged, file_chunks, session, write_out
from taut_lantern.store.models import Control, Link, Original, Station, Target
from tests.store.test_undo import ABOVE, first, ids, link_both
from tests.support import bring_in, link_rows, make_project, room, sight_rows, write_scan

BOX = [[-1, -1], [1, -1], [1, 1], [-1, 1]]


@pytest.fixture
def pair(database: str, tmp_path: Path) -> str:
    project = make_project("lasting")
    bring_in(project, [write_scan(tmp_path / f"ST-{k}.e57", room(3000, seed=k), name=f"ST-{k}") for k in (1, 2, 3)])
    return project


def tie_three(project: str) -> None:
    a, b, c = ids(project, Station)
    link_rows(project, (a, b, np.eye(4)), (b, c, np.eye(4)))


def link_of(project: str, a: str, b: str) -> Link | None:
    with session() as s:
        return s.scalar(select(Link).where(Link.project_id == project, Link.a.in_((a, b)), Link.b.in_((a, b))))


class Found:
    """What an automatic run found, in place of the run."""

    def __init__(self, T_a_b: Any) -> None:
        self.T_a_b, self.covariance = T_a_b, 1e-6 * np.eye(6)


def tie_again(project: str, found: list[tuple[str, str, float]], monkeypatch: pytest.MonkeyPatch) -> dict[str, Any]:
    kept = Evidence(*(0.001,) * 3, (1,), 0.5, 0.0, 0.0, 0.0, 40, 0.001, (1.0, 0.0, 0.0), 0.01, 0.0, 0.0, 0.1, 8.0, 0.0)
    pairs = [TiedPair(a, b, Found(frames.pose(0.0, (x, 0, 0))), kept) for a, b, x in found]  # type: ignore[arg-type]
    parts = [{x: np.eye(4) for x in ids(project, Station)}]
    monkeypatch.setattr("taut_lantern.core.align.believe.tie", lambda *a, **k: Tie(parts, pairs, []))
    return links.tie_all(project, {}, Progress())


def test_links_made_or_switched_by_hand_outlive_tying_again(pair: str, monkeypatch: pytest.MonkeyPatch) -> None:
    a, b, c = ids(pair, Station)
    tie_again(pair, [(a, b, 1.0), (b, c, 1.0)], monkeypatch)
    auto, off = link_of(pair, a, b), link_of(pair, b, c)
    assert auto is not None and off is not None
    links.switch_link(pair, off.id, False, None)
    with journal.change(pair, "Linked by hand", network=True) as change:
        by_hand = Link(project_id=pair, a=a, b=c, T_a_b=numbers(frames.pose(0.0, (2.0, 0, 0))), covariance=numbers(1e-6 * np.eye(6)))
        by_hand.evidence, by_hand.by_hand = auto.evidence, ["made"]
        change.s.add(by_hand)
    result = tie_again(pair, [(a, b, 1.1), (b, c, 1.2), (a, c, 9.0)], monkeypatch)
    assert result["kept_by_hand"] == 2
    one, two, three = link_of(pair, a, b), link_of(pair, b, c), link_of(pair, a, c)
    assert one is not None and one.id == auto.id and matrix(one.T_a_b)[0, 3] == 1.1 and one.used
    assert two is not None and two.id == off.id and not two.used  # measured anew, but off as somebody wanted
    assert three is not None and three.id == by_hand.id and matrix(three.T_a_b)[0, 3] == 2.0
    tie_again(pair, [], monkeypatch)  # the next run finds nothing: what nobody decided goes
    assert link_of(pair, a, b) is None and link_of(pair, b, c) is not None and link_of(pair, a, c) is not None


def test_roles_and_matches_set_by_hand_outlive_another_control_file(database: str) -> None:
    project = make_project("control again")
    control.take_in(project, "a;1;2;3\nb;4;5;6\nc;7;8;1\n", "c.csv", None, "m")
    with session() as s:
        row = {r.name: r.id for r in s.scalars(select(Control).where(Control.project_id == project))}
    control.change_control(project, row["a"], None, "check", None)
    sight_rows(project, {}, {"T7": [0, 0, 0]})
    (target,) = ids(project, Target)
    control.change_control(project, row["b"], None, None, target)
    control.take_in(project, "a;1.5;2;3\nb;4;5;6\nd;7;8;1\n", "d.csv", None, "m")
    control.match_again(project)
    with session() as s:
        now = {r.name: (r.id, r.role, r.target_id, r.enh[1]) for r in s.scalars(select(Control).where(Control.project_id == project))}
    assert now["a"] == (row["a"], "check", None, 1.5) and now["b"] == (row["b"], "control", target, 4.0) and set(now) == {"a", "b", "d"}


def test_a_delivery_is_of_one_state_whatever_happens_while_it_is_made(pair: str, tmp_path: Path) -> None:
    """Points are deleted and a pose is changed while the first station is being written."""
    link_both(pair)
    written, changed = threading.Event(), threading.Event()

    def report(stage: str, done: int, total: int) -> None:
        if stage.startswith("writing") and done == 1:
            written.set()
            assert changed.wait(30)

    def meanwhile() -> None:
        assert written.wait(30)
        edits.delete_in_lasso(pair, ABOVE, BOX, ids(pair, Station)[:2])
        with journal.change(pair, "Moved", network=True) as c:
            for x in ids(pair, Station):
                c.s.get_one(Station, x).pose = numbers(frames.pose(1.0, (50.0, 0, 0)))
        changed.set()

    other = threading.Thread(target=meanwhile)
    other.start()
    made = deliver.make(pair, {"what": "e57"}, Progress(report))
    other.join()
    (tmp_path / "out.e57").write_bytes(b"".join(file_chunks(made["delivery"], made["size"])))
    heads = e57.headers(tmp_path / "out.e57")
    assert [h.points for h in heads] == [3000, 3000] and all(abs(h.pose[0, 3]) < 3 for h in heads if h.pose is not None)
    (row,) = deliver.list_deliveries(pair)
    assert row["state"]["title"] == "Linked" and row["outdated"]


OUTLINE = {"kind": "lasso", "view": ABOVE, "outline": BOX}


def test_a_lasso_that_was_counted_on_another_state_deletes_nothing(pair: str) -> None:
    tie_three(pair)
    counted = selecting.choose(pair, OUTLINE, ids(pair, Station))["count"]
    edits.delete_in_lasso(pair, ABOVE, [[-0.4, -0.4], [0.4, -0.4], [0.4, 0.4]], ids(pair, Station))
    with pytest.raises(Conflict, match="lie inside the outline now, not") as caught:
        edits.delete_in_lasso(pair, ABOVE, BOX, ids(pair, Station), expected=counted)
    assert caught.value.code == "count_changed"


def test_too_many_points_for_a_request_are_deleted_in_the_background(pair: str, monkeypatch: pytest.MonkeyPatch) -> None:
    tie_three(pair)
    counted = selecting.choose(pair, OUTLINE, ids(pair, Station))["count"]
    for module in (edits, selecting):
        monkeypatch.setattr(module, "AT_ONCE", 100)
    selecting.clear(pair)
    told = selecting.choose(pair, OUTLINE, ids(pair, Station))
    assert told["job"] and told["count"] == 0
    again = {"spec": OUTLINE, "stations": ids(pair, Station), "op": "replace", "among": "living", "seen": None}
    assert selecting.job(pair, again, Progress())["count"] == counted == selecting.selection(pair)["count"]
    assert edits.delete_in_lasso(pair, ABOVE, BOX, ids(pair, Station))["job"]
    job = {"view": ABOVE, "outline": BOX, "stations": ids(pair, Station)}
    assert edits.delete_job(pair, job, Progress())["count"] == counted == 9000


def stored(file_id: str) -> int:
    with session() as s:
        return int(s.execute(text("SELECT count(*) FROM chunk WHERE file_id = :f"), {"f": file_id}).scalar() or 0)


def test_an_original_that_stations_need_is_kept_and_another_comes_back_from_the_bin(pair: str, tmp_path: Path) -> None:
    used = first(pair, Original)
    with pytest.raises(Conflict, match="the station ST-") as caught:
        uploads.discard(pair, used)
    assert caught.value.code == "in_use"
    spare = uploads.put_file(pair, write_scan(tmp_path / "spare.e57", room(200)))
    uploads.read_original(pair, spare, Progress())
    with session() as s:
        s.execute(text("UPDATE job SET state = 'done' WHERE project_id = :p"), {"p": pair})
    uploads.discard(pair, spare)
    with pytest.raises(BadInput):
        stations.start(pair, [spare])
    bin.empty()
    assert stored(spare) == 1  # thirty days have not passed
    uploads.restore(pair, spare)
    assert len(stations.start(pair, [spare])) == 1
    with session() as s:
        s.execute(text("UPDATE job SET state = 'done' WHERE project_id = :p"), {"p": pair})
    uploads.discard(pair, spare)
    stations.change_station(pair, ids(pair, Station)[0], None, None, True)
    with session() as s:
        s.execute(text("UPDATE original SET discarded_at = now() - interval '31 days' WHERE id IN (:a, :b)"), {"a": spare, "b": used})
    bin.empty()
    assert stored(spare) == 0
    with pytest.raises(NotFound):
        uploads.restore(pair, spare)
    assert stored(used) > 0  # undo can bring its station back


def test_files_are_let_go_of_with_the_reason_told_and_their_points_stay(pair: str, tmp_path: Path) -> None:
    link_both(pair)
    made = deliver.make(pair, {"what": "laz"}, Progress())
    original = first(pair, Original)
    spare = uploads.put_file(pair, write_scan(tmp_path / "spare.e57", room(300, seed=8)))
    uploads.read_original(pair, spare, Progress())
    with pytest.raises(Conflict, match="not brought in"):
        uploads.let_go(pair, spare, "too large")
    assert stored(original) > 0 and stored(made["delivery"]) > 0
    uploads.let_go(pair, original, "kept in the archive")
    deliver.let_go(pair, made["delivery"], "sent to the customer")
    assert stored(original) == stored(made["delivery"]) == 0 < stored(spare)
    with session() as s:
        assert s.get_one(Original, original).let_go["reason"] == "kept in the archive"  # type: ignore[index]
    with pytest.raises(NotFound, match=r"let go of on .* by you: sent to the customer"):
        deliver.get_delivery(pair, made["delivery"])
    (row,) = deliver.list_deliveries(pair)
    assert row["let_go"]["by"] == "you" and row["sha256"]
    again = deliver.make(pair, {"what": "laz"}, Progress())  # the points are all there
    assert again["points"] == made["points"] == 6000
    with pytest.raises(BadInput, match="not ready"):
        stations.start(pair, [original])


def test_a_project_comes_back_whole_from_the_bin_and_is_gone_from_the_disk_after_thirty_days(database: str, tmp_path: Path) -> None:
    from tests.store.test_undo import points, rows

    project = make_project("binned")
    bring_in(project, [write_scan(tmp_path / "ST-1.e57", room(300_000), name="ST-1")])
    deliver.make(project, {"what": "laz"}, Progress())
    edits.delete_in_lasso(project, ABOVE, BOX, ids(project, Station))
    before = rows(project), points(project)
    projects.delete_project(project)
    with pytest.raises(NotFound):
        edits.marks(project, ids(project, Station)[0])
    assert project in {p["id"] for p in projects.list_bin()} and bin.empty()["projects"] == 0
    projects.bring_back(project)
    assert (rows(project), points(project)) == before
    station = ids(project, Station)[0]
    projects.delete_project(project)
    with session() as s:
        s.execute(text("UPDATE project SET deleted_at = now() - interval '31 days' WHERE id = :p"), {"p": project})
    assert bin.empty()["projects"] == 1
    with psycopg.connect(database) as c:
        tables = [t for (t,) in c.execute("SELECT table_name FROM information_schema.columns WHERE column_name = 'project_id'")]
        assert len(tables) > 12
        for table in tables:
            assert c.execute(f"SELECT count(*) FROM {table} WHERE project_id = %s", (project,)).fetchone() == (0,), table  # type: ignore[arg-type]
        assert c.execute("SELECT count(*) FROM tile WHERE station_id = %s", (station,)).fetchone() == (0,)
        orphans = "SELECT count(*) FROM chunk WHERE file_id NOT IN (SELECT id FROM original UNION ALL SELECT id FROM delivery)"
        assert c.execute(orphans).fetchone() == (0,)


def test_a_missing_piece_of_a_file_is_an_error_and_never_zeros(pair: str, tmp_path: Path) -> None:
    path = write_scan(tmp_path / "large.e57", room(700_000))
    original, size = uploads.put_file(pair, path), path.stat().st_size
    assert stored(original) > 2
    with session() as s:
        s.execute(text('DELETE FROM chunk WHERE file_id = :f AND "offset" = 4194304'), {"f": original})
    for read in (lambda: b"".join(file_chunks(original, size)), lambda: write_out(original, size, tmp_path / "out.e57")):
        with pytest.raises(Damaged, match="not whole"):
            read()


@pytest.mark.parametrize("name", ["a/b/c", "Nº 3 \\ 4", "насос 測站", "e\u0301 \u00a0wide", "x" * 300])
def test_names_stay_as_people_wrote_them(database: str, tmp_path: Path, name: str) -> None:
    project = make_project(name)
    (station,) = bring_in(project, [write_scan(tmp_path / "a.e57", room(300), name=name)])
    boxes.set_box(project, name[:120], [0, 0, 0], [9, 9, 9], 0.0)
    with session() as s:
        assert s.get_one(Station, station).name == name[:280]
        assert projects.describe(s, project)["name"] == name
    made = deliver.make(project, {"what": "laz"}, Progress())["name"]
    assert not set(made) & set("/\\:*?<>|") and made.endswith(".laz") and len(made) < 120


def test_what_killed_processes_left_in_temporary_folders_is_cleared_and_nothing_else(tmp_path: Path) -> None:
    gone = scratch._root() / f"999999999-{12345}-left"
    gone.mkdir(exist_ok=True)
    (gone / "in.e57").write_bytes(b"x" * 100)
    with scratch.folder() as mine:
        scratch.clear()
        assert mine.is_dir() and not gone.exists()
    assert not mine.exists()


def test_prepared_scans_that_do_not_fit_into_memory_wait_in_files_and_come_back_the_same(pair: str, tmp_path: Path) -> None:
    with session() as s:
        all_ = stations_of(s, pair)
    before: dict[str, float] = {}
    for memory, files in ((1 << 30, 0), (1, 3)):
        folder = tmp_path / str(memory)
        folder.mkdir()
        kept = PreparedScans(all_, folder, memory, Progress())
        assert len(list(folder.iterdir())) == files and len(kept) == 3
        sums = {k: float(kept[k].fine.points.sum()) for k in list(kept) * 2}
        assert len(sums) == 3 and before in ({}, sums)
        before = sums
