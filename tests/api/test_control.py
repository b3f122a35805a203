"""Control over HTTP: what is wrong with a file is told, put right with one request, placed, compared and restored."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import laspy
import numpy as np
import pytest
from fastapi.testclient import TestClient

from taut_lantern.api.app import make_app
from taut_lantern.core import frames
from taut_lantern.formats import e57
from tests.api.test_api import made, problem, undo
from tests.api.test_steps import deliver
from tests.support import bring_in, room, sight_rows, write_scan

SPOTS = {"A1": (3.2, 1.0, -0.2), "B2": (14.1, 8.7, 0.3), "C3": (20.4, 1.5, -0.5), "D4": (27.0, 9.2, 0.0), "E5": (8.0, 4.0, -3.4)}
GRID = frames.pose(0.41, (437_215.482, 5_812_904.317, 46.250))


@pytest.fixture(scope="module")
def client(database: str) -> Iterator[TestClient]:
    with TestClient(make_app(), base_url="http://localhost") as c:
        yield c


@pytest.fixture
def p(client: TestClient, tmp_path: Any) -> str:
    """Two stations 1 m apart that see five targets T1 to T5."""
    project = made(client, "Control")
    ids = bring_in(project, [write_scan(tmp_path / f"ST-{k}.e57", room(4000, seed=k)) for k in (1, 2)])
    named = {f"T{k + 1}": v for k, v in enumerate(SPOTS.values())}
    sight_rows(project, {ids[0]: np.eye(4), ids[1]: frames.pose(0.0, (1.0, 0.0, 0.0))}, named)
    return project


def given(order: str = "neh", factor: float = 1.0, names: list[str] | None = None, **change: tuple[float, float, float]) -> str:
    rows = []
    for name, (spot_name, spot) in zip(names or SPOTS, SPOTS.items(), strict=True):
        e, n, h = frames.apply(GRID, np.array([spot]))[0] + np.array(change.get(spot_name, (0, 0, 0)))
        rows.append(f"{name};" + ";".join(f"{factor * {'n': n, 'e': e, 'h': h}[k]:.5f}" for k in order))
    return "\n".join(rows) + "\n"


def take(client: TestClient, p: str, text: str, **more: Any) -> dict[str, Any]:
    r = client.put(f"/api/projects/{p}/control", json={"text": text, "file": "k.csv"} | more)
    assert r.status_code == 200, r.text
    out: dict[str, Any] = r.json()
    return out


def worst(control: dict[str, Any]) -> float:
    return max(q["residual_mm"]["d3"] for q in control["points"])


def test_exchanged_axes_are_matched_told_refused_and_put_right(client: TestClient, p: str) -> None:
    control = take(client, p, given("enh"))
    assert {q["matched_by"] for q in control["points"]} == {"geometry"} and "exchanged" in control["sentence"]
    problem(client.post(f"/api/projects/{p}/control/apply", json={}), 422, "axes_exchanged")
    right = client.post(f"/api/projects/{p}/control/exchange", json={}).json()
    assert worst(right) < 0.1 and {q["status"] for q in right["points"]} == {"taut"}
    undo(client, p)
    assert "exchanged" in client.get(f"/api/projects/{p}/control").json()["sentence"]


def test_feet_read_as_metres_are_told_and_read_again(client: TestClient, p: str) -> None:
    control = take(client, p, given(factor=1 / 0.3048))
    assert [f["code"] for f in control["findings"] if f["subject"] == "control"] == ["unit"]
    assert client.post(f"/api/projects/{p}/control/unit", json={"unit": "cubit"}).status_code == 422
    assert worst(client.post(f"/api/projects/{p}/control/unit", json={"unit": "ft"}).json()) < 0.2
    head = client.post(f"/api/projects/{p}/control/apply", json={}).json()
    assert head["unit"] == "ft"


def test_swapped_points_are_named_and_swapped_back(client: TestClient, p: str) -> None:
    take(client, p, given(names=["T1", "T2", "T4", "T3", "T5"]))
    control = client.get(f"/api/projects/{p}/control").json()
    assert {q["matched_by"] for q in control["points"]} == {"name"}
    (f,) = [f for f in control["findings"] if f["code"] == "swapped"]
    a, b = (next(q["id"] for q in control["points"] if q["name"] == n) for n in f["subject"].split(" and "))
    problem(client.post(f"/api/projects/{p}/control/swap", json={"a": a, "b": a}), 422, "bad_input")
    right = client.post(f"/api/projects/{p}/control/swap", json={"a": a, "b": b}).json()
    assert worst(right) < 0.1 and {q["matched_by"] for q in right["points"] if q["id"] in (a, b)} == {"hand"}


def test_points_without_height_and_with_deviations_come_through_to_the_report(client: TestClient, p: str, tmp_path: Any) -> None:
    lines = given().splitlines()
    lines[0] = ";".join(lines[0].split(";")[:3]) + ";-"
    text = "point;northing;easting;height;s\n" + "\n".join(f"{x};0.002" for x in lines) + "\n"
    control = take(client, p, text)
    first = control["points"][0]
    assert first["enh"][2] is None and first["sigma_mm"] == [2, 2, 2] and first["residual_mm"]["h"] is None
    assert first["status"] == "taut" and all(q["residual_mm"]["alone"] is not None for q in control["points"])
    for mode in ("rigid", "level"):
        assert client.post(f"/api/projects/{p}/control/apply", json={"mode": mode}).status_code == 200
    client.patch(f"/api/projects/{p}/control/{control['points'][4]['id']}", json={"role": "check", "version": 1}).raise_for_status()
    report = deliver(client, p, "html", tmp_path).read_text()
    assert "Check points took no part" in report and "Placements on control" in report and "geometry" in report
    assert deliver(client, p, "pdf", tmp_path).stat().st_size > 5000


def test_placements_stay_in_a_list_are_compared_and_restored(client: TestClient, p: str) -> None:
    take(client, p, given())
    head = client.post(f"/api/projects/{p}/control/apply", json={}).json()
    moved = take(client, p, given(**dict.fromkeys(SPOTS, (0.5, 0.0, 0.0))))  # the surveyor sends another file
    assert not moved["up_to_date"]
    client.post(f"/api/projects/{p}/control/apply", json={"mode": "level"}).raise_for_status()
    now = client.get(f"/api/projects/{p}").json()
    assert now["T_frame_part"][3] == pytest.approx(head["T_frame_part"][3] + 0.5, abs=1e-4)
    assert client.get(f"/api/projects/{p}/control").json()["mode"] == "level"
    last, first = client.get(f"/api/projects/{p}/placements").json()
    assert (last["in_use"], last["mode"], first["in_use"], first["mode"]) == (True, "level", False, "rigid")
    assert first["moves_mm"] == pytest.approx([500, 0, 0], abs=0.1) and last["moves_mm"] == pytest.approx([0, 0, 0], abs=0.1)
    back = client.post(f"/api/projects/{p}/placements/{first['id']}/restore", json={}).json()
    assert back["T_frame_part"] == head["T_frame_part"]
    assert [x["in_use"] for x in client.get(f"/api/projects/{p}/placements").json()] == [False, True]
    undo(client, p)
    assert client.get(f"/api/projects/{p}").json()["T_frame_part"][3] == pytest.approx(now["T_frame_part"][3], abs=1e-6)


def test_a_corner_is_a_target_in_every_station_that_sees_it_and_gives_control_a_place(client: TestClient, tmp_path: Any) -> None:
    """A room of 6 x 4 x 3 m from two stations 1 m apart: three corners and one picked point are matched to control by name."""
    project = made(client, "Corners")
    shift = np.array([-1.0, 0.0, 0.0])
    scans = [room(150_000, seed=1), room(150_000, seed=2, origin=tuple(shift))]
    a, b = bring_in(project, [write_scan(tmp_path / f"ST-{k}.e57", s) for k, s in enumerate(scans)])
    sight_rows(project, {a: np.eye(4), b: frames.pose(0.0, (1.0, 0.0, 0.0))}, {f"T{k}": v for k, v in enumerate(SPOTS.values())})
    url, true = f"/api/projects/{project}/targets/pick", {"K1": (3, 2, 1.5), "K2": (-3, 2, 1.5), "K3": (3, -2, -1.5)}
    for name, at in true.items():
        near = [float(v) * 0.99 for v in at]
        made_ = client.post(url, json={"kind": "corner", "at": near, "name": name})
        assert made_.status_code == 201 and made_.json()["sightings"] == 2, made_.text
        np.testing.assert_allclose(made_.json()["at"], at, atol=0.003)
    wall = client.post(url, json={"kind": "point", "at": [3.0, 0.5, 0.2]}).json()
    assert wall["sightings"] == 1 and wall["name"] == "P1"
    problem(client.post(url, json={"kind": "corner", "at": [3.0, 0.5, 0.2]}), 422, "not_enough")
    problem(client.post(url, json={"kind": "point", "at": [0.2, 0.5, 0.2]}), 422, "not_enough")
    seen = [g for g in client.get(f"/api/projects/{project}/sightings").json() if g["target_name"] == "K1"]
    assert {g["kind"] for g in seen} == {"corner"} and all(0.2 < g["sigma_mm"] < 3 for g in seen)
    client.post(url, json={"kind": "corner", "at": [2.95, 1.95, 1.45], "name": "K1"}).raise_for_status()  # once more: not twice
    assert sum(g["target_name"] == "K1" for g in client.get(f"/api/projects/{project}/sightings").json()) == 2
    rows = {n: frames.apply(GRID, np.array([at], float))[0] for n, at in true.items()}
    control = take(client, project, "".join(f"{n};{v[1]:.4f};{v[0]:.4f};{v[2]:.4f}\n" for n, v in rows.items()))
    assert worst(control) < 3 and {q["matched_by"] for q in control["points"]} == {"name"}
    body = {"wall": [3.0, 0.5, 0.2], "point": [2.95, -1.95, -1.45], "given": [100.0, 200.0, 10.0], "corner": True, "name": "hall"}
    grid = client.post(f"/api/projects/{project}/square", json=body).json()
    assert grid["corner"]["off_square"] < 0.5 and grid["corner"]["off_plumb"] < 0.5 and min(grid["corner"]["points"]) > 50
    t = np.reshape(client.get(f"/api/projects/{project}").json()["T_frame_part"], (4, 4))
    np.testing.assert_allclose(frames.apply(t, np.array([true["K3"]], float))[0], [100, 200, 10], atol=0.003)


def test_control_in_the_network_bends_it_by_its_weight_and_lets_go_again(client: TestClient, p: str) -> None:
    """Four points of 1 mm over two stations whose sightings are of 1 mm: what they differ by goes into both. Undo and a
    placement of the other kind bring the network back as it was."""

    def places() -> dict[str, list[float]]:
        return {t["id"]: t["position"] for t in client.get(f"/api/projects/{p}/targets").json()}

    free = places()
    text = "point;northing;easting;height;s\n" + "".join(f"{x};0.001\n" for x in given(C3=(0.0, 0.006, 0.0)).splitlines())
    take(client, p, text)
    rigid = worst(client.get(f"/api/projects/{p}/control?mode=rigid").json())
    shown = client.get(f"/api/projects/{p}/control?mode=network").json()
    assert shown["mode"] == "network" and worst(shown) < 0.8 * rigid
    assert places() == free  # looking changes nothing
    client.post(f"/api/projects/{p}/control/apply", json={"mode": "network"}).raise_for_status()
    bent = places()
    assert max(float(np.linalg.norm(np.subtract(bent[k], free[k]))) for k in free) > 5e-4
    after = client.get(f"/api/projects/{p}/control").json()
    assert after["up_to_date"] and worst(after) == pytest.approx(worst(shown), abs=0.05)
    assert not client.get(f"/api/projects/{p}/network").json()["out_of_date"]
    frame = next(f for f in client.get(f"/api/projects/{p}").json()["frames"] if f["kind"] == "control")
    gone = {"version": frame["version"], "removed": True}
    client.patch(f"/api/projects/{p}/frames/{frame['id']}", json=gone).raise_for_status()  # taken away it lets go too
    for k, t in places().items():
        np.testing.assert_allclose(t, free[k], atol=1e-7)
    undo(client, p)
    for k, t in places().items():
        np.testing.assert_allclose(t, bent[k], atol=1e-7)
    client.post(f"/api/projects/{p}/control/apply", json={"mode": "rigid"}).raise_for_status()
    for k, t in places().items():
        np.testing.assert_allclose(t, free[k], atol=1e-7)
    let_go = client.get(f"/api/projects/{p}/control").json()
    assert let_go["up_to_date"] and worst(let_go) == pytest.approx(rigid, abs=1e-3)  # placed as the network is without it
    assert client.get(f"/api/projects/{p}/placements").json()[0]["moves_mm"] == pytest.approx([0, 0, 0], abs=1e-3)
    undo(client, p)
    for k, t in places().items():
        np.testing.assert_allclose(t, bent[k], atol=1e-7)
    undo(client, p)
    for k, t in places().items():
        np.testing.assert_allclose(t, free[k], atol=1e-7)


def test_a_matched_target_takes_the_name_of_its_control_point_and_points_come_by_hand(client: TestClient, p: str) -> None:
    def names() -> list[str]:
        return sorted(t["name"] for t in client.get(f"/api/projects/{p}/targets").json())

    assert names() == ["T1", "T2", "T3", "T4", "T5"]
    take(client, p, given())
    assert names() == sorted(SPOTS) and {q["matched_by"] for q in client.get(f"/api/projects/{p}/control").json()["points"]} == {"geometry"}
    client.post(f"/api/projects/{p}/control/match", json={}).raise_for_status()
    assert {q["matched_by"] for q in client.get(f"/api/projects/{p}/control").json()["points"]} == {"geometry"}  # what matched it stays
    target = client.get(f"/api/projects/{p}/targets").json()[0]
    url = f"/api/projects/{p}/control/points"
    problem(client.post(url, json={"name": "G1"}), 422, "bad_input")
    problem(client.post(url, json={"name": "A1", "e": 1.0}), 422, "bad_input")
    east = frames.apply(GRID, np.array([target["position"]]))[0][0]
    control = client.post(url, json={"name": "G1", "e": east, "sigma_mm": 3.0, "target": target["id"]}).json()
    own = next(q for q in control["points"] if q["name"] == "G1")
    assert own["enh"] == [east, None, None] and own["sigma_mm"] == [3.0, None, None] and abs(own["residual_mm"]["e"]) < 0.1
    gone = client.delete(f"/api/projects/{p}/control/{own['id']}?version={own['version']}").json()
    assert "G1" not in [q["name"] for q in gone["points"]]


def test_tapes_plumb_walls_and_levels_take_part_and_are_listed(client: TestClient, p: str) -> None:
    spots = {t["name"]: t for t in client.get(f"/api/projects/{p}/targets").json()}
    url = f"/api/projects/{p}/known"
    far = float(np.linalg.norm(np.subtract(spots["T1"]["position"], spots["T2"]["position"])))
    problem(client.post(f"{url}/tape", json={"a": spots["T1"]["id"], "b": spots["T1"]["id"], "metres": 1}), 422, "bad_input")
    rows = client.post(f"{url}/tape", json={"a": spots["T1"]["id"], "b": spots["T2"]["id"], "metres": far + 0.04, "sigma_mm": 1}).json()
    tape = next(k for k in rows if k["kind"] == "tape")
    assert tape["status"] == "slack" and 20 < tape["off"] < 40 and [k["kind"] for k in rows].count("level") == 2
    assert any("tape T1 – T2" in f["message"] for f in client.get(f"/api/projects/{p}/network").json()["findings"])
    moved = {t["name"]: t for t in client.get(f"/api/projects/{p}/targets").json()}
    now = float(np.linalg.norm(np.subtract(moved["T1"]["position"], moved["T2"]["position"])))
    assert now > far + 0.003  # it pulls
    rows = client.patch(f"{url}/{tape['id']}", json={"version": tape["version"], "used": False}).json()
    assert next(k for k in rows if k["kind"] == "tape")["status"] == "loose"
    back = {t["name"]: t["position"] for t in client.get(f"/api/projects/{p}/targets").json()}
    np.testing.assert_allclose(back["T1"], spots["T1"]["position"], atol=1e-9)
    tape = next(k for k in rows if k["kind"] == "tape")
    assert all(k["kind"] != "tape" for k in client.delete(f"{url}/{tape['id']}?version={tape['version']}").json())
    problem(client.post(f"{url}/plumb", json={"at": [500.0, 0, 0]}), 422, "not_enough")
    head = client.get(f"/api/projects/{p}/search").json()
    client.patch(f"/api/projects/{p}/search", json={"version": head["version"], "level": False}).raise_for_status()
    assert client.get(url).json() == []  # scanners that may lean have no level


def test_a_scale_is_applied_to_every_point_that_is_delivered(client: TestClient, p: str, tmp_path: Any) -> None:
    """Control 400 ppm longer than the scans: refused its tolerance without scale, exact with it, to the points of both kinds of clouds."""
    middle = frames.apply(GRID, np.array(list(SPOTS.values()))).mean(axis=0)
    stretch = {n: tuple(4e-4 * (frames.apply(GRID, np.array([v]))[0] - middle)) for n, v in SPOTS.items()}
    control = take(client, p, given(**stretch))  # type: ignore[arg-type]
    assert worst(control) > 3 and any(f["code"] == "scale" for f in control["findings"])
    scaled = client.get(f"/api/projects/{p}/control?mode=scaled").json()
    assert worst(scaled) < 0.1 and abs(scaled["scale_ppm"] - 400) < 3 and any(f["code"] == "scaled" for f in scaled["findings"])
    head = client.post(f"/api/projects/{p}/control/apply", json={"mode": "scaled"}).json()
    t = np.array(head["T_frame_part"]).reshape(4, 4)
    assert abs(np.cbrt(np.linalg.det(t[:3, :3])) - 1.0004) < 3e-6
    spots = {x["name"]: x["position"] for x in client.get(f"/api/projects/{p}/targets").json()}
    want = {n: frames.apply(GRID, np.array([SPOTS[n]]))[0] + stretch[n] for n in SPOTS}
    for n, at in spots.items():
        np.testing.assert_allclose(frames.apply(t, np.array([at]))[0], want[n], atol=2e-4)
    path = deliver(client, p, "e57", tmp_path)
    station = client.get(f"/api/projects/{p}/stations").json()[0]
    assert frames.is_rigid(e57.headers(path)[0].pose)
    cloud, _ = e57.points(path, 0)
    there = frames.apply(e57.headers(path)[0].pose, cloud.xyz)
    source, _ = e57.points(tmp_path / "ST-1.e57", 0)
    expected = frames.apply(t @ np.array(station["pose"]).reshape(4, 4), source.xyz)
    low = (there.min(axis=0), expected.min(axis=0))
    np.testing.assert_allclose(*low, atol=2e-4)
    np.testing.assert_allclose(there.max(axis=0), expected.max(axis=0), atol=2e-4)
    with laspy.open(deliver(client, p, "laz", tmp_path)) as f:
        first = f.header
    both = np.concatenate(
        [
            expected,
            frames.apply(
                t @ np.array(client.get(f"/api/projects/{p}/stations").json()[1]["pose"]).reshape(4, 4),
                e57.points(tmp_path / "ST-2.e57", 0)[0].xyz,
            ),
        ]
    )
    np.testing.assert_allclose(first.mins, both.min(axis=0), atol=1.1e-3)
    np.testing.assert_allclose(first.maxs, both.max(axis=0), atol=1.1e-3)
    name = client.post(f"/api/projects/{p}/frames/{head['frame']}/transforms", json={"at": list(map(float, want["A1"]))}).json()[0]
    np.testing.assert_allclose(name["at"], spots["A1"], atol=3e-4)


def test_stops_pairs_and_sightings_come_and_go(client: TestClient, p: str) -> None:
    station = client.get(f"/api/projects/{p}/stations").json()[0]
    url = f"/api/projects/{p}/targets/stops"
    body = {"station": station["id"], "file": "walk.csv"}
    problem(client.post(url, json=body | {"text": "a;b\n1;2\n"}), 422, "bad_input")
    problem(client.post(url, json=body | {"text": "name;x;y;z;seconds\nR1;1;2;x;9\n"}), 422, "bad_input")
    rows = "name;x;y;z;seconds\nR1;1.5;2;0.1;12\nR2;8;-3;0.2;1.2\n"
    client.post(url, json=body | {"text": rows}).raise_for_status()
    stops = {g["target_name"]: g for g in client.get(f"/api/projects/{p}/sightings").json() if g["kind"] == "stop"}
    assert stops["R1"]["used"] and stops["R1"]["remark"] == "stood 12 s" and not stops["R2"]["used"]
    expected = np.array(station["pose"]).reshape(4, 4) @ [1.5, 2, 0.1, 1]
    np.testing.assert_allclose(stops["R1"]["position"], expected[:3], atol=1e-9)
    client.post(url, json=body | {"text": rows.replace("R1", "R7")}).raise_for_status()  # read anew: the earlier ones go
    assert {g["target_name"] for g in client.get(f"/api/projects/{p}/sightings").json() if g["kind"] == "stop"} == {"R7", "R2"}
    free = next(t for t in client.get(f"/api/projects/{p}/targets").json() if t["name"] == "T5")
    client.patch(
        f"/api/projects/{p}/targets/{free['id']}", json={"name": "R1", "version": free["version"]}
    ).raise_for_status()  # it is free
    undo(client, p)

    take(client, p, given(names=["401", "402", "403", "404", "405"], A1=(40.0, 0, 0), B2=(0, 70.0, 0), C3=(0, 0, 90.0)))
    for row in client.get(f"/api/projects/{p}/control").json()["points"]:
        client.patch(f"/api/projects/{p}/control/{row['id']}", json={"version": row["version"], "target": ""}).raise_for_status()
    pairs = f"/api/projects/{p}/control/pairs"
    problem(client.post(pairs, json={"text": "T1; 401\nT9; 402\n"}), 422, "bad_input")
    assert all(q["target"] is None for q in client.get(f"/api/projects/{p}/control").json()["points"])  # all of them or none
    out = client.post(pairs, json={"text": "# ours; theirs\nT1; 401\n402 = T2\n"}).json()
    assert {q["name"]: q["matched_by"] for q in out["points"] if q["target"]} == {"401": "hand", "402": "hand"}

    gone = next(g for g in client.get(f"/api/projects/{p}/sightings").json() if g["target_name"] == "R7")
    client.delete(f"/api/projects/{p}/sightings/{gone['id']}?version={gone['version']}").raise_for_status()
    assert "R7" not in {t["name"] for t in client.get(f"/api/projects/{p}/targets").json()}
    undo(client, p)
    assert "R7" in {t["name"] for t in client.get(f"/api/projects/{p}/targets").json()}


def test_a_grid_is_seen_before_it_is_kept_flipped_edited_and_converted(client: TestClient, tmp_path: Any) -> None:
    p = made(client, "Grid")
    bring_in(p, [write_scan(tmp_path / "ST-1.e57", room(60_000, seed=1))])
    wall = {"wall": [0.3, 2.0, 0.2], "point": [1.0, 2.0, -1.0], "given": [100.0, 200.0, 10.0], "name": "hall"}
    url = f"/api/projects/{p}/square"
    seen = client.post(f"{url}/preview", json=wall).json()
    assert client.get(f"/api/projects/{p}").json()["frames"][1:] == [] and seen["points"] > 100 and abs(seen["off_plumb"]) < 0.5
    problem(client.post(f"{url}/preview", json=wall | {"wall": [0.0, 0.0, 0.0]}), 422, "not_enough")
    client.post(url, json=wall).raise_for_status()
    (grid,) = client.get(f"/api/projects/{p}").json()["frames"][1:]
    kept = client.get(f"/api/projects/{p}").json()["T_frame_part"]
    np.testing.assert_allclose(kept, seen["T_frame_part"], atol=1e-9)
    to_project = client.post(f"/api/projects/{p}/frames/{grid['id']}/transforms", json={"at": [100.0, 200.0, 10.0]}).json()[0]
    np.testing.assert_allclose(to_project["at"], wall["point"], atol=1e-9)
    back = client.post(f"/api/projects/{p}/frames/project/transforms", json={"at": to_project["at"]}).json()[0]
    np.testing.assert_allclose(back["at"], [100.0, 200.0, 10.0], atol=1e-9)
    assert abs(back["turn_deg"] + to_project["turn_deg"]) < 1e-9
    client.post(f"/api/projects/{p}/frames/{grid['id']}/flip", json={"version": grid["version"]}).raise_for_status()
    turned = np.array(client.get(f"/api/projects/{p}").json()["T_frame_part"]).reshape(4, 4)
    np.testing.assert_allclose(turned[:2, :2], -np.array(kept).reshape(4, 4)[:2, :2], atol=1e-9)
    np.testing.assert_allclose(frames.apply(turned, np.array([wall["point"]]))[0], [100, 200, 10], atol=1e-9)
    problem(client.post(f"/api/projects/{p}/frames/{grid['id']}/flip", json={"version": grid["version"]}), 409, "conflict")
    (now,) = client.get(f"/api/projects/{p}").json()["frames"][1:]
    towards = wall | {"wall": [-1.0, 0.5, -1.4], "by_points": True, "frame": now["id"], "version": now["version"], "name": "line"}
    client.post(url, json=towards).raise_for_status()
    (edited,) = client.get(f"/api/projects/{p}").json()["frames"][1:]
    along = frames.apply(np.array(client.get(f"/api/projects/{p}").json()["T_frame_part"]).reshape(4, 4), np.array([[-1.0, 0.5, -1.0]]))[0]
    assert edited["id"] == grid["id"] and edited["name"] == "line" and edited["picks"]["by_points"]
    np.testing.assert_allclose(along, [100 + np.hypot(2.0, 1.5), 200, 10], atol=2e-3)  # E runs there; up is the scanner's
