"""Parts, their datum, and what hangs on their coordinates: nothing that is placed moves, and nothing shares coordinates with
what it is not connected with."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import laspy
import numpy as np
import pytest
from sqlalchemy import select

from taut_lantern.core import frames
from taut_lantern.core.errors import BadInput
from taut_lantern.formats import e57
from taut_lantern.site.common import Progress, get_project, matrix, stations_of
from taut_lantern.site.drawing import cut_of, drawn
from taut_lantern.site.frames import Currency, InUse, deviation_in, in_use
from taut_lantern.site.notes import notes_of
from taut_lantern.site.parts import parts_of
from taut_lantern.site.placing import residuals_of
from taut_lantern.site.slab import slab_of
from taut_lantern.site.solution import solution_of
from taut_lantern.site.visible import clip_of
from taut_lantern.steps import notes, projects, views
from taut_lantern.steps.bring_in import stations
from taut_lantern.steps.clean import boxes, edits
from taut_lantern.steps.draw import cuts, templates, tracing
from taut_lantern.steps.hand_over import deliver
from taut_lantern.steps.place import control, grids
from taut_lantern.steps.tie import links, targets
from taut_lantern.store.db import file_chunks, session
from taut_lantern.store.models import Frame, Section, Sighting, Station, Target
from tests.store.test_undo import ABOVE
from tests.support import bring_in, link_rows, make_project, room, sight_rows, write_scan

OUTLINE = [[-1.0, -1.0], [1.0, -1.0], [1.0, 1.0], [-1.0, 1.0]]
SPOTS = {f"K{k}": p for k, p in enumerate([[1.5, 1.0, -0.2], [-1.4, 0.7, 0.3], [0.4, -1.5, -0.5], [1.0, 0.2, 1.0]], 1)}


def scans(project: str, folder: Path, *names: str) -> list[str]:
    return bring_in(project, [write_scan(folder / f"{n}.e57", room(3000, seed=ord(n[-1]) + len(n)), name=n) for n in names])


def poses(project: str) -> dict[str, np.ndarray]:
    with session() as s:
        return {x.name: matrix(x.pose) for x in stations_of(s, project)}


def part_names(project: str) -> list[list[str]]:
    with session() as s:
        names = {x.id: x.name for x in stations_of(s, project)}
        return [sorted(names[x] for x in p["stations"]) for p in solution_of(s, project)["parts"]]


def version(project: str, model: type[Any], row: str) -> int:
    with session() as s:
        return int(s.get_one(model, row).version)


def bytes_of(made: dict[str, Any], path: Path) -> Path:
    path.write_bytes(b"".join(file_chunks(made["delivery"], made["size"])))
    return path


@pytest.fixture
def pairs(database: str, tmp_path: Path) -> tuple[str, list[str]]:
    """Two pairs that nothing connects, each with its first station at the origin of its part."""
    project = make_project("two pairs")
    ids = scans(project, tmp_path, "A1", "A2", "B1", "B2")
    link_rows(project, (ids[0], ids[1], frames.pose(0.2, (1.0, 0, 0))), (ids[2], ids[3], frames.pose(-0.4, (0, 1.0, 0))))
    return project, ids


def test_what_goes_out_is_of_one_part(pairs: tuple[str, list[str]], tmp_path: Path) -> None:
    project, _ = pairs
    with session() as s:
        one, other = parts_of(s, project)
    assert part_names(project) == [["A1", "A2"], ["B1", "B2"]]
    for part, names in ((None, ["A1", "A2"]), (one.id, ["A1", "A2"]), (other.id, ["B1", "B2"])):
        asked = {"what": "e57"} | ({"part": part} if part else {})
        heads = e57.headers(bytes_of(deliver.make(project, asked, Progress()), tmp_path / "out.e57"))
        assert sorted(h.name for h in heads) == names
        laz = bytes_of(deliver.make(project, {**asked, "what": "laz"}, Progress()), tmp_path / "out.laz")
        assert len(laspy.read(laz)) == 6000


def test_slabs_lassos_and_boxes_are_of_one_part(pairs: tuple[str, list[str]]) -> None:
    project, ids = pairs
    with session() as s:
        one, other = parts_of(s, project)
    for part in (one, other):
        made = cuts.make_section(project, "plan", {"height": 0.2, "before": 0.0, "behind": 0.4}, part_id=part.id)
        with session() as s:
            points = slab_of(s, project, s.get_one(Section, made)).points
            cut = cut_of(s.get_one(Section, made))
            expected = 0
            for x in stations_of(s, project):
                if x.part_id == part.id:
                    scan = deliver.read_station(s, x)
                    z = frames.apply(matrix(x.pose), scan.xyz)[:, 2]
                    expected += int(((z <= 0.2) & (z >= -0.2)).sum())
        assert frames.is_rigid(cut.T_section_base) and abs(len(points) - expected) < 3 < expected
    with pytest.raises(BadInput) as caught:
        edits.delete_in_lasso(project, ABOVE, OUTLINE, ids)
    assert caught.value.code == "several_parts"
    assert edits.delete_in_lasso(project, ABOVE, OUTLINE, ids[2:])["count"] > 5000
    boxes.set_box(project, "in B", [0, 0, 0], [1, 1, 1], 0.0, part_id=other.id)
    with session() as s:
        assert clip_of(s, project, one.id) is None and clip_of(s, project, other.id) is not None
    boxes.set_box(project, "in A", [0, 0, 0], [1, 1, 1], 0.0, part_id=one.id)
    with session() as s:
        assert clip_of(s, project, other.id) is not None  # one box of each part may be on


def test_sightings_of_two_parts_are_never_of_one_target_because_their_numbers_agree(pairs: tuple[str, list[str]]) -> None:
    project, ids = pairs
    here = poses(project)
    for x, name in zip(ids, ("A1", "A2", "B1", "B2"), strict=True):
        sight_rows(project, {x: here[name]}, {f"seen {name}": [1.5, 1.0, 0.2]})
    with session() as s:
        for g in s.scalars(select(Sighting).where(Sighting.project_id == project)):
            g.target_id = None
    targets.regroup(project)
    with session() as s:
        seen = solution_of(s, project)["targets"]
        assert len(seen) == 2 and len({t["part"] for t in seen}) == 2 and {t["sightings"] for t in seen} == {2}


def test_notes_and_views_come_along_when_their_part_joins_another(pairs: tuple[str, list[str]]) -> None:
    """Figures stay, picks and cameras go with the stations; undo puts them back."""
    project, ids = pairs
    with session() as s:
        parts = {x.id: x.part_id for x in stations_of(s, project)}
    small = next(p for p in parts.values() if p != parts[ids[0]])
    spot = next(x for x, p in parts.items() if p == small)

    def seen() -> tuple[np.ndarray, dict[str, Any], np.ndarray]:
        """Picks and the kept camera's middle in the frame of a station of that part, and the note's figures."""
        with session() as s:
            (note,), (view,) = notes_of(s, project), views.list_views(s, project)
            back = frames.inverse(matrix(s.get_one(Station, spot).pose))
        middle = frames.apply(back @ matrix(view["T_part_base"]), np.array([view["shows"]["cameras"]["plan"]["middle"]]))
        return frames.apply(back, np.array(note["points"])), note["figures"], middle

    notes.make(project, "distance", [[1.0, 0.5, 0.1], [-1.2, 0.4, 0.9]], part_id=small)
    views.make(project, "corner", {"cameras": {"plan": {"middle": [1.0, 2.0, 0.0], "scale": 0.01}}}, small)
    before = seen()
    link_rows(project, (ids[0], spot, frames.pose(0.8, (4.0, 1.0, 0.2))))
    with session() as s:
        assert len(solution_of(s, project)["parts"]) < len(set(parts.values())) and notes_of(s, project)[0]["part"] == parts[ids[0]]
    after = seen()
    np.testing.assert_allclose(after[0], before[0], atol=1e-9)
    np.testing.assert_allclose(after[2], before[2], atol=1e-9)
    assert after[1] == {k: pytest.approx(v) for k, v in before[1].items()}


@pytest.mark.parametrize(("revision", "told"), [(4, [1.0, 2.0, 3.0]), (5, [9.0, 9.0, 9.0])])
def test_deviations_in_control_are_never_those_of_an_earlier_network(revision: int, told: list[float]) -> None:
    detail = {"stations": {"a": [0.001, 0.002, 0.003]}, "network_revision": 4, "covariance": [0.0] * 36, "centre": [0.0] * 3}
    frame = InUse("i", "control", "control", "m", "p", np.eye(4), Frame(detail=detail), revision)
    np.testing.assert_allclose(deviation_in(frame, "a", np.eye(4), [9.0, 9.0, 9.0]), told)


def test_control_is_solved_in_the_part_that_sees_its_targets_and_in_no_other(pairs: tuple[str, list[str]]) -> None:
    project, ids = pairs
    here = poses(project)
    sight_rows(project, {x: here[n] for x, n in zip(ids[2:], ("B1", "B2"), strict=True)}, SPOTS)
    grid = frames.pose(0.3, (437_000.0, 5_812_000.0, 40.0))
    enh = frames.apply(grid, np.array(list(SPOTS.values())))
    control.take_in(project, "".join(f"{n};{y:.4f};{x:.4f};{h:.4f}\n" for n, (x, y, h) in zip(SPOTS, enh, strict=True)), "c.csv", None, "m")
    with session() as s:
        one, other = parts_of(s, project)
        wrong, right = residuals_of(s, project, one.id), residuals_of(s, project, other.id)
    assert "0 are matched" in wrong["problem"] and all(p["elsewhere"] for p in wrong["points"])
    assert right["problem"] is None and max(p["residual_mm"]["d3"] for p in right["points"]) < 0.2
    control.apply(project, other.id)
    with session() as s:
        frame = in_use(s, get_project(s, project))
        assert frame.part == other.id and in_use(s, get_project(s, project), one.id).kind == "project"
    np.testing.assert_allclose(frame.T_frame_part, grid, atol=1e-3)


@pytest.fixture
def row_of(database: str, tmp_path: Path) -> tuple[str, list[str]]:
    """Four stations in a row, 2 m apart and turned, tied by four links."""
    project = make_project("row")
    ids = scans(project, tmp_path, "S2", "S3", "S4", "S5")
    step = frames.pose(0.3, (2.0, 0.1, 0.0))
    link_rows(project, *((ids[k], ids[k + 1], step) for k in range(3)), (ids[0], ids[2], step @ step))
    return project, ids


def moved(before: dict[str, np.ndarray], after: dict[str, np.ndarray]) -> float:
    return max(float(np.abs(before[n] - after[n]).max()) for n in before.keys() & after.keys())


def test_nothing_that_is_placed_moves_when_stations_come_go_or_are_renamed(row_of: tuple[str, list[str]], tmp_path: Path) -> None:
    project, ids = row_of
    before = poses(project)
    (new,) = scans(project, tmp_path, "S1")  # the first by its name, and brought in last
    assert moved(before, poses(project)) == 0
    link_rows(project, (new, ids[0], frames.pose(0.0, (8.6, 0, 0))))
    assert moved(before, poses(project)) < 1e-9 and len(part_names(project)) == 1
    stations.change_station(project, new, None, "Z9", None)
    stations.change_station(project, ids[3], None, "A0", None)
    after = poses(project)
    assert np.abs(after["A0"] - before["S5"]).max() < 1e-9 and moved(before, after) < 1e-9
    stations.change_station(project, ids[0], None, None, True)  # the datum itself
    assert moved(before, poses(project)) < 1e-9 and sorted(map(len, part_names(project))) == [1, 3]
    projects.undo(project)
    assert moved(after, poses(project)) == 0


def test_switching_links_off_and_on_moves_nothing_and_a_part_that_splits_off_comes_back(row_of: tuple[str, list[str]]) -> None:
    project, ids = row_of
    before = poses(project)
    made = cuts.make_section(project, "plan", {"height": 0.2, "behind": 0.4})
    with session() as s:
        whole = len(slab_of(s, project, s.get_one(Section, made)).points)
        last = next(k.id for k in links_of(s, project) if ids[3] in (k.a, k.b))
    links.switch_link(project, last, False, None)
    assert part_names(project) == [["S2", "S3", "S4"], ["S5"]] and moved(before, poses(project)) < 1e-9
    with session() as s:
        assert 0 < len(slab_of(s, project, s.get_one(Section, made)).points) < whole
    links.switch_link(project, last, True, None)
    assert len(part_names(project)) == 1 and moved(before, poses(project)) < 1e-9
    with session() as s:
        assert len(slab_of(s, project, s.get_one(Section, made)).points) == whole


def test_what_is_drawn_on_a_leg_of_a_cut_in_steps_goes_out_where_that_leg_is(row_of: tuple[str, list[str]]) -> None:
    project, _ = row_of
    legs = [[0.0, 0.0], [2.0, 0.0], [2.2, 1.5], [4.0, 1.5]]
    section = cuts.make_section(project, "upright", {"line": legs, "before": 0.05, "behind": 0.05}, "Steps")
    for points in ([[0.5, 0.0], [0.5, 1.0]], [[3.0, 0.2], [3.0, 0.9]]):
        tracing.draw(project, section, "line", "wall", points)
    with session() as s:
        row = get_project(s, project)
        frame = in_use(s, row)
        lines = [d for d in drawn(s, row, frame, [section], False) if d.layer == "wall"]
    at = [frames.apply(d.T_frame_section, np.array([[*p, 0.0] for p in d.shape.points])) for d in lines]
    there = sorted((frames.apply(frames.inverse(frame.T_frame_part), p) for p in at), key=lambda p: p[0, 0])
    np.testing.assert_allclose(there[0], [[0.5, 0, 0], [0.5, 0, 1]], atol=1e-9)
    np.testing.assert_allclose(there[1], [[3, 1.5, 0.2], [3, 1.5, 0.9]], atol=1e-9)
    with session() as s:
        told = cuts.list_sections(s, project)[0]["marks"]["lines"]  # a line where it steps over, as high as what is drawn and 0.3 m more
        flat = [d.shape.points for d in drawn(s, get_project(s, project), frame, [section], True) if d.dashed]
    assert told == [[[pytest.approx(2.1), pytest.approx(-0.3)], [pytest.approx(2.1), pytest.approx(1.3)]]]
    assert np.allclose(flat, [[[2.1, -0.3], [2.1, 1.3]]])
    cut = templates.as_template(project)["cuts"][0]
    assert cut["steps"] == [[pytest.approx(2.1), pytest.approx(1.5)]]


def links_of(s: Any, project: str) -> list[Any]:
    from taut_lantern.store.models import Link

    return list(s.scalars(select(Link).where(Link.project_id == project)))


def test_what_was_drawn_and_placed_in_a_part_moves_with_its_stations_when_it_joins(pairs: tuple[str, list[str]]) -> None:
    project, ids = pairs
    with session() as s:
        one, other = parts_of(s, project)
    made = cuts.make_section(project, "upright", {"a": [0.0, -1.0], "b": [0.5, 1.0], "behind": 0.3}, part_id=other.id)
    boxes.set_box(project, "in B", [0.2, 0.1, 0], [1, 1.5, 0.8], 0.3, part_id=other.id)
    grids.square(project, grids.Picks.of([-1.5, -2.0, 0.1], [3.0, 0.5, 0.0], [100, 200, 10], False), "hall", other.id)

    def seen() -> tuple[np.ndarray, np.ndarray, np.ndarray, str]:
        """Section, box and grid as the first station of B has them: they do not move against it."""
        with session() as s:
            x = s.get_one(Station, ids[2])
            section = s.get_one(Section, made)
            cut = cut_of(section).T_section_base @ frames.inverse(matrix(section.T_part_base)) @ matrix(x.pose)
            box = clip_of(s, project, x.part_id)
            frame = in_use(s, get_project(s, project), x.part_id)
            assert box is not None and section.part_id == x.part_id and frame.row is not None
            return cut, frames.inverse(box.kept[0].T_part_box) @ matrix(x.pose), frame.T_frame_part @ matrix(x.pose), frame.name

    before = seen()
    link_rows(project, (ids[0], ids[2], frames.pose(1.1, (5.0, 2.0, 0.4))))
    assert len(part_names(project)) == 1
    after = seen()
    for a, b in zip(before[:3], after[:3], strict=True):
        np.testing.assert_allclose(a, b, atol=1e-9)
    with session() as s:
        frame = in_use(s, get_project(s, project)).row
        assert frame is not None and Currency(s, project).why_old(frame) == ""  # it moved along: nothing about it changed
        assert all(x.part_id == one.id for x in stations_of(s, project))
    projects.undo(project)
    for a, b in zip(before[:3], seen()[:3], strict=True):
        np.testing.assert_array_equal(a, b)


@pytest.mark.parametrize(("shared", "off", "joined"), [(4, 0.0, True), (3, 0.0, True), (2, 0.0, False), (4, 2.0, False)])
def test_three_shared_targets_connect_two_parts_and_two_do_not(pairs: tuple[str, list[str]], shared: int, off: float, joined: bool) -> None:
    project, ids = pairs
    here, T_a_b = poses(project), frames.pose(0.7, (6.0, 1.0, 0.2))
    spots = dict(list(SPOTS.items())[:shared])
    sight_rows(project, {ids[0]: here["A1"], ids[1]: here["A2"]}, spots)
    there = {n: frames.apply(frames.inverse(T_a_b), np.array([p]))[0] for n, p in spots.items()}
    there["K1"] = there["K1"] + [off, 0, 0]
    sight_rows(project, {ids[2]: here["B1"]}, there)
    assert len(part_names(project)) == (1 if joined else 2)
    if joined:
        np.testing.assert_allclose(poses(project)["B1"], T_a_b @ here["B1"], atol=1e-8)
    with session() as s:
        solved = solution_of(s, project)
    assert len(solved["targets"]) == (shared if joined else 2 * shared)
    assert any(f["code"] == "targets_disagree" for f in solved["findings"]) == (off > 0)


def test_a_target_keeps_its_matches_when_it_is_renamed(pairs: tuple[str, list[str]]) -> None:
    project, ids = pairs
    here = poses(project)
    sight_rows(project, {ids[0]: here["A1"], ids[1]: here["A2"]}, SPOTS)
    control.take_in(project, "".join(f"{n};{p[1]};{p[0]};{p[2]}\n" for n, p in SPOTS.items()), "c.csv", None, "m")
    with session() as s:
        row = s.scalar(select(Target).where(Target.project_id == project, Target.name == "K1"))
        assert row is not None
    targets.rename_target(project, row.id, row.version, "Bolt 1")
    with session() as s:
        found = {p["name"]: p for p in residuals_of(s, project)["points"]}
    assert found["K1"]["target_name"] == "Bolt 1" and found["K1"]["residual_mm"]["d3"] < 0.1
    with pytest.raises(BadInput, match="a target K2 already"):
        targets.rename_target(project, row.id, row.version + 1, "K2")


def test_coordinates_say_when_their_inputs_changed_and_are_made_anew(row_of: tuple[str, list[str]]) -> None:
    project, ids = row_of
    here = poses(project)
    sight_rows(project, {ids[0]: here["S2"], ids[1]: here["S3"]}, SPOTS)
    text = "".join(f"{n};{p[1]:.4f};{p[0]:.4f};{p[2]:.4f}\n" for n, p in SPOTS.items())
    control.take_in(project, text, "c.csv", None, "m")
    control.apply(project)
    grids.square(project, grids.Picks.of([4.87, 0.99, 0.1], [3.0, 0.5, 0.0], [100, 200, 10], False), "hall")

    def old() -> dict[str, bool]:
        with session() as s:
            return {f["name"]: bool(f["old"]) for f in projects.list_frames(s, project) if f["kind"] != "project"}

    def renew(name: str) -> None:
        with session() as s:
            row = s.scalar(select(Frame).where(Frame.project_id == project, Frame.name == name, Frame.active))
            assert row is not None
        grids.renew(project, row.id, row.version)

    assert old() == {"control": False, "hall": False}
    link_rows(project, (ids[1], ids[3], frames.pose(0.6, (4.0, 0.7, 0.02))))  # pulls the stations a little
    assert old() == {"control": True, "hall": True}
    renew("hall")
    assert old() == {"control": True, "hall": False}
    renew("control")
    assert old() == {"control": False, "hall": False}
    with session() as s:
        row = s.scalar(select(Frame).where(Frame.project_id == project, Frame.kind == "control", Frame.active))
        assert row is not None and row.revision == 2
    control.take_in(project, text.replace("K1;1.0", "K1;1.5"), "d.csv", None, "m")
    assert old() == {"control": True, "hall": False}
    projects.undo(project)
    assert old() == {"control": False, "hall": False}  # what it was made from is as it was
