"""Matches picked in two scans of the demo site: the placement they give, what is missing, and the link it leads to."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient

from taut_lantern.api.app import make_app
from taut_lantern.core import frames
from taut_lantern.core.align.prepared import prepare
from taut_lantern.standins.scanner import Scanner
from taut_lantern.standins.scene import SPHERES
from taut_lantern.standins.site import simulate
from tests.api.test_api import made, problem, work
from tests.support import bring_in, write_scan


@pytest.fixture(scope="module")
def client(database: str) -> Iterator[TestClient]:
    with TestClient(make_app(), base_url="http://localhost") as c:
        yield c


@pytest.fixture(scope="module")
def two(client: TestClient, tmp_path_factory: pytest.TempPathFactory) -> dict[str, Any]:
    """Two stations of the hall that nothing ties yet, their true relation, and places of walls that both saw."""
    project, folder = made(client, "Two"), tmp_path_factory.mktemp("two")
    scans = {name: simulate(name, Scanner(points=400_000), 77) for name in ("ST-01", "ST-02")}
    for name, (cloud, _) in scans.items():
        bring_in(project, [write_scan(folder / f"{name}.e57", cloud)])
    by = {s["name"]: s["id"] for s in client.get(f"/api/projects/{project}/stations").json()}
    true = frames.inverse(scans["ST-01"][1]) @ scans["ST-02"][1]
    a, b = (prepare(cloud, whole=False).fine for cloud, _ in scans.values())
    seen = frames.apply(true, b.points)
    same = []
    for normal in np.eye(3)[[0, 1, 2]]:
        facing = np.abs(a.normals @ (scans["ST-01"][1][:3, :3].T @ normal)) > 0.98
        for k in np.nonzero(facing)[0]:
            gap = np.linalg.norm(seen - a.points[k], axis=1)
            j = int(np.argmin(gap))
            alone = np.linalg.norm(a.points - a.points[k], axis=1) < 0.4
            if gap[j] < 0.3 and alone.sum() > 15 and (np.abs(a.normals[alone] @ a.normals[k]) > 0.99).all():
                same.append({"a": a.points[k].tolist(), "b": b.points[j].tolist()})
                break
    assert len(same) == 3
    return {"project": project, "a": by["ST-01"], "b": by["ST-02"], "true": true, "walls": same, "scans": scans}


def ask(client: TestClient, two: dict[str, Any], matches: list[dict[str, Any]]) -> dict[str, Any]:
    r = client.post(f"/api/projects/{two['project']}/matches", json={"a": two["a"], "b": two["b"], "matches": matches})
    assert r.status_code == 200, r.text
    return dict(r.json())


def test_three_surfaces_give_the_placement_and_the_link_is_right(client: TestClient, two: dict[str, Any]) -> None:
    few = ask(client, two, two["walls"][:2])
    assert few["T_a_b"] is None and "1 more match" in few["why"] and [m["kind"] for m in few["matches"]] == ["plane", "plane"]
    found = ask(client, two, two["walls"])
    assert found["why"] == "" and all(m["residual_mm"] < 20 for m in found["matches"])
    metres, radians = frames.difference(np.reshape(found["T_a_b"], (4, 4)), two["true"])
    assert metres < 0.1 and radians < 0.02
    client.post(f"/api/projects/{two['project']}/links", json={"a": two["a"], "b": two["b"], "T_a_b": found["T_a_b"]})
    *_, job = work(two["project"])
    assert job.state == "done", job.error
    stands = {s["name"]: np.reshape(s["pose"], (4, 4)) for s in client.get(f"/api/projects/{two['project']}/stations").json()}
    assert frames.difference(frames.inverse(stands["ST-01"]) @ stands["ST-02"], two["true"])[0] < 0.003


def test_a_pick_in_the_air_and_one_on_another_thing_are_named(client: TestClient, two: dict[str, Any]) -> None:
    air = {"a": [0.6, 0.6, 0.4], "b": two["walls"][0]["b"]}
    found = ask(client, two, [*two["walls"], air])
    assert found["why"] == "" and found["matches"][3]["kind"] == "none" and "pick on a surface" in found["matches"][3]["said"]
    here = [frames.apply(frames.inverse(pose), np.array([SPHERES["S1"]]))[0] for _, pose in two["scans"].values()]
    front = [c - 0.1 * c / np.linalg.norm(c) for c in here]  # where a ray meets the sphere
    other = {"a": front[0].tolist(), "b": two["walls"][1]["b"]}
    found = ask(client, two, [*two["walls"], other])
    assert "match 4 is off" in found["why"] and found["matches"][3]["residual_mm"] > 250


def test_what_cannot_be_matched_is_refused(client: TestClient, two: dict[str, Any]) -> None:
    url = f"/api/projects/{two['project']}/matches"
    problem(client.post(url, json={"a": two["a"], "b": two["a"], "matches": []}), 422, "bad_input")
    problem(client.post(url, json={"a": two["a"], "b": "0" * 32, "matches": []}), 404, "not_found")
    assert client.post(url, json={"a": two["a"], "b": two["b"], "matches": [{"a": [1.0], "b": [0, 0, 0]}]}).status_code == 422
