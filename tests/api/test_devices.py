"""Instruments over their protocol: what they make comes in, what they refuse is told, what breaks leaves nothing behind."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Iterator
from typing import Any

import httpx
import numpy as np
import pytest
import uvicorn
from fastapi.testclient import TestClient

from taut_lantern.api.app import make_app
from taut_lantern.core import frames
from taut_lantern.settings import settings
from taut_lantern.site.common import Progress
from taut_lantern.standins.devices import Fine, _look
from taut_lantern.standins.instruments import make_instruments
from taut_lantern.standins.scene import SPHERES
from taut_lantern.standins.site import T_CONTROL_SITE
from taut_lantern.steps.bring_in import devices, stations, uploads
from taut_lantern.store.db import session
from taut_lantern.store.models import Job, Original
from tests.api.test_api import made, problem


@pytest.fixture(scope="module")
def instruments() -> Iterator[str]:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
    server = uvicorn.Server(uvicorn.Config(make_instruments(60_000), host="127.0.0.1", port=port, log_level="error"))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.02)
    yield f"http://127.0.0.1:{port}"
    server.should_exit = True
    thread.join(5)


@pytest.fixture(scope="module")
def client(database: str, instruments: str) -> Iterator[TestClient]:
    words = f"Scanner={instruments}/scanner; Station={instruments}/total-station; Gone=http://127.0.0.1:9/scanner"
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("LANTERN_DEVICES", words)
        settings.cache_clear()
        with TestClient(make_app(), base_url="http://localhost") as c:
            yield c
    settings.cache_clear()


def faults(instruments: str, which: str, **what: Any) -> None:
    httpx.post(f"{instruments}/{which}/faults", json=what).raise_for_status()


def work_off(p: str, monkeypatch: pytest.MonkeyPatch) -> dict[str, Any]:
    """The job of an instrument, worked on here, with the reading and bringing in of what it fetched."""
    with session() as s:
        job = s.query(Job).filter(Job.project_id == p, Job.kind == "device").order_by(Job.created_at.desc()).first()
        assert job is not None
        params = dict(job.params)

    def put(project: str, path: Any) -> str:
        original = real(project, path)
        uploads.read_original(project, original, Progress())
        return original

    real = uploads.put_file
    with monkeypatch.context() as patch:
        patch.setattr(devices.uploads, "put_file", put)
        out = devices.run(p, params, Progress())
    scan = {"original_id": out["original"], "scan": 0, "name": out["name"], "min_range": 0.4, "max_range": 200.0, "unit": "m"}
    stations.import_scan(p, scan, Progress())
    return out


def test_a_scan_is_made_fetched_and_a_target_measured_finely_in_its_frame(
    client: TestClient, instruments: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    p = made(client, "With a scanner")
    listed = {d["name"]: d for d in client.get("/api/devices").json()}
    assert listed["Scanner"]["state"] == "ready" and listed["Station"]["kind"] == "total-station"
    assert listed["Gone"]["state"] == "away" and "line" in listed["Gone"]["problem"]
    url = f"/api/projects/{p}/devices/Scanner"
    client.post(f"{url}/scan", json={"name": "ST-01", "points": 60_000}).raise_for_status()
    assert work_off(p, monkeypatch)["name"] == "ST-01"
    (station,) = client.get(f"/api/projects/{p}/stations").json()
    assert station["name"] == "ST-01" and station["points"] > 30_000
    held = {d["name"]: d for d in client.get("/api/devices").json()}["Scanner"]
    assert held["here"] == "ST-01" and held["battery"] < listed["Scanner"]["battery"]
    problem(client.post(f"{url}/scan", json={"name": " ", "points": 60_000}), 422, "bad_input")
    picture = client.get("/api/devices/Scanner/view", params={"azimuth": 0.3})
    assert picture.headers["content-type"] == "image/png" and picture.content[:4] == b"\x89PNG"

    truth = _look("ST-01", Fine(half=0.001))[1]
    at = frames.apply(frames.inverse(truth), np.array([SPHERES["S1"]]))[0]
    aim = {"azimuth": float(np.arctan2(at[1], at[0])) + 0.004, "elevation": float(np.arcsin(at[2] / np.linalg.norm(at))) - 0.003}
    body = {"station": station["id"], "kind": "sphere", "size_mm": 100.0, **aim}
    first = client.post(f"{url}/aim", json=body).json()
    assert first["points"] > 2000 and first["sigma_mm"] < 0.5
    client.post(f"{url}/aim", json=body).raise_for_status()  # once more: the same target, not another
    (seen,) = client.get(f"/api/projects/{p}/sightings").json()
    assert np.linalg.norm(np.array(seen["position"]) - at) < 0.0012 and seen["remark"] == "measured finely"
    problem(client.post(f"{url}/aim", json=body | {"azimuth": aim["azimuth"] + 0.5}), 409, "target_not_hit")
    assert len(client.get(f"/api/projects/{p}/sightings").json()) == 1


def test_what_goes_wrong_at_the_scanner_is_told_and_leaves_nothing(
    client: TestClient, instruments: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    p = made(client, "Bad day")
    url = f"/api/projects/{p}/devices/Scanner"
    for what, code in (({"battery": 3}, "low_battery"), ({"busy": True}, "busy")):
        faults(instruments, "scanner", **what)
        client.post(f"{url}/scan", json={"name": f"X-{code}", "points": 60_000}).raise_for_status()
        with pytest.raises(devices.DeviceError) as told:
            work_off(p, monkeypatch)
        assert told.value.code == code and told.value.remedy
    faults(instruments, "scanner", line=True)
    scans = {d["name"]: d for d in client.get("/api/devices").json()}["Scanner"]["scans"]
    problem(client.post(f"{url}/fetch", json={"scan": "none"}), 404, "not_found")
    client.post(f"{url}/fetch", json={"scan": scans[0]["id"]}).raise_for_status()
    with pytest.raises(devices.DeviceError) as told:
        work_off(p, monkeypatch)
    assert told.value.code == "line_lost"
    with session() as s:
        assert s.query(Original).filter(Original.project_id == p).count() == 0
    assert client.get(f"/api/projects/{p}/stations").json() == []
    client.post(f"{url}/fetch", json={"scan": scans[0]["id"]}).raise_for_status()  # the line is there again
    work_off(p, monkeypatch)
    assert [x["name"] for x in client.get(f"/api/projects/{p}/stations").json()] == ["ST-01"]
    client.post(f"{url}/scan", json={"name": "../../north/ST-09", "points": 60_000}).raise_for_status()
    out = work_off(p, monkeypatch)  # a name is no path
    with session() as s:
        kept = s.get_one(Original, out["original"]).name
    assert "/" not in kept and kept.endswith("north-ST-09.e57")
    assert client.get(f"/api/projects/{p}/stations").json()[-1]["points"] > 20_000
    problem(client.get("/api/devices/Gone/view", params={"azimuth": 0}), 409, "line_lost")
    problem(client.get("/api/devices/Nobody/view", params={"azimuth": 0}), 404, "not_found")


def test_a_total_station_is_set_up_measures_and_delivers_control(client: TestClient, instruments: str) -> None:
    p = made(client, "With a total station")
    url = f"/api/projects/{p}/devices/Station"
    problem(client.post(f"{url}/measure", json={"target": "S1"}), 409, "not_set_up")
    problem(client.post(f"{url}/control"), 409, "nothing_measured")
    marks = {d["name"]: d for d in client.get("/api/devices").json()}["Station"]["marks"]
    wrong = marks | {"M3": [marks["M3"][0] + 0.5, *marks["M3"][1:]]}
    problem(client.post(f"{url}/set-up", json={"marks": wrong}), 409, "marks_disagree")
    stands = client.post(f"{url}/set-up", json={"marks": marks}).json()
    assert stands["hidden"] == ["M4"] and max(stands["residuals"].values()) < 0.002
    for name in ("S1", "S2", "S3", "S6"):
        client.post(f"{url}/measure", json={"target": name}).raise_for_status()
    problem(client.post(f"{url}/measure", json={"target": "S5"}), 409, "target_not_hit")
    faults(instruments, "total-station", battery=1)
    problem(client.post(f"{url}/measure", json={"target": "S1"}), 409, "low_battery")
    faults(instruments, "total-station")
    client.post(f"{url}/control").raise_for_status()
    points = {q["name"]: q for q in client.get(f"/api/projects/{p}/control").json()["points"]}
    assert points.keys() == {"S1", "S2", "S3", "S6"}
    ratio = []
    for name, q in points.items():
        true = frames.apply(T_CONTROL_SITE, np.array([SPHERES[name]]))[0]
        assert np.linalg.norm(np.array(q["enh"]) - true) < 0.003 and 0.2 < q["sigma_mm"][0] < 2
        ratio.append(np.linalg.norm(np.array(q["enh"]) - true) / (0.001 * q["sigma_mm"][0] * np.sqrt(3)))
    assert 0.1 < np.sqrt(np.mean(np.square(ratio))) < 2.5
