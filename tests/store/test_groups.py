"""Groups, held or not, one within another; and a project that comes into another as a group."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.errors import BadInput, Conflict
from taut_lantern.site.common import Progress, stations_of
from taut_lantern.site.solution import solution_of
from taut_lantern.steps import projects
from taut_lantern.steps.bring_in import merging
from taut_lantern.steps.clean import edits
from taut_lantern.steps.tie import groups, links
from taut_lantern.store.db import session
from taut_lantern.store.marks import deleted_mask
from taut_lantern.store.models import Link
from taut_lantern.store.tiles import read_station
from tests.store.test_parts import OUTLINE, poses, scans
from tests.store.test_undo import ABOVE
from tests.support import link_rows, make_project, sight_rows


@pytest.fixture
def row(database: str, tmp_path: Path) -> tuple[str, list[str]]:
    """Five stations, each tied to the next."""
    project = make_project("row")
    ids = scans(project, tmp_path, "S1", "S2", "S3", "S4", "S5")
    step = frames.pose(0.3, (2.0, 0.4, 0.01))
    link_rows(project, *((a, b, step) for a, b in zip(ids, ids[1:], strict=False)))
    return project, ids


def told(project: str) -> dict[str, dict[str, Any]]:
    with session() as s:
        names = {x.id: x.name for x in stations_of(s, project)}
        found = groups.list_groups(s, project)
    by_id = {g["id"]: g["name"] for g in found}
    return {g["name"]: {**g, "stations": [names[x] for x in g["stations"]], "parent": by_id.get(g["parent"])} for g in found}


def shape(project: str, *names: str) -> list[np.ndarray]:
    at = poses(project)
    return [frames.inverse(at[names[0]]) @ at[n] for n in names]


def test_a_held_group_keeps_its_shape_whatever_pulls_at_it_and_whoever_comes_and_goes(row: tuple[str, list[str]]) -> None:
    project, ids = row
    before = shape(project, "S2", "S3", "S4")
    hall = groups.make(project, "hall", ids[1:4], held=True)
    link_rows(project, (ids[1], ids[3], frames.pose(0.6, (4.0, 0.9, 0.1))))  # pulls, in vain
    np.testing.assert_allclose(shape(project, "S2", "S3", "S4"), before, atol=1e-9)
    with pytest.raises(BadInput, match="held in hall already"):
        groups.make(project, "", ids[:3], parent=hall, held=True)
    assert told(project)["hall"]["stations"] == ["S2", "S3", "S4"]  # what was refused changed nothing
    groups.put(project, [ids[3]], groups.TOP)  # one leaves: the link pulls at it
    assert np.linalg.norm(shape(project, "S2", "S4")[1][:3, 3] - before[2][:3, 3]) > 0.05
    np.testing.assert_allclose(shape(project, "S2", "S3"), before[:2], atol=1e-9)
    at = shape(project, "S2", "S4")
    groups.put(project, [ids[3]], hall)  # and comes back: it is held where it stands now
    np.testing.assert_allclose(shape(project, "S2", "S4"), at, atol=1e-9)
    projects.undo(project)
    projects.undo(project)
    np.testing.assert_allclose(shape(project, "S2", "S3", "S4"), before, atol=1e-9)
    groups.change(project, hall, told(project)["hall"]["version"], held=False)
    assert np.linalg.norm(shape(project, "S2", "S4")[1][:3, 3] - before[2][:3, 3]) > 0.05
    projects.undo(project)
    np.testing.assert_allclose(shape(project, "S2", "S3", "S4"), before, atol=1e-9)


def test_groups_are_nested_merged_split_and_dissolved(row: tuple[str, list[str]]) -> None:
    project, ids = row
    mill = groups.make(project, "mill", ids[:1])
    cellar = groups.make(project, "cellar", ids[1:3], parent=mill)
    groups.make(project, "yard", ids[2:4])  # splits it
    of = {n: (g["parent"], g["stations"]) for n, g in told(project).items()}
    assert of == {"mill": (None, ["S1"]), "cellar": ("mill", ["S2"]), "yard": (None, ["S3", "S4"])}
    for wrong, match in (
        (lambda: groups.change(project, mill, 1, parent=cellar), "is within"),
        (lambda: groups.make(project, "mill", ids[:1]), "already"),
    ):
        with pytest.raises(BadInput, match=match):
            wrong()
    yard = told(project)["yard"]["id"]
    with pytest.raises(Conflict):
        groups.change(project, yard, 7, name="quay")
    groups.merge(project, cellar, told(project)["cellar"]["version"], yard)
    assert told(project)["cellar"]["stations"] == ["S2", "S3", "S4"] and "yard" not in told(project)
    groups.change(project, mill, told(project)["mill"]["version"], held=True)  # with all that is under it
    before = shape(project, "S1", "S2", "S3", "S4")
    link_rows(project, (ids[0], ids[3], frames.pose(1.0, (6.0, 2.0, 0.1))))
    np.testing.assert_allclose(shape(project, "S1", "S2", "S3", "S4"), before, atol=1e-9)
    groups.dissolve(project, cellar, told(project)["cellar"]["version"])
    assert told(project)["mill"]["stations"] == ["S1", "S2", "S3", "S4"] and told(project)["mill"]["held"]
    groups.dissolve(project, mill, told(project)["mill"]["version"])
    assert told(project) == {} and np.linalg.norm(shape(project, "S1", "S4")[1][:3, 3] - before[3][:3, 3]) > 0.01
    for _ in range(2):
        projects.undo(project)
    assert told(project)["cellar"]["stations"] == ["S2", "S3", "S4"] and told(project)["mill"]["held"]


def test_a_project_comes_in_as_a_group_with_its_links_targets_and_deletions(row: tuple[str, list[str]], tmp_path: Path) -> None:
    source, theirs = row
    sight_rows(source, {theirs[0]: np.eye(4), theirs[1]: frames.pose(0.3, (2.0, 0.4, 0.01))}, {"T1": [1.0, 1.0, 0.5]})
    gone = edits.delete_in_lasso(source, ABOVE, OUTLINE, theirs[:1])["count"]
    inner = groups.make(source, "shed", theirs[2:4])
    project = make_project("works")
    ours = scans(project, tmp_path / "own", "S1", "N1")
    at, before = poses(source), poses(project)

    merging.merge(project, {"source": source, "held": True}, Progress())
    assert told(project)["row"]["stations"] == ["S1 (row)", "S2", "S5"] and told(project)["row"]["held"]
    assert told(project)["shed"]["parent"] == "row" and told(source)["shed"]["id"] == inner
    now = poses(project)
    for name in ("S2", "S5"):
        np.testing.assert_allclose(frames.inverse(now["S1 (row)"]) @ now[name], frames.inverse(at["S1"]) @ at[name], atol=1e-9)
    np.testing.assert_allclose(now["S1"], before["S1"], atol=1e-12)
    with session() as s:
        copy = next(x for x in stations_of(s, project) if x.name == "S1 (row)")
        original = next(x for x in stations_of(s, source) if x.name == "S1")
        np.testing.assert_array_equal(read_station(s, copy).xyz, read_station(s, original).xyz)
        assert int(deleted_mask(s, copy).sum()) == gone > 0
        assert [t["name"] for t in solution_of(s, project)["targets"]] == ["T1"]
        assert len(solution_of(s, project)["parts"]) == 3
        assert s.query(Link).filter(Link.project_id == project).count() == 4 == s.query(Link).filter(Link.project_id == source).count()
    with pytest.raises(Conflict, match="here already"):
        merging.start(project, source)
    merging.merge(project, {"source": source, "held": False}, Progress())  # a second copy is told apart
    assert {"row", "row (2)", "shed", "shed (row)"} <= told(project).keys() and len(poses(project)) == 12
    projects.undo(project)
    projects.undo(project)
    assert poses(project).keys() == {"S1", "N1"} and told(project) == {}
    projects.delete_project(source)
    projects.delete_for_good(source)
    projects.undo(project, redo=True)
    with session() as s:
        copy = next(x for x in stations_of(s, project) if x.name == "S1 (row)")
        assert len(read_station(s, copy).xyz) == copy.points
    assert len(ours) == 2


def test_links_within_a_held_group_outlive_a_new_run(row: tuple[str, list[str]]) -> None:
    project, ids = row
    groups.make(project, "hall", ids[1:4], held=True)
    links.tie_all(project, {}, Progress())  # boxes of points on which nothing is found
    with session() as s:
        left = {frozenset((k.a, k.b)) for k in s.query(Link).filter(Link.project_id == project)}
    assert {frozenset(ids[1:3]), frozenset(ids[2:4])} <= left and frozenset(ids[:2]) not in left
