"""Selections, zones and classes, by what is stored and handed over: two stations in a room whose points are known one by one."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import laspy
import numpy as np
import pytest
from numpy.typing import NDArray

from taut_lantern.core import frames
from taut_lantern.core.errors import BadInput, Conflict, NotEnough, NotFound
from taut_lantern.formats import e57
from taut_lantern.site.common import Progress, matrix, stations_of
from taut_lantern.site.slab import slab_of
from taut_lantern.steps import projects
from taut_lantern.steps.clean import acting, boxes, classes, density, edits, filters, looking, selecting, zones
from taut_lantern.steps.draw import cuts, finding
from taut_lantern.steps.hand_over import deliver
from taut_lantern.store.db import actor, file_chunks, session
from taut_lantern.store.marks import deleted_mask, hidden_mask
from taut_lantern.store.models import PointSet, Section, Station
from taut_lantern.store.tiles import read_station
from tests.support import bring_in, link_rows, make_project, room, write_scan

Flags = NDArray[np.bool_]
ABOVE = [0.3, 0, 0, 0, 0, 0.4, 0, 0, 0, 0, -0.2, 0, 0, 0, 0, 1]
LEFT = [[-1, -1], [0, -1], [0, 1], [-1, 1]]


@pytest.fixture
def project(database: str, tmp_path: Path) -> str:
    made = make_project("selections")
    bring_in(made, [write_scan(tmp_path / f"ST-{k}.e57", room(30_000, seed=k), f"ST-{k}") for k in (1, 2)])
    with session() as s:
        one, other = (x.id for x in stations_of(s, made))
    link_rows(made, (one, other, frames.pose(0.3, (0.2, -0.1, 0.05))))
    return made


class Cloud:
    """What the database holds: points in the part, and what is marked of them."""

    def __init__(self, project: str) -> None:
        self.project = project
        with session() as s:
            rows = stations_of(s, project)
            scans = [read_station(s, x) for x in rows]
            self.ids = [x.id for x in rows]
            self.xyz = [
                scan.xyz.astype(float) @ matrix(x.pose)[:3, :3].T + matrix(x.pose)[:3, 3] for x, scan in zip(rows, scans, strict=True)
            ]
            self.bottom = float(min(p[:, 2].min() for p in self.xyz))
            self.intensity = [scan.intensity for scan in scans]

    def where(self, rule: Callable[[NDArray[np.float64]], Flags]) -> list[Flags]:
        return [rule(p) for p in self.xyz]

    def marked(self, what: Callable[..., Flags]) -> list[Flags]:
        with session() as s:
            return [what(s, s.get_one(Station, x)) for x in self.ids]

    def selected(self) -> list[Flags]:
        return self.marked(selecting.mask)

    def choose(self, kind: str, op: str = "replace", among: str = "living", **spec: Any) -> dict[str, Any]:
        return selecting.choose(self.project, {"kind": kind, **spec}, self.ids, op, among)

    def act(self, do: str, **given: Any) -> dict[str, Any]:
        return acting.act(self.project, do, selecting.selection(self.project)["revision"], given)


def same(found: list[Flags], expected: list[Flags]) -> None:
    assert sum(int(e.sum()) for e in expected) > 0
    for f, e in zip(found, expected, strict=True):
        np.testing.assert_array_equal(f, e)


@pytest.fixture
def cloud(project: str) -> Cloud:
    return Cloud(project)


def low(p: NDArray[np.float64]) -> Flags:
    return np.asarray(p[:, 2] <= 0.2)


def test_shapes_are_added_taken_away_crossed_and_turned_round_point_by_point(cloud: Cloud) -> None:
    left = cloud.where(lambda p: (np.abs(0.4 * p[:, 1]) <= 1) & (0.3 * p[:, 0] <= 0) & (0.3 * p[:, 0] >= -1) & (np.abs(0.2 * p[:, 2]) <= 1))
    told = cloud.choose("lasso", view=ABOVE, outline=LEFT)
    assert told["count"] == sum(int(m.sum()) for m in left) and len(told["stations"]) == 2
    ball = cloud.where(lambda p: ((p - [1, 0, 0]) ** 2).sum(axis=1) <= 4)
    cloud.choose("sphere", "add", centre=[1, 0, 0], radius=2.0)
    same(cloud.selected(), [a | b for a, b in zip(left, ball, strict=True)])
    slab = cloud.where(lambda p: np.abs(p[:, 2]) <= 0.3)
    cloud.choose("slab", "subtract", at=[0, 0, 0], normal=[0, 0, 2.0], low=-0.3, high=0.3)
    same(cloud.selected(), [(a | b) & ~c for a, b, c in zip(left, ball, slab, strict=True)])
    cloud.choose("frame", "intersect", centre=[0, 0, 0], half=[1.5, 9, 9], yaw=0.0)
    kept = [(a | b) & ~c & (np.abs(p[:, 0]) <= 1.5) for a, b, c, p in zip(left, ball, slab, cloud.xyz, strict=True)]
    same(cloud.selected(), kept)
    cloud.choose("inverse")
    same(cloud.selected(), [~m for m in kept])
    selecting.back(cloud.project)
    same(cloud.selected(), kept)
    cloud.choose("height", high=0.2)
    same(cloud.selected(), cloud.where(low))
    cloud.choose("intensity", low=0.5)
    same(cloud.selected(), [np.asarray(i >= 0.5) for i in cloud.intensity if i is not None])
    with pytest.raises(BadInput, match="lies everything"):
        cloud.choose("range")
    stroke = {"view": ABOVE, "outline": [[-0.3, 0.0], [0.3, 0.0]], "radius": [0.03, 0.04], "front": None}

    def near(p: NDArray[np.float64]) -> Flags:  # within 10 cm of a line 2 m long
        x = np.maximum(np.abs(p[:, 0]) - 1, 0)
        return np.asarray((x**2 + p[:, 1] ** 2 <= 0.01) & (np.abs(p[:, 2]) <= 5))

    cloud.choose("brush", **stroke)
    same(cloud.selected(), cloud.where(near))


def test_what_is_hidden_cropped_or_locked_is_spared_and_it_is_said_how_much(cloud: Cloud) -> None:
    floor = cloud.where(lambda p: p[:, 2] <= cloud.bottom + 0.1)
    cloud.choose("slab", at=[0, 0, cloud.bottom], normal=[0, 0, 1], high=0.1)
    zone = cloud.act("keep", name="floor")["id"]
    version = zones.listed(cloud.project)[0]["version"]
    zones.change_zone(cloud.project, zone, version, {"locked": True})
    cloud.choose("frame", centre=[1.5, 0, 0], half=[0.4, 9, 9], yaw=0.0)
    hidden = cloud.selected()
    cloud.act("hide")
    same(cloud.marked(hidden_mask), [h & ~f for h, f in zip(hidden, floor, strict=True)])
    assert zones.listed(cloud.project)[1]["name"] == zones.HIDDEN and not any(m.any() for m in cloud.selected())
    boxes.set_box(cloud.project, "west", [-5, 0, 0], [7, 9, 9], 0.0)
    told = cloud.choose("lasso", view=ABOVE, outline=[[-3, -3], [3, -3], [3, 3], [-3, 3]])
    west = cloud.where(lambda p: p[:, 0] <= 2)
    gone = [h & ~f for h, f in zip(hidden, floor, strict=True)]
    expected = [w & ~g & ~f for w, g, f in zip(west, gone, floor, strict=True)]
    same(cloud.selected(), expected)
    assert told["spared"]["cropped"] == sum(int((~w).sum()) for w in west)
    assert told["spared"]["hidden"] == sum(int((g & w).sum()) for g, w in zip(gone, west, strict=True))
    assert told["spared"]["locked"] == sum(int((f & w).sum()) for f, w in zip(floor, west, strict=True))
    with pytest.raises(Conflict, match="% of ST-") as asked:
        cloud.act("delete")
    assert asked.value.code == "too_much"
    cloud.act("delete", sure=True)
    same(cloud.marked(deleted_mask), expected)
    (edit,) = (e for e in list_edits(cloud.project) if e["does"] == "delete")
    edits.switch_edit(cloud.project, edit["id"], False, edit["version"])
    zones.show_all(cloud.project)
    cloud.choose("zone", zone=zone)  # a locked one can be shown, not taken
    assert not any(m.any() for m in cloud.selected())


def list_edits(project: str) -> list[dict[str, Any]]:
    with session() as s:
        return edits.list_edits(s, project)


def test_part_of_a_deletion_comes_back_and_undo_takes_that_back_too(cloud: Cloud) -> None:
    cloud.choose("slab", at=[0, 0, 0], normal=[0, 0, 1], low=0.5)
    top = cloud.selected()
    cloud.act("delete", sure=True)
    cloud.choose("frame", centre=[0, 0, 0], half=[1, 9, 9], yaw=0.0)  # of what lives: nothing of the top
    assert not any((a & b).any() for a, b in zip(cloud.selected(), top, strict=True))
    with pytest.raises(BadInput, match="are not deleted"):
        cloud.act("restore")
    cloud.choose("frame", among="deleted", centre=[0, 0, 0], half=[1, 9, 9], yaw=0.0)
    middle = [t & (np.abs(p[:, 0]) <= 1) for t, p in zip(top, cloud.xyz, strict=True)]
    same(cloud.selected(), middle)
    with pytest.raises(BadInput, match="only be brought back"):
        cloud.act("delete")
    said = cloud.act("restore")
    assert said["count"] == sum(int(m.sum()) for m in middle)
    left = [t & ~m for t, m in zip(top, middle, strict=True)]
    same(cloud.marked(deleted_mask), left)
    (edit,) = list_edits(cloud.project)
    assert edit["count"] == sum(int(m.sum()) for m in left) and edit["detail"]["restored"] == said["count"]
    projects.undo(cloud.project)
    same(cloud.marked(deleted_mask), top)
    projects.undo(cloud.project, redo=True)
    same(cloud.marked(deleted_mask), left)


def test_zones_nest_follow_their_stations_and_are_handed_over_apart(cloud: Cloud, tmp_path: Path) -> None:
    cloud.choose("frame", centre=[-1, 0, 0], half=[1, 9, 9], yaw=0.0)
    outer = cloud.act("keep", name="Pump room")["id"]
    cloud.choose("frame", centre=[-1, 1, 0], half=[0.5, 1, 9], yaw=0.0)
    inner = cloud.act("keep", name="Pump 1", parent=outer)["id"]
    (pump,) = (z for z in zones.listed(cloud.project) if z["id"] == inner)
    room_, held = cloud.where(lambda p: np.abs(p[:, 0] + 1) <= 1), cloud.selected()
    zones.change_zone(cloud.project, outer, None, {"shown": False})
    same(cloud.marked(hidden_mask), [a | b for a, b in zip(room_, held, strict=True)])  # what is nested goes with it
    zones.change_zone(cloud.project, outer, None, {"shown": True})
    with pytest.raises(BadInput, match="within itself"):
        zones.change_zone(cloud.project, outer, None, {"parent_id": inner})
    cloud.choose("sphere", centre=[-1, 1, 0], radius=0.8)
    ball = cloud.selected()
    cloud.act("out_of", zone=inner)
    cloud.choose("zone", zone=inner)
    same(cloud.selected(), [h & ~b for h, b in zip(held, ball, strict=True)])
    with pytest.raises(Conflict, match="changed by somebody else"):
        zones.change_zone(cloud.project, inner, pump["version"], {"name": "P-101"})
    zones.change_zone(cloud.project, inner, None, {"apart": True, "name": "P-101"})
    heads = {h.name: h.points for h in e57.headers(delivered(cloud.project, tmp_path, "e57"))}
    own = [int((h & ~b).sum()) for h, b in zip(held, ball, strict=True)]
    assert heads == {"ST-1": 30_000 - own[0], "ST-2": 30_000 - own[1], "P-101 (ST-1)": own[0], "P-101 (ST-2)": own[1]}
    path = delivered(cloud.project, tmp_path, "laz", zones=[outer])
    with laspy.open(path) as f:
        assert f.header.point_count == sum(
            int((r | h).sum()) for r, h in zip(room_, [h & ~b for h, b in zip(held, ball, strict=True)], strict=True)
        )
    zones.remove_zone(cloud.project, outer, None)
    assert [(z["name"], z["parent_id"]) for z in zones.listed(cloud.project)] == [("P-101", None)]
    projects.undo(cloud.project)
    assert {z["name"] for z in zones.listed(cloud.project)} == {"P-101", "Pump room"}


def delivered(project: str, folder: Path, kind: str, **params: Any) -> Path:
    made = deliver.make(project, {"what": kind, **params}, Progress())
    path = folder / f"{hashlib.sha256(str(params).encode()).hexdigest()[:8]}.{kind}"
    path.write_bytes(b"".join(file_chunks(made["delivery"], made["size"])))
    return path


def test_classes_are_given_selected_handed_over_and_taken_away(cloud: Cloud, tmp_path: Path) -> None:
    cloud.choose("slab", at=[0, 0, 0], normal=[0, 0, 1], high=0.2)
    cloud.act("class", code=2)
    code = classes.add(cloud.project, "cable tray")
    with pytest.raises(Conflict, match="already"):
        classes.add(cloud.project, "Cable Tray")
    cloud.choose("frame", centre=[0, 0, 0], half=[1, 9, 9], yaw=0.0)
    cloud.act("class", code=code)
    tray = cloud.where(lambda p: np.abs(p[:, 0]) <= 1)
    ground = [low(p) & ~t for p, t in zip(cloud.xyz, tray, strict=True)]
    cloud.choose("class", code=2)
    same(cloud.selected(), ground)
    with laspy.open(delivered(cloud.project, tmp_path, "laz")) as f:
        found = np.asarray(f.read().classification)
    assert {int(k): int(n) for k, n in zip(*np.unique(found, return_counts=True), strict=True) if k} == {
        2: sum(int(m.sum()) for m in ground),
        code: sum(int(m.sum()) for m in tray),
    }
    last = list_edits(cloud.project)[0]
    edits.switch_edit(cloud.project, last["id"], False, last["version"])
    cloud.choose("class", code=2)
    same(cloud.selected(), cloud.where(low))
    with pytest.raises(BadInput, match="no class 99"):
        cloud.act("class", code=99)


def test_each_has_a_selection_of_their_own_which_nobody_else_changes_unseen(cloud: Cloud) -> None:
    cloud.choose("sphere", centre=[0, 0, 0], radius=2.0)
    mine = selecting.selection(cloud.project)
    own = actor.set("Ines")
    cloud.choose("slab", at=[0, 0, 0], normal=[0, 0, 1], low=0.5)
    hers = cloud.selected()
    cloud.act("delete", sure=True)
    actor.reset(own)
    assert selecting.selection(cloud.project) == mine
    said = acting.act(cloud.project, "delete", mine["revision"], {"sure": True})
    ball = cloud.where(lambda p: (p**2).sum(axis=1) <= 4)
    assert said["spared"] == sum(int((b & h).sum()) for b, h in zip(ball, hers, strict=True)) > 0  # she was there before
    same(cloud.marked(deleted_mask), [b | h for b, h in zip(ball, hers, strict=True)])
    with pytest.raises(Conflict, match="another window"):
        acting.act(cloud.project, "delete", mine["revision"], {})


def test_only_what_is_selected_is_shown_and_all_comes_back(cloud: Cloud) -> None:
    cloud.choose("frame", centre=[0, 0, 0], half=[1, 9, 9], yaw=0.0)
    alone = cloud.selected()
    cloud.act("only", stations=cloud.ids)
    same([~m for m in cloud.marked(hidden_mask)], alone)
    zones.show_all(cloud.project)
    assert not any(m.any() for m in cloud.marked(hidden_mask))


def test_a_selection_leaves_nothing_behind_but_its_last_steps(cloud: Cloud) -> None:
    for k in range(selecting.KEPT + 5):
        cloud.choose("sphere", centre=[0, 0, 0], radius=1.5 + 0.05 * k)
    with session() as s:
        held = {x for (x,) in s.query(PointSet.set_id).filter(PointSet.project_id == cloud.project).distinct()}
    assert len(held) == selecting.KEPT
    for _ in range(selecting.KEPT):
        selecting.back(cloud.project)
    with pytest.raises(BadInput, match="no step"):
        selecting.back(cloud.project)


def test_a_pick_grows_over_the_wall_it_is_on_and_stops_at_its_corners(cloud: Cloud) -> None:
    p = cloud.xyz[0]
    wall = float(p[:, 0].max())
    pick = p[np.argmin(np.abs(p - [wall, 0.3, 0.1]).sum(axis=1))]
    cloud.choose("grow", station=cloud.ids[0], at=pick.tolist(), what="surface", reach=12.0)
    for found, xyz in zip(cloud.selected(), cloud.xyz, strict=True):
        on = np.abs(xyz[:, 0] - wall) <= 0.01
        assert found[on].mean() > 0.99 and found[np.abs(xyz[:, 0] - wall) > 0.03].sum() == 0
    assert cloud.choose("grow", station=cloud.ids[0], at=[0.0, 0.0, 0.1], what="surface", reach=0.3)["count"] == 0
    with pytest.raises(NotEnough, match="nothing hangs together"):
        cloud.choose("grow", station=cloud.ids[0], at=[wall - 0.3, 0.3, 0.1], what="thing", reach=0.6)


def test_points_beyond_limits_are_proposed_kept_as_a_recipe_and_decided_as_one(cloud: Cloud) -> None:
    with pytest.raises(BadInput, match="need a limit from 1 to 1000"):
        filters.start(cloud.project, ["far"], 0.5)
    limits = {"far": 2.5, "dim": 0.1}
    with session() as s:
        part = s.get_one(Station, cloud.ids[0]).part_id
    told = filters.run(cloud.project, {"kinds": ["dim", "far"], "strength": 0.5, "part": part, "limits": limits}, Progress())
    with session() as s:
        scans = [read_station(s, s.get_one(Station, x)) for x in cloud.ids]
    far = [np.linalg.norm(scan.xyz, axis=1) > 2.5 for scan in scans]
    dim = [np.asarray(scan.intensity) < 0.1 for scan in scans]
    finds = {e["kind"]: e for e in list_edits(cloud.project)}
    assert finds["far"]["count"] == sum(int(m.sum()) for m in far) and finds["dim"]["count"] == sum(int(m.sum()) for m in dim)
    assert told["points"] == finds["far"]["count"] + finds["dim"]["count"] and finds["far"]["detail"]["too_much"]
    assert not any(m.any() for m in cloud.marked(deleted_mask))  # found is not deleted
    filters.decide(cloud.project, finds["dim"]["id"], finds["dim"]["version"], delete=True)
    filters.decide_all(cloud.project, "far", delete=False, code=7)
    same(cloud.marked(deleted_mask), dim)
    cloud.choose("class", code=7)
    same(cloud.selected(), [f & ~d for f, d in zip(far, dim, strict=True)])
    filters.keep_recipe(cloud.project, "rough", ["far", "dim"], 0.5, limits)
    filters.keep_recipe(cloud.project, "rough", ["dim"], 0.7, {"dim": 0.2})
    assert filters.recipes(cloud.project) == [{"name": "rough", "kinds": ["dim"], "strength": 0.7, "limits": {"dim": 0.2}}]
    filters.drop_recipe(cloud.project, "rough")
    assert filters.recipes(cloud.project) == []
    projects.undo(cloud.project)
    assert len(filters.recipes(cloud.project)) == 1


def test_one_spacing_is_seen_before_it_goes_out_and_takes_no_point_from_a_selection(cloud: Cloud, tmp_path: Path) -> None:
    with session() as s:
        part = s.get_one(Station, cloud.ids[0]).part_id
    told = density.run(cloud.project, {"spacing": 0.2, "part": part}, Progress())
    left_out = cloud.marked(hidden_mask)
    assert sum(int(m.sum()) for m in left_out) == told["left_out"] and told["kept"] + told["left_out"] == 60_000
    kept = np.concatenate([p[~m] for p, m in zip(cloud.xyz, left_out, strict=True)])
    assert len(np.unique(np.floor(kept / 0.2), axis=0)) == len(kept) == told["kept"]
    with laspy.open(delivered(cloud.project, tmp_path, "laz")) as f:
        assert f.header.point_count == told["kept"]
    cloud.choose("sphere", centre=[0, 0, 0], radius=2.0)
    same(cloud.selected(), cloud.where(lambda p: (p**2).sum(axis=1) <= 4))  # what is left out is of the thing all the same
    assert zones.listed(cloud.project)[0]["old"] == ""
    cloud.act("delete", sure=True)
    assert "deleted or brought back" in zones.listed(cloud.project)[0]["old"]
    projects.undo(cloud.project)
    (zone,) = zones.listed(cloud.project)
    assert zone["old"] == ""
    zones.change_zone(cloud.project, zone["id"], zone["version"], {"shown": True})
    with laspy.open(delivered(cloud.project, tmp_path, "laz", even=None)) as f:
        assert f.header.point_count == 60_000


def test_tiles_that_lie_within_an_outline_as_a_whole_are_not_read_and_give_the_same_points(
    project: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    cloud = Cloud(project)
    cloud.choose("lasso", view=ABOVE, outline=LEFT)
    gone = cloud.selected()
    cloud.act("delete", sure=True)
    cloud.choose("height", low=cloud.bottom - 0.1, high=cloud.bottom + 0.1)
    cloud.act("keep", name="floor")
    with session() as s:
        (floor,) = zones.list_zones(s, project)
    zones.change_zone(project, floor["id"], floor["version"], {"locked": True})
    all_of_it = [[-9, -9], [9, -9], [9, 9], [-9, 9]]
    locked = cloud.where(lambda p: np.abs(p[:, 2] - cloud.bottom) <= 0.1)

    def read(ids: list[int], **_: Any) -> Any:
        assert not ids
        return iter(())

    with monkeypatch.context() as m:
        m.setattr(looking, "read_tiles", read)
        told = cloud.choose("lasso", view=ABOVE, outline=all_of_it)
    same(cloud.selected(), [~g & ~k for g, k in zip(gone, locked, strict=True)])
    assert told["spared"]["locked"] == sum(int((~g & k).sum()) for g, k in zip(gone, locked, strict=True)) > 100


def test_a_cut_may_be_of_zones_stations_or_boxes_alone_and_is_old_when_one_takes_more(project: str) -> None:
    cloud = Cloud(project)
    height = cloud.bottom + 0.7

    def met(section: str) -> int:
        with session() as s:
            return slab_of(s, project, s.get_one(Section, section)).counts["points"]

    def listed() -> list[dict[str, Any]]:
        with session() as s:
            return cuts.list_sections(s, project)

    def old(section: str) -> list[str]:
        with session() as s:
            (row,) = (r for r in cuts.list_sections(s, project) if r["id"] == section)
        return [t["why_old"] for _, t in row["traces"] if t]

    inside = cloud.where(lambda p: np.abs(p[:, 2] - height) <= 0.2)
    params = {"height": height, "before": 0.2, "behind": 0.2}
    whole, one = cuts.make_sections(project, [("plan", params, ""), ("plan", params | {"of": {"stations": [cloud.ids[0]]}}, "")])
    assert (met(whole), met(one)) == (sum(int(x.sum()) for x in inside), int(inside[0].sum())) and met(one) > 500
    cloud.choose("lasso", view=ABOVE, outline=LEFT)
    chosen = cloud.selected()
    zone = cloud.act("keep", name="West")["id"]
    section = cuts.make_section(project, "plan", params | {"of": {"zones": [zone]}})
    assert met(section) == sum(int((a & b).sum()) for a, b in zip(inside, chosen, strict=True)) > 500
    finding.job(project, {"section_id": section}, Progress())
    assert old(section) and not any(old(section))
    cloud.choose("height", low=height - 0.4, high=height + 0.4)
    cloud.act("into", zone=zone)
    assert met(section) == met(whole) and "points" in " ".join(old(section))
    cuts.change_section(project, section, 1, params={"of": {}})
    zones.remove_zone(project, zone, None)
    assert met(section) == met(whole)
    with pytest.raises(NotFound, match="zones"):
        cuts.make_section(project, "plan", params | {"of": {"zones": [zone]}})
    size = {"centre": [0.0, 0.0, height], "half": [1.0, 50.0, 50.0], "yaw": 0.0}
    box = boxes.set_box(project, "Middle", **size, active=False)  # it crops nothing that is seen
    section = cuts.make_section(project, "plan", params | {"of": {"boxes": [box]}})
    middle = cloud.where(lambda p: (np.abs(p[:, 2] - height) <= 0.2) & (np.abs(p[:, 0]) <= 1.0))
    assert met(section) == sum(int(x.sum()) for x in middle) and 100 < met(section) < met(whole)
    finding.job(project, {"section_id": section}, Progress())
    assert old(section) and not any(old(section))
    boxes.set_box(project, "Middle", **(size | {"half": [2.0, 50.0, 50.0]}), box_id=box, active=False)
    assert all(old(section)) and met(section) > sum(int(x.sum()) for x in middle)
    boxes.remove_box(project, box)
    with pytest.raises(NotFound, match="box"):  # of a box that is gone is not of everything
        met(section)
    assert "a box that is gone" in next(r["of"] for r in listed() if r["id"] == section)
