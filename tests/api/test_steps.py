"""Whole steps of the job over HTTP on two small rooms: draw, clean, hand over, the thread, and what is out of date."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import ezdxf
import laspy
import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image
from sqlalchemy import event

from taut_lantern.api.app import make_app
from taut_lantern.core import frames
from taut_lantern.core.scan.hierarchy import unpacked
from taut_lantern.formats import e57
from taut_lantern.settings import settings
from taut_lantern.steps import projects
from taut_lantern.store.db import actor, engine, session
from taut_lantern.store.models import Job, Station, now
from taut_lantern.store.tiles import read_station
from tests.api.test_api import made, problem, undo, work
from tests.support import bring_in, link_rows, room, sight_rows, write_scan

SIZE = (6.0, 4.0, 3.0)


@pytest.fixture(scope="module")
def client(database: str) -> Iterator[TestClient]:
    with TestClient(make_app(), base_url="http://localhost") as c:
        yield c


@pytest.fixture
def p(client: TestClient, tmp_path: Path) -> str:
    """A project of two stations in one room, 1 m apart, placed."""
    project = made(client, "Two in a room")
    shift = (-1.0, 0.0, 0.0)
    scans = [room(60_000, SIZE, 1), room(60_000, SIZE, 2, shift)]
    ids = bring_in(project, [write_scan(tmp_path / f"ST-{k + 1}.e57", s) for k, s in enumerate(scans)])
    link_rows(project, (*ids, frames.pose(0.0, (1.0, 0.0, 0.0))))
    return project


def knots(client: TestClient, p: str) -> dict[str, Any]:
    return {k["step"]: k for k in client.get(f"/api/projects/{p}").json()["thread"]}


def deliver(client: TestClient, p: str, kind: str, folder: Path, **more: Any) -> Path:
    client.post(f"/api/projects/{p}/deliveries", json={"kind": kind, **more})
    *_, job = work(p)
    assert job.state == "done", job.error
    newest = client.get(f"/api/projects/{p}/deliveries").json()[0]
    path = folder / f"{newest['id']}.{kind}"
    path.write_bytes(client.get(f"/api/projects/{p}/deliveries/{newest['id']}/file").content)
    assert path.stat().st_size == newest["size"]
    return path


def fitted(client: TestClient, p: str, section: str) -> Job:
    """The job that has found lines and circles."""
    assert client.post(f"/api/projects/{p}/sections/{section}/fit").status_code == 202
    *_, job = work(p)
    return job


def outdated(client: TestClient, p: str) -> list[bool]:
    return [d["outdated"] for d in client.get(f"/api/projects/{p}/deliveries").json()]


def test_a_plan_is_cut_fitted_drawn_on_and_comes_out_as_dxf(client: TestClient, p: str, tmp_path: Path) -> None:
    made_ = client.post(f"/api/projects/{p}/sections", json={"kind": "plan", "above_floor": 1.2, "behind": 0.1}).json()["id"]
    slab = client.get(f"/api/projects/{p}/sections/{made_}/points")
    n = len(slab.content) // 12
    along, across = np.frombuffer(slab.content, np.float32, 2 * n).reshape(n, 2).T
    assert n > 1000 and abs(np.ptp(along) - SIZE[0]) < 0.01 and abs(np.ptp(across) - SIZE[1]) < 0.01
    assert fitted(client, p, made_).result == {"lines": 4, "circles": 0, "walls": 0}
    client.post(f"/api/projects/{p}/sections/{made_}/traces", json={"kind": "line", "layer": "pipe", "points": [[0, 0], [1, 1]]})
    (section,) = client.get(f"/api/projects/{p}/sections").json()
    assert section["name"] == "Plan 1.20 m above floor" and {t["state"] for t in section["traces"]} == {"found", "drawn"}
    assert knots(client, p)["draw"]["state"] == "begun"
    one = next(t for t in section["traces"] if t["state"] == "found")
    assert client.patch(f"/api/projects/{p}/traces/{one['id']}", json={"state": "accepted", "version": one["version"]}).status_code == 200
    problem(client.patch(f"/api/projects/{p}/traces/{one['id']}", json={"layer": "floor", "version": one["version"]}), 409, "conflict")
    lines = ezdxf.readfile(deliver(client, p, "dxf", tmp_path)).modelspace().query("LINE")
    assert sorted(x.dxf.layer for x in lines) == ["pipe", "to check", "to check", "to check", "wall"]  # nobody said yes to three
    assert "Accepted 3 found" in client.post(f"/api/projects/{p}/sections/{made_}/accept").json()["message"]
    assert knots(client, p)["draw"]["state"] == "done"
    undo(client, p)
    assert knots(client, p)["draw"]["state"] == "begun"  # all three came back in one step
    (section,) = client.get(f"/api/projects/{p}/sections").json()
    drop = next(t for t in section["traces"] if t["state"] == "found")
    client.patch(f"/api/projects/{p}/traces/{drop['id']}", json={"state": "rejected", "version": drop["version"]})
    assert fitted(client, p, made_).result == {"lines": 4, "circles": 0, "walls": 0}
    (section,) = client.get(f"/api/projects/{p}/sections").json()
    # what somebody accepted is not found twice, what somebody rejected is not found again
    assert sorted(t["state"] for t in section["traces"]) == ["accepted", "drawn", "found", "found"]


def test_lines_know_that_the_network_moved_under_them(client: TestClient, p: str) -> None:
    made_ = client.post(f"/api/projects/{p}/sections", json={"kind": "plan", "height": 0.2, "behind": 0.1}).json()["id"]
    fitted(client, p, made_)
    client.post(f"/api/projects/{p}/sections/{made_}/traces", json={"kind": "line", "points": [[0, 0], [1, 1]]})
    old = lambda: sorted((t["state"], t["why_old"]) for t in client.get(f"/api/projects/{p}/sections").json()[0]["traces"])  # noqa: E731
    assert old() == [("drawn", "")] + 4 * [("found", "")]
    station = client.get(f"/api/projects/{p}/stations").json()[1]
    client.patch(f"/api/projects/{p}/stations/{station['id']}", json={"deleted": True, "version": station["version"]})
    assert old() == [("drawn", "")] + 4 * [("found", "the network changed since")]
    fitted(client, p, made_)
    assert old() == [("drawn", "")] + 4 * [("found", "")]


def test_a_section_outside_the_cloud_says_so(client: TestClient, p: str) -> None:
    made_ = client.post(f"/api/projects/{p}/sections", json={"kind": "plan", "height": 90.0}).json()["id"]
    assert client.get(f"/api/projects/{p}/sections/{made_}/points").content == b""
    assert fitted(client, p, made_).error["code"] == "empty_section"  # type: ignore[index]
    *_, job = (client.post(f"/api/projects/{p}/deliveries", json={"kind": "dxf"}), *work(p))
    assert job.error["code"] == "nothing_drawn"
    for body in (
        {"kind": "upright", "a": [0, 0], "b": [0, 0]},
        {"kind": "upright", "a": [0, 0]},
        {"kind": "plan", "height": 1, "behind": 0},
    ):
        assert client.post(f"/api/projects/{p}/sections", json=body).status_code == 422


def test_only_what_stands_in_front_goes_and_is_shown_before(client: TestClient, p: str) -> None:
    """A look from above: the ceiling of the room goes, as deep as is set; walls below and the floor stay."""
    station = client.get(f"/api/projects/{p}/stations").json()[0]
    view = [0.3, 0, 0, 0, 0, 0.4, 0, 0, 0, 0, -0.2, 0, 0, 0, 0, 1]
    body = {"view": view, "outline": [[-1, -1], [0, -1], [0, 1], [-1, 1]], "stations": [station["id"]], "front": 0.4}
    through = selected(client, p, {"kind": "lasso", **body, "front": None})
    told = selected(client, p, {"kind": "lasso", **body})
    assert 1000 < told["count"] < 0.7 * through["count"] and told["spared"] == {"behind": through["count"] - told["count"]}
    assert client.post(f"/api/projects/{p}/lasso", json=body | {"front": 0.001}).status_code == 422
    shown = marked_bits(client.get(f"/api/projects/{p}/stations/{station['id']}/marks?of=selected").content)
    assert client.post(f"/api/projects/{p}/lasso", json=body | {"expected": told["count"]}).json()["count"] == told["count"]
    gone = marked_bits(client.get(f"/api/projects/{p}/stations/{station['id']}/marks").content)
    assert gone == shown and len(gone) == told["count"]  # exactly what was shown
    with session() as s:
        cloud = read_station(s, s.get_one(Station, station["id"])).xyz
    taken = np.zeros(len(cloud), bool)
    taken[sorted(gone)] = True
    top = cloud[:, 2].max()
    assert cloud[taken, 2].min() >= top - 0.41 and (cloud[taken, 0] < 0.01).all()
    left = cloud[:, 0] < -0.01
    assert taken[left & (cloud[:, 2] > top - 0.35)].mean() > 0.99 and not taken[cloud[:, 2] < top - 0.5].any()
    undo(client, p)


def selected(client: TestClient, p: str, shape: dict[str, Any], **more: Any) -> dict[str, Any]:
    stations = shape.pop("stations", None) or [x["id"] for x in client.get(f"/api/projects/{p}/stations").json()]
    r = client.post(f"/api/projects/{p}/selection", json={"shape": shape, "stations": stations, **more})
    assert r.status_code == 200, r.text
    out: dict[str, Any] = r.json()
    return out


def marked_bits(body: bytes) -> set[int]:
    """Numbers of the points that marks name, as they are sent."""
    out, at = set(), 0
    while at < len(body):
        first, count = int(np.frombuffer(body, np.int64, 1, at)[0]), int(np.frombuffer(body, np.uint32, 1, at + 8)[0])
        size = (count + 7) // 8
        bits = np.unpackbits(np.frombuffer(body, np.uint8, size, at + 12), bitorder="little")[:count]
        out |= set((first + np.nonzero(bits)[0]).tolist())
        at += 12 + size
    return out


def test_what_is_deleted_or_cropped_does_not_go_out_and_comes_back_with_undo(client: TestClient, p: str, tmp_path: Path) -> None:
    whole = {h.name: h.points for h in e57.headers(deliver(client, p, "e57", tmp_path))}
    assert whole == {"ST-1": 60_000, "ST-2": 60_000}
    ids = [s["id"] for s in client.get(f"/api/projects/{p}/stations").json()]
    view = [0.3, 0, 0, 0, 0, 0.4, 0, 0, 0, 0, -0.2, 0, 0, 0, 0, 1]
    left_half = [[-1, -1], [0, -1], [0, 1], [-1, 1]]
    body = {"view": view, "outline": left_half, "stations": ids[:1]}
    counted = selected(client, p, {"kind": "lasso", **body})
    assert client.get(f"/api/projects/{p}/edits").json() == []
    deleted = client.post(f"/api/projects/{p}/lasso", json=body).json()
    (made_,) = client.get(f"/api/projects/{p}/edits").json()
    look = client.get(f"/api/projects/{p}/edits/{made_['id']}/picture")
    lit = np.asarray(Image.open(io.BytesIO(look.content))).astype(int)
    assert look.headers["content-type"] == "image/png" and (lit[:, :, 0] - lit[:, :, 2] > 60).sum() > 50  # its points, in the lamp's colour
    assert deleted["count"] == counted["count"] > 20_000
    lasting = {h.name: h.points for h in e57.headers(deliver(client, p, "e57", tmp_path))}
    assert lasting == {"ST-1": 60_000 - deleted["count"], "ST-2": 60_000}
    (edit,) = client.get(f"/api/projects/{p}/edits").json()
    client.patch(f"/api/projects/{p}/edits/{edit['id']}", json={"active": False, "version": edit["version"]})
    client.post(f"/api/projects/{p}/boxes", json={"centre": [1.5, 0, 0], "half": [1.6, 3, 3]})
    with laspy.open(deliver(client, p, "laz", tmp_path)) as f:
        cropped = f.read()
    assert 0 < len(cropped) < 120_000 and cropped.x.min() >= -0.1001
    with laspy.open(deliver(client, p, "laz", tmp_path, crop=False)) as f:
        assert f.header.point_count == 120_000
    undo(client, p)
    with laspy.open(deliver(client, p, "laz", tmp_path)) as f:
        assert f.header.point_count == 120_000


def test_a_delivery_is_older_after_a_change_and_after_undo_too(client: TestClient, p: str, tmp_path: Path) -> None:
    client.post(f"/api/projects/{p}/boxes", json={"centre": [0, 0, 0], "half": [2, 2, 2]})
    deliver(client, p, "laz", tmp_path)
    deliver(client, p, "pdf", tmp_path)
    assert outdated(client, p) == [False, False] and knots(client, p)["hand_over"]["state"] == "done"
    undo(client, p)
    assert outdated(client, p) == [True, True]
    deliver(client, p, "pdf", tmp_path)
    knot = knots(client, p)["hand_over"]
    assert knot["state"] == "out of date" and "1 of 2" in knot["question"]  # the cloud is still the old one
    deliver(client, p, "laz", tmp_path)
    assert knots(client, p)["hand_over"]["state"] == "done"
    undo(client, p, "redo")
    assert all(outdated(client, p))
    titles = [j["title"] for j in client.get(f"/api/projects/{p}/journal").json()]
    assert titles[0].startswith("Brought back: Set the crop box") and titles[1].startswith("Took back: Set the crop box")


def test_the_thread_tells_the_next_question_of_each_step(client: TestClient, p: str) -> None:
    empty = knots(client, made(client, "Nothing"))
    assert {k["state"] for k in empty.values()} == {"empty"} and empty["bring_in"]["question"] == "no scans yet"
    now_ = knots(client, p)
    assert (
        now_["bring_in"]["state"] == "done"
        and now_["tie"]["state"] == "done"
        and now_["prove"]["question"] == "no loop proves the network yet"
    )
    assert now_["colour"]["state"] == "done" and now_["place"]["question"] == "no control and no grid yet"
    client.put(f"/api/projects/{p}/control", json={"text": "a;1;2;3\nb;4;5;6\nc;7;8;1\n", "file": "k.csv"})
    assert knots(client, p)["place"]["question"] == "control is read but not applied"
    assert "at least 3" in client.get(f"/api/projects/{p}/control").json()["problem"]


def test_a_station_is_taken_out_and_comes_back_with_its_points(client: TestClient, p: str) -> None:
    first, _ = client.get(f"/api/projects/{p}/stations").json()
    client.patch(f"/api/projects/{p}/stations/{first['id']}", json={"deleted": True, "version": first["version"]})
    assert [s["name"] for s in client.get(f"/api/projects/{p}/stations").json()] == ["ST-2"]
    tiles = f"/api/projects/{p}/stations/{first['id']}/tiles"
    assert client.get(tiles).status_code == 404
    undo(client, p)
    assert unpacked(client.get(tiles).content).count.sum() == 60_000


def test_the_project_is_squared_to_a_wall_and_coordinates_follow_the_frame_in_use(client: TestClient, p: str) -> None:
    body = {"wall": [0.4, 2.0, 0.1], "point": [3.0, 2.0, -1.5], "given": [100.0, 200.0, 10.0], "name": "hall"}
    made_ = client.post(f"/api/projects/{p}/square", json=body).json()
    assert made_["wall_rms_mm"] < 1 and made_["points"] > 300
    project = client.get(f"/api/projects/{p}").json()
    T = np.array(project["T_frame_part"]).reshape(4, 4)
    np.testing.assert_allclose(T @ [3.0, 2.0, -1.5, 1.0], [100, 200, 10, 1], atol=1e-9)
    assert abs(abs((T @ [1, 0, 0, 0])[0]) - 1) < 1e-4 and project["frame_name"] == "hall"
    flipped = client.post(f"/api/projects/{p}/square", json={**body, "flip": True, "name": "back"}).json()["id"]
    back = np.array(client.get(f"/api/projects/{p}").json()["T_frame_part"]).reshape(4, 4)
    np.testing.assert_allclose(back[:2, :2], -T[:2, :2], atol=1e-9)
    problem(client.post(f"/api/projects/{p}/square", json={**body, "wall": [0.4, 0.3, -1.5]}), 422, "not_enough")  # the floor is no wall
    problem(client.post(f"/api/projects/{p}/square", json={**body, "wall": [50, 50, 50]}), 422, "not_enough")
    frames_ = {f["name"]: f["id"] for f in client.get(f"/api/projects/{p}").json()["frames"]}
    assert set(frames_) == {"project", "hall", "back"} and frames_["back"] == flipped
    client.patch(f"/api/projects/{p}", json={"frame": "project", "version": client.get(f"/api/projects/{p}").json()["version"]})
    assert client.get(f"/api/projects/{p}").json()["T_frame_part"] == np.eye(4).ravel().tolist()


def test_opening_a_project_solves_no_control_and_loads_no_changes(client: TestClient, p: str, monkeypatch: pytest.MonkeyPatch) -> None:
    client.put(f"/api/projects/{p}/control", json={"text": "a;1;2;3\nb;4;5;6\nc;7;8;1\n", "file": "k.csv"})
    asked: list[str] = []
    monkeypatch.setattr("taut_lantern.site.placing.solve", lambda *a, **k: pytest.fail("control was solved"))
    event.listen(engine(), "before_cursor_execute", keep := lambda c, cursor, statement, *rest: asked.append(statement))
    try:
        assert client.get(f"/api/projects/{p}").json()["undo"]["title"].startswith("Read 3 control points")
        lines = client.get(f"/api/projects/{p}/journal", params={"limit": 2}).json()
    finally:
        event.remove(engine(), "before_cursor_execute", keep)
    assert asked and not [s for s in asked if "journal.rows" in s]
    more = client.get(f"/api/projects/{p}/journal", params={"limit": 2, "before": lines[-1]["id"]}).json()
    assert len(lines) == 2 and len(more) == 2 and more[0]["id"] < lines[-1]["id"]


def test_every_change_names_its_actor(client: TestClient, p: str) -> None:
    assert {j["actor"] for j in client.get(f"/api/projects/{p}/journal").json()} == {"you"}
    actor.set("command line")
    projects.change_project(p, None, "By a script", None, None, None)
    actor.set("you")
    assert client.get(f"/api/projects/{p}/journal").json()[0]["actor"] == "command line"


SPOTS = {"K1": (1.5, 1.0, -0.2), "K2": (-1.4, 0.7, 0.3), "K3": (0.4, -1.5, -0.5), "K4": (1.0, 0.2, 1.0)}


@pytest.mark.parametrize(("unit", "metre", "code"), [("us_ft", 1200 / 3937, 21), ("ft", 0.3048, 2)])
def test_feet_of_either_kind_go_out_as_they_came_in(client: TestClient, p: str, tmp_path: Path, unit: str, metre: float, code: int) -> None:
    """At 600 km the two differ by 1.2 m: what is read in one kind is shown and handed over in that kind."""
    ids = [s["id"] for s in client.get(f"/api/projects/{p}/stations").json()]
    sight_rows(p, {ids[0]: np.eye(4), ids[1]: frames.pose(0.0, (1.0, 0.0, 0.0))}, SPOTS)
    grid = frames.pose(0.4, (600_000.0, 2_000_000.0, 120.0))
    feet = {n: frames.apply(grid, np.array([v]))[0] / metre for n, v in SPOTS.items()}
    text = "".join(f"{n};{v[1]:.5f};{v[0]:.5f};{v[2]:.5f}\n" for n, v in feet.items())
    control = client.put(f"/api/projects/{p}/control", json={"text": text, "file": "k.csv", "unit": unit}).json()
    assert max(q["residual_mm"]["d3"] for q in control["points"]) < 0.1
    head = client.post(f"/api/projects/{p}/control/apply", json={}).json()
    assert head["unit"] == unit == next(f["unit"] for f in head["frames"] if f["kind"] == "control")
    section = client.post(f"/api/projects/{p}/sections", json={"kind": "plan", "height": 0.2, "behind": 0.1}).json()["id"]
    client.post(f"/api/projects/{p}/sections/{section}/traces", json={"kind": "line", "points": [list(SPOTS["K1"][:2]), [0, 0]]})
    drawing = ezdxf.readfile(deliver(client, p, "dxf", tmp_path))
    (line,) = drawing.modelspace().query("LINE")
    assert drawing.header["$INSUNITS"] == code
    np.testing.assert_allclose(np.array(line.dxf.start)[:2], feet["K1"][:2], atol=0.002)
    cloud, metres = (np.asarray(laspy.read(deliver(client, p, "laz", tmp_path, **asked)).xyz) for asked in ({}, {"unit": "m"}))
    np.testing.assert_allclose(cloud * metre, metres, atol=2e-4)
    assert client.get(f"/api/projects/{p}/sections").json()[0]["name"] == f"Plan {(120.2 / metre):+.2f}"


def test_time_left_is_told_of_the_count_that_runs(client: TestClient, p: str) -> None:
    with session() as s:
        job = Job(project_id=p, kind="tie", title="x", state="running", done=25, total=100, stage_at=now() - timedelta(seconds=10))
        s.add(job)
    told = lambda: client.get(f"/api/projects/{p}/jobs").json()[0]["seconds_left"]  # noqa: E731
    assert abs(told() - 30) < 3
    for part in ({"done": 2}, {"done": 100}, {"total": 0, "done": 0}, {"state": "done"}):
        with session() as s:
            row = s.get_one(Job, job.id)
            row.done, row.total, row.state = 25, 100, "running"
            for k, v in part.items():
                setattr(row, k, v)
        assert told() is None, part


def test_away_from_loopback_nothing_is_told_without_the_token(database: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("LANTERN_TOKEN", "secret-of-the-house")
    settings.cache_clear()
    try:
        with TestClient(make_app(), base_url="http://localhost") as c:
            problem(c.get("/api/projects"), 401, "sign_in")
            problem(c.get("/api/projects", headers={"authorization": "Bearer wrong"}), 401, "sign_in")
            assert c.get("/").status_code == 401
            assert c.get("/api/projects", headers={"authorization": "Bearer secret-of-the-house"}).status_code == 200
            opened = c.get("http://localhost//evil.example/p?token=secret-of-the-house&a=b", follow_redirects=False)
            assert opened.status_code == 303 and opened.headers["location"] == "/evil.example/p?a=b"
            assert "secret" not in opened.headers["set-cookie"] and "HttpOnly" in opened.headers["set-cookie"]
            assert c.get("/api/projects").status_code == 200  # the session was kept
            for false in (opened.cookies["lantern_session"][:-2] + "xx", "secret-of-the-house"):
                c.cookies.clear()
                problem(c.get("/api/projects", headers={"cookie": f"lantern_session={false}"}), 401, "sign_in")
    finally:
        monkeypatch.undo()
        settings.cache_clear()


def test_a_measure_is_kept_changed_handed_over_and_undone(client: TestClient, p: str, tmp_path: Path) -> None:
    url = f"/api/projects/{p}/notes"
    made = client.post(url, json={"kind": "distance", "points": [[0, 0, 0], [3, 4, 1.2]], "name": "=Beam; clear"}).json()["id"]
    wall = client.post(url, json={"kind": "plane", "points": [[3.0, 0.2, 0.1], [2.5, 0.2, 0.1]], "remark": "to the door"})
    assert wall.status_code == 201, wall.text
    notes = {n["name"]: n for n in client.get(url).json()}
    beam = notes["=Beam; clear"]
    assert beam["figures"] == {"slope": pytest.approx(26.44**0.5), "level": 5, "height": 1.2}
    off = next(n for n in notes.values() if n["kind"] == "plane")["figures"]["off"]
    assert off == pytest.approx(0.5, abs=0.003)  # the wall of the room, towards the scanner
    plane = client.post(f"/api/projects/{p}/plane", json={"at": [3.0, 0.2, 0.1]}).json()
    assert abs(plane["normal"][0] + 1) < 0.002 and plane["offset"] == pytest.approx(3, abs=0.003) and plane["points"] > 20
    clear = client.post(url, json={"kind": "clearance", "points": [[0.3, 0.2, 1.5], [0.2, 0.1, -1.5]], "name": "Headroom"})
    assert clear.status_code == 201, clear.text
    head = next(n for n in client.get(url).json() if n["name"] == "Headroom")
    assert head["figures"]["clearance"] == pytest.approx(3.0, abs=0.002) and head["figures"]["error"] < 0.002  # from floor to ceiling
    assert sorted(round(x[2], 2) for x in head["points"]) == [-1.5, 1.5]
    client.patch(f"{url}/{head['id']}", json={"deleted": True, "version": head["version"]}).raise_for_status()
    problem(client.post(url, json={"kind": "clearance", "points": [[0.3, 0.2, 1.5], [0.9, 0.1, 1.5]]}), 422, "bad_input")  # one ceiling
    problem(client.post(url, json={"kind": "clearance", "points": [[0.3, 0.2, 0.2], [0.9, 0.1, 0.0]]}), 422, "not_enough")
    problem(client.post(url, json={"kind": "angle", "points": [[0, 0, 0]]}), 422, "bad_input")
    problem(client.post(url, json={"kind": "plane", "points": [[0, 0, 0], [1, 1, 1]]}), 422, "not_enough")
    client.patch(f"{url}/{made}", json={"remark": "site, east", "version": beam["version"]}).raise_for_status()
    problem(client.patch(f"{url}/{made}", json={"name": "x", "version": beam["version"]}), 409, "conflict")
    client.patch(f"/api/projects/{p}", json={"unit": "ft", "version": client.get(f"/api/projects/{p}").json()["version"]})
    rows = list(csv.DictReader(io.StringIO(client.get(f"{url}.csv").text)))
    row = next(r for r in rows if "Beam" in r["name"])
    assert row["name"] == "'=Beam; clear" and row["remark"] == "site, east" and row["unit"] == "ft"
    assert float(row["level"]) == pytest.approx(5 / 0.3048, abs=1e-4) and row["picks (E N H)"].count(";") == 1
    client.post(f"/api/projects/{p}/deliveries", json={"kind": "dxf"})
    work(p)
    (drawing,) = client.get(f"/api/projects/{p}/deliveries").json()
    path = tmp_path / "n.dxf"
    path.write_bytes(client.get(f"/api/projects/{p}/deliveries/{drawing['id']}/file").content)
    drawn = [e for e in ezdxf.readfile(path).modelspace() if e.dxf.layer == "notes"]
    ends = [v.dxf.location for e in drawn if e.dxftype() == "POLYLINE" for v in e.vertices]
    assert any(abs(v[0] - 3 / 0.3048) < 1e-3 and abs(v[1] - 4 / 0.3048) < 1e-3 for v in ends)
    assert "=Beam; clear" in {e.dxf.text for e in drawn if e.dxftype() == "TEXT"}
    current = next(n for n in client.get(url).json() if n["id"] == made)
    client.patch(f"{url}/{made}", json={"deleted": True, "version": current["version"]})
    assert made not in {n["id"] for n in client.get(url).json()}
    undo(client, p)
    assert made in {n["id"] for n in client.get(url).json()}


def test_a_view_is_kept_replaced_by_name_renamed_and_deleted(client: TestClient, p: str) -> None:
    url = f"/api/projects/{p}/views"
    keep = lambda name, **shows: client.post(url, json={"name": name, "shows": shows})  # noqa: E731
    first = keep("north", panes=["plan"]).json()["id"]
    assert keep("north", panes=["space"]).json()["id"] == first
    (view,) = client.get(url).json()
    assert view["shows"] == {"panes": ["space"]} and np.allclose(view["T_part_base"], np.eye(4).ravel())
    client.patch(f"{url}/{first}", json={"name": "South", "version": view["version"]}).raise_for_status()
    problem(client.patch(f"{url}/{first}", json={"deleted": True, "version": view["version"]}), 409, "conflict")
    problem(keep("more", panes=["space"] * 4), 422, "bad_request")
    problem(keep("other", words="x"), 422, "bad_request")
    client.patch(f"{url}/{first}", json={"deleted": True, "version": view["version"] + 1}).raise_for_status()
    assert client.get(url).json() == []
    undo(client, p)
    assert [v["name"] for v in client.get(url).json()] == ["South"]


def test_a_cursor_catches_the_wall_and_the_edge_of_two(client: TestClient, tmp_path: Path) -> None:
    p = made(client, "One dense room")
    (station,) = bring_in(p, [write_scan(tmp_path / "ST-1.e57", room(400_000, SIZE, 1))])
    ask = lambda at: client.post(f"/api/projects/{p}/catch", json={"at": at, "station": station})  # noqa: E731
    wall = ask([3.0, 0.4, 0.3]).json()
    assert wall["kind"] == "plane" and abs(wall["normal"][0] + 1) < 1e-3 and wall["at"][0] == pytest.approx(3, abs=1e-3)
    assert wall["incidence"] == pytest.approx(np.degrees(np.arctan2(0.5, 3)), abs=0.5)
    edge = ask([3.0, 1.98, 0.3]).json()
    assert edge["kind"] == "edge" and np.allclose(edge["at"][:2], [3, 2], atol=1e-3) and edge["angle"] == pytest.approx(90, abs=0.5)
    assert ask([0.0, 0.0, 0.0]).json()["kind"] == "point"  # nothing lies there
    problem(client.post(f"/api/projects/{p}/catch", json={"at": [3, 0, 0], "station": "0" * 32}), 404, "not_found")


def test_distances_between_two_stations_have_the_sign_of_the_other_side(client: TestClient, tmp_path: Path) -> None:
    """The second station stands 8 mm too far in x: its walls lie behind those of the first at one end, before them at the other."""
    project = made(client, "Two apart")
    scans = [room(60_000, SIZE, 1), room(60_000, SIZE, 2, (-1.0, 0.0, 0.0)), room(3_000, SIZE, 3)]
    a, b, c = bring_in(project, [write_scan(tmp_path / f"ST-{k + 1}.e57", s) for k, s in enumerate(scans)])
    link_rows(project, (a, b, frames.pose(0.0, (1.008, 0.0, 0.0))))
    url = f"/api/projects/{project}/stations/{a}/tiles"
    tiles = list(np.cumsum(unpacked(client.get(url).content).count).tolist())
    n = max(range(len(tiles)), key=lambda k: tiles[k] - ([0] + tiles)[k])  # the tile with most points
    url = f"{url}/{([0] + tiles)[n]}"
    told = np.frombuffer(client.get(f"{url}/apart/{b}").content, np.int16).astype(float)
    xyz = np.frombuffer(client.get(url).content, np.float32, 3 * len(told)).reshape(-1, 3)
    inner = np.sort(np.abs(np.abs(xyz) - [3, 2, 1.5]), axis=1)[:, 1] > 0.4  # away from the edges of the room
    assert (told[inner] != -32768).mean() > 0.9  # a cloud without a grid leaves pixels empty, so some planes have too few neighbours
    inner &= told != -32768
    for axis, value in ((0, 8.0), (1, 0.0), (2, 0.0)):
        for side in (1, -1):
            on = inner & (np.abs(xyz[:, axis] - side * SIZE[axis] / 2) < 1e-3)
            assert on.sum() > 10
            assert np.median(0.1 * told[on]) == pytest.approx(side * value, abs=0.1) and np.ptp(0.1 * told[on]) <= 1.0
    problem(client.get(f"{url}/apart/{c}"), 422, "bad_input")
    problem(client.get(f"{url}/apart/{a}"), 422, "bad_input")
    problem(client.get(f"{url}7/apart/{b}"), 404, "not_found")


def test_a_kept_view_makes_no_delivery_old_and_a_note_does(client: TestClient, p: str, tmp_path: Path) -> None:
    deliver(client, p, "pdf", tmp_path)
    client.post(f"/api/projects/{p}/views", json={"name": "north", "shows": {"panes": ["plan"]}}).raise_for_status()
    assert outdated(client, p) == [False] and knots(client, p)["hand_over"]["state"] == "done"
    client.post(f"/api/projects/{p}/notes", json={"kind": "point", "points": [[1, 1, 1]]}).raise_for_status()
    assert outdated(client, p) == [True] and knots(client, p)["hand_over"]["state"] == "out of date"
