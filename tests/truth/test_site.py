"""The demo site with exact truth: every station, every link, every sphere, control."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from sqlalchemy import select

from taut_lantern.core import frames
from taut_lantern.core.align.prepared import prepare
from taut_lantern.site.common import get_project, matrix, stations_of
from taut_lantern.site.frames import in_use
from taut_lantern.site.placing import residuals_of
from taut_lantern.standins.site import control_rows
from taut_lantern.steps.bring_in.stations import list_stations
from taut_lantern.steps.place import control, grids
from taut_lantern.steps.projects import undo
from taut_lantern.steps.tie import links
from taut_lantern.store.db import session
from taut_lantern.store.models import Link, Sighting, SolutionRow
from taut_lantern.store.tiles import read_station


@pytest.fixture(scope="module")
def state(tied: str) -> dict[str, Any]:
    with session() as s:
        row = s.get_one(SolutionRow, tied)
        return {
            "stations": {x.id: x for x in stations_of(s, tied)},
            "links": list(s.scalars(select(Link).where(Link.project_id == tied))),
            "sightings": list(s.scalars(select(Sighting).where(Sighting.project_id == tied))),
            "solution": row.data,
        }


def test_all_stations_hang_together_and_every_pose_is_within_3_mm_and_10_mdeg(state: dict[str, Any], truth: dict[str, Any]) -> None:
    assert len(state["stations"]) == 12 and len(state["solution"]["parts"]) == 1
    datum = next(x for x in state["stations"].values() if x.id == state["solution"]["parts"][0]["datum"])
    for x in state["stations"].values():
        found = frames.inverse(matrix(datum.pose)) @ matrix(x.pose)
        expected = frames.inverse(truth["stations"][datum.name]) @ truth["stations"][x.name]
        metres, radians = frames.difference(found, expected)
        assert metres < 0.003 and np.degrees(radians) < 0.010, (x.name, metres, np.degrees(radians))


def test_no_link_that_is_wrong_by_20_mm_is_called_taut(state: dict[str, Any], truth: dict[str, Any]) -> None:
    assert len(state["links"]) > 20
    for k in state["links"]:
        a, b = (truth["stations"][state["stations"][x].name] for x in (k.a, k.b))
        metres, _ = frames.difference(matrix(k.T_a_b), frames.inverse(a) @ b)
        status = state["solution"]["links"][k.id]["status"]
        assert metres < 0.020 or status != "taut", (state["stations"][k.a].name, state["stations"][k.b].name, metres)


def test_claimed_deviations_of_links_are_honest(state: dict[str, Any], truth: dict[str, Any]) -> None:
    """Normalised errors of used links against truth: 1 is honest, surface offsets included."""
    level = []
    for k in state["links"]:
        if k.used:
            a, b = (truth["stations"][state["stations"][x].name] for x in (k.a, k.b))
            e = matrix(k.T_a_b) @ frames.inverse(frames.inverse(a) @ b)
            v = np.concatenate([frames.rotation_vector(e[:3, :3]), e[:3, 3]])
            level.append(np.sqrt(v @ np.linalg.solve(np.array(k.covariance).reshape(6, 6), v) / 6))
    assert 0.5 < np.median(level) < 1.5 and np.percentile(level, 90) < 2.5, np.percentile(level, [50, 90])


def test_spheres_with_25_points_lie_within_1_5_mm_and_none_is_invented(state: dict[str, Any], truth: dict[str, Any]) -> None:
    centres = np.array(list(truth["spheres"].values()))
    sure = [g for g in state["sightings"] if g.points >= 25]
    assert len(sure) >= 5
    for g in sure:
        pose = truth["stations"][state["stations"][g.station_id].name]
        gap = np.linalg.norm(frames.apply(pose, np.array([g.centre]))[0] - centres, axis=1)
        assert gap.min() < 0.0015 or g.remark, (state["stations"][g.station_id].name, gap.min(), g.remark)


def test_control_places_the_site_names_the_blunder_and_the_check_point_agrees(tied: str, truth: dict[str, Any]) -> None:
    rows = control_rows()
    text = "point;northing;easting;height;remark\n" + "\n".join(f"{n};{north:.4f};{e:.4f};{h:.4f};{r}" for n, north, e, h, r in rows)
    control.take_in(tied, text, "control.csv", None, "m")
    found = {p["name"]: p for p in residuals(tied)["points"]}
    assert sum(p["target"] is not None for p in found.values()) >= 4
    for name, p in found.items():
        if p["residual_mm"] is not None:
            assert (p["status"] == "parted") == (name == "S6"), p
            assert name == "S6" or p["residual_mm"]["d3"] < 5
    control.apply(tied)
    with session() as s:
        frame = in_use(s, get_project(s, tied))
        claimed = {x["name"]: np.array(x["sigma_position_mm"]) / 1000 for x in list_stations(s, tied)}
    assert frame.name == "control"
    ratios = []
    for x in _stations(tied):
        placed = frame.T_frame_part @ matrix(x.pose)
        metres, radians = frames.difference(placed, np.array(truth["control"]) @ truth["stations"][x.name])
        assert metres < 0.006 and np.degrees(radians) < 0.030, (x.name, metres, np.degrees(radians))
        ratios.append(((placed - np.array(truth["control"]) @ truth["stations"][x.name])[:3, 3] / claimed[x.name]) ** 2)
    assert 0.05 < np.mean(ratios) < 4, np.sqrt(ratios)  # one draw of control, which all stations share
    undo(tied)
    undo(tied)
    assert residuals(tied)["points"] == []


def residuals(project: str) -> dict[str, Any]:
    with session() as s:
        return residuals_of(s, project)


def _stations(project: str) -> list[Any]:
    with session() as s:
        return stations_of(s, project)


def test_the_site_is_squared_to_a_wall_that_was_picked(tied: str) -> None:
    """The pick is the sample of ST-01 with most like it round it, as one picks a bare part of a wall."""
    station = next(x for x in _stations(tied) if x.name == "ST-01")
    with session() as s:
        samples = prepare(read_station(s, station), whole=False).fine
    upright = np.abs(samples.normals[:, 2]) < 0.05
    points, normals = samples.points[upright], samples.normals[upright]
    alike = [int(((np.linalg.norm(points - p, axis=1) < 0.8) & (normals @ n > 0.99)).sum()) for p, n in zip(points, normals, strict=True)]
    best = int(np.argmax(alike))
    pose = matrix(station.pose)
    wall, normal = frames.apply(pose, points[best : best + 1])[0], pose[:3, :3] @ normals[best]
    made = grids.square(tied, grids.Picks.of(wall.tolist(), wall.tolist(), [1000.0, 2000.0, 30.0], False), "hall")
    with session() as s:
        frame = in_use(s, get_project(s, tied))
    T_grid_project = frame.T_frame_part
    assert frame.name == "hall" and made["wall_rms_mm"] < 3
    np.testing.assert_allclose((T_grid_project[:3, :3] @ normal)[:2], (0, -1), atol=0.01)  # E along the wall, N into it
    np.testing.assert_allclose(frames.apply(T_grid_project, wall[None])[0], (1000, 2000, 30), atol=1e-6)
    undo(tied)
    with session() as s:
        assert in_use(s, get_project(s, tied)).name == "project"


def test_a_link_that_is_switched_readjusts_at_once_and_undo_takes_it_back(tied: str) -> None:
    with session() as s:
        before = {k.id: k.used for k in s.scalars(select(Link).where(Link.project_id == tied))}
    first = next(iter(before))
    links.switch_link(tied, first, not before[first], None)
    with session() as s:
        now, row = s.get_one(Link, first), s.get_one(SolutionRow, tied)
        assert now.used != before[first] and row.network_revision == get_project(s, tied).network_revision
    undo(tied)
    with session() as s:
        assert {k.id: k.used for k in s.scalars(select(Link).where(Link.project_id == tied))} == before
