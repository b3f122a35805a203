"""Tying over HTTP on three stations of the demo site: the network, switching, linking by hand, spheres, and what is refused."""

from __future__ import annotations

import asyncio
import base64
import io
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image
from sqlalchemy import select

from taut_lantern.api.app import make_app
from taut_lantern.api.events import hub
from taut_lantern.core import frames
from taut_lantern.core.align.mirror import mirrored
from taut_lantern.site.common import matrix, numbers
from taut_lantern.site.solution import refresh_solution
from taut_lantern.standins.scanner import Scanner
from taut_lantern.standins.scene import BOARDS, SPHERES
from taut_lantern.standins.site import simulate
from taut_lantern.store import journal
from taut_lantern.store.db import session
from taut_lantern.store.models import Link, Project
from tests.api.test_api import made, problem, undo, work
from tests.support import bring_in, write_scan

NAMES = ("ST-01", "ST-02", "ST-03")


@pytest.fixture(scope="module")
def client(database: str) -> Iterator[TestClient]:
    with TestClient(make_app(), base_url="http://localhost") as c:
        yield c


@pytest.fixture(scope="module")
def site(client: TestClient, tmp_path_factory: pytest.TempPathFactory) -> tuple[str, dict[str, np.ndarray]]:
    """Three stations brought in and tied, and their true poses."""
    project, folder, truth = made(client, "Hall"), tmp_path_factory.mktemp("hall"), {}
    for name in NAMES:
        cloud, truth[name] = simulate(name, Scanner(points=600_000), 51)
        bring_in(project, [write_scan(folder / f"{name}.e57", cloud)])
    assert client.post(f"/api/projects/{project}/tie", json={}).status_code == 202
    problem(client.post(f"/api/projects/{project}/tie", json={}), 422, "busy")
    *_, job = work(project)
    assert job.state == "done" and job.result is not None and job.result["links"] == 3, job.error
    return project, truth


@pytest.fixture
def tied(client: TestClient, site: tuple[str, dict[str, np.ndarray]]) -> Iterator[tuple[str, dict[str, np.ndarray]]]:
    """The same for every test: what it changes is taken back."""

    def stand() -> list[int]:
        return [j["id"] for j in client.get(f"/api/projects/{site[0]}/journal").json() if j["undoable"] and not j["undone"]]

    before = stand()
    yield site
    for _ in range(len(stand()) - len(before)):
        undo(client, site[0])


def network(client: TestClient, p: str) -> dict[str, Any]:
    return dict(client.get(f"/api/projects/{p}/network").json())


def poses(client: TestClient, p: str) -> dict[str, np.ndarray]:
    return {s["name"]: matrix(s["pose"]) for s in client.get(f"/api/projects/{p}/stations").json()}


def ids(client: TestClient, p: str) -> dict[str, str]:
    return {s["name"]: s["id"] for s in client.get(f"/api/projects/{p}/stations").json()}


def test_three_stations_make_a_loop_that_is_right_and_proves_itself(client: TestClient, tied: Any) -> None:
    p, truth = tied
    n, found = network(client, p), poses(client, p)
    assert [(k["name_a"], k["name_b"]) for k in n["links"]] == [("ST-01", "ST-02"), ("ST-01", "ST-03"), ("ST-02", "ST-03")]
    assert {k["status"] for k in n["links"]} == {"taut"} and [len(q["stations"]) for q in n["parts"]] == [3] and not n["out_of_date"]
    assert n["degrees_of_freedom"] == 6 + 4  # the loop, and three levels of one direction up
    assert n["global_test"]["passed"]
    for name in NAMES[1:]:
        metres, radians = frames.difference(frames.inverse(found["ST-01"]) @ found[name], frames.inverse(truth["ST-01"]) @ truth[name])
        assert metres < 0.003 and np.degrees(radians) < 0.010
    for listed in n["links"]:
        k = client.get(f"/api/projects/{p}/links/{listed['id']}").json()
        assert listed == {key: value for key, value in k.items() if key in listed} and "histogram" not in listed
        assert k["residual_mm"] < 2 and k["overlap"] > 0.5 and k["see_through"] < 0.01
        assert k["fit_median_mm"] < k["fit_rms_mm"] < k["fit_p90_mm"] * 2 and sum(k["histogram"]) > 1000
        assert np.linalg.norm(k["weak_direction"]) == pytest.approx(1, abs=1e-6)


def test_a_link_switched_off_leaves_the_network_at_once_and_undo_brings_it_back(client: TestClient, tied: Any) -> None:
    p, _ = tied
    before, link = poses(client, p), network(client, p)["links"][1]
    url = f"/api/projects/{p}/links/{link['id']}"
    n = client.patch(url, json={"used": False, "version": link["version"]}).json()
    off = next(k for k in n["links"] if k["id"] == link["id"])
    assert n["degrees_of_freedom"] == 4 and not off["used"] and client.get(url).json()["sentence"].startswith("Switched off")
    assert off["residual_mm"] > 0  # what the others say of it is still told
    problem(client.patch(url, json={"used": True, "version": link["version"]}), 409, "conflict")
    other = network(client, p)["links"][0]
    client.patch(f"/api/projects/{p}/links/{other['id']}", json={"used": False, "version": other["version"]})
    apart = network(client, p)
    assert len(apart["parts"]) == 2 and any(f["code"] == "not_connected" for f in apart["findings"])
    names = sorted(poses(client, p))
    alone = min(
        ({x["id"] for x in client.get(f"/api/projects/{p}/stations").json() if x["part"] == q["id"]} for q in apart["parts"]), key=len
    )
    told = client.get(f"/api/projects/{p}/advice").json()["apart"]
    assert len(alone) == 1 and any("a set-up that sees what both saw" in t and t.split()[0] in names for t in told), told
    for _ in range(2):
        undo(client, p)
    assert network(client, p)["degrees_of_freedom"] == 10
    for name, pose in poses(client, p).items():
        np.testing.assert_allclose(pose, before[name], atol=1e-9)


def test_advice_names_the_link_that_is_missing_and_it_brings_what_was_said(client: TestClient, tied: Any) -> None:
    p, _ = tied
    gone = max(network(client, p)["links"], key=lambda k: k["overlap"])
    with journal.change(p, "Took a link out", network=True) as c:
        c.remove(c.s.get_one(Link, gone["id"]))
        c.s.flush()
        refresh_solution(c.s, c.project)
    url, at = f"/api/projects/{p}/advice", poses(client, p)
    told = client.get(url).json()
    (link,) = told["links"]
    names = {x: n for n, x in ids(client, p).items()}
    assert {link["a"], link["b"]} == {gone["a"], gone["b"]} and link["shared"] > 0.3 and told["apart"] == []
    stand = frames.inverse(at[names[link["a"]]]) @ at[names[link["b"]]]
    assert max(frames.difference(matrix(link["T_a_b"]), stand)) < 1e-6
    assert client.post(f"/api/projects/{p}/links", json={k: link[k] for k in ("a", "b", "T_a_b")}).status_code == 202
    *_, job = work(p)
    assert job.state == "done", job.error
    after = {x["id"]: np.linalg.norm(x["sigma_position_mm"]) for x in client.get(f"/api/projects/{p}/stations").json()}
    assert after[link["gains"]] < 0.95 * link["before_mm"]
    assert after[link["gains"]] == pytest.approx(link["after_mm"], rel=0.4)
    assert client.get(url).json()["links"] == []


@pytest.mark.parametrize("off", [(0.0, 0.0, 0.0), (0.5, -0.4, 0.1), (-0.6, 0.3, -0.1)])
def test_a_pair_is_linked_from_a_rough_placement(client: TestClient, tied: Any, off: tuple[float, float, float]) -> None:
    p, truth = tied
    true, by = frames.inverse(truth["ST-01"]) @ truth["ST-02"], ids(client, p)
    put = frames.pose(0.03 if any(off) else 0.0, off) @ true
    client.post(f"/api/projects/{p}/links", json={"a": by["ST-01"], "b": by["ST-02"], "T_a_b": numbers(put)})
    *_, job = work(p)
    assert job.state == "done", job.error
    n, found = network(client, p), poses(client, p)
    assert len(n["links"]) == 3 and n["global_test"]["passed"]  # it took the place of the old one
    metres, _ = frames.difference(frames.inverse(found["ST-01"]) @ found["ST-02"], true)
    assert metres < 0.003


def test_a_pair_is_compared_in_a_crop_box_alone(client: TestClient, tied: Any) -> None:
    """Of what lies in the box: fewer matches, another evidence, the same place; a box that holds nothing is refused, and nothing is lost."""
    p, truth = tied
    link = next(k for k in network(client, p)["links"] if (k["name_a"], k["name_b"]) == ("ST-01", "ST-02"))
    whole, at = client.get(f"/api/projects/{p}/links/{link['id']}").json(), poses(client, p)
    between = (at["ST-01"][:3, 3] + at["ST-02"][:3, 3]) / 2
    pair = {"a": link["a"], "b": link["b"], "T_a_b": numbers(frames.inverse(at["ST-01"]) @ at["ST-02"])}

    def linked(half: list[float], centre: list[float]) -> Any:
        box = client.post(f"/api/projects/{p}/boxes", json={"name": "here", "centre": centre, "half": half, "yaw": 0.2}).json()["id"]
        assert client.post(f"/api/projects/{p}/links", json={**pair, "box": box}).status_code == 202
        *_, job = work(p)
        return job

    job = linked([5.0, 5.0, 4.0], between.tolist())
    assert job.state == "done", job.error
    new = next(k for k in network(client, p)["links"] if (k["name_a"], k["name_b"]) == ("ST-01", "ST-02"))
    k = client.get(f"/api/projects/{p}/links/{new['id']}").json()
    assert k["region"]["half"] == [5.0, 5.0, 4.0] and "box of 10.0 × 10.0 × 8.0 m" in k["sentence"] and whole["region"] is None
    centre = (at["ST-01"] @ matrix(k["region"]["T_a_box"]))[:3, 3]
    np.testing.assert_allclose(centre, between, atol=0.01)
    assert 0 < k["distinct_m2"] < 0.8 * whole["distinct_m2"] and sum(k["histogram"]) > 1000 and k["fit_rms_mm"] < 6
    with session() as s:
        t = matrix(s.get_one(Link, new["id"]).T_a_b)
    assert frames.difference(t, frames.inverse(truth["ST-01"]) @ truth["ST-02"])[0] < 0.005
    drawn = {"centre": between.tolist(), "half": [4.0, 6.0, 50.0], "yaw": 0.4}
    client.post(f"/api/projects/{p}/links", json={**pair, "region": drawn})
    work(p)
    k = next(k for k in network(client, p)["links"] if (k["name_a"], k["name_b"]) == ("ST-01", "ST-02"))
    new, whole = k, client.get(f"/api/projects/{p}/links/{k['id']}").json()
    assert whole["region"]["half"] == [4.0, 6.0, 50.0] and sum(whole["histogram"]) > 500
    assert np.arctan2(*matrix(whole["region"]["T_a_box"])[[1, 0], 0]) == pytest.approx(0.4 - np.arctan2(*at["ST-01"][[1, 0], 0]), abs=1e-6)
    job = linked([0.5, 0.5, 0.5], [80.0, 0.0, 0.0])
    assert job.state == "failed" and job.error["code"] == "not_enough" and "within the box" in job.error["message"]
    assert new["id"] in {k["id"] for k in network(client, p)["links"]}


def test_a_scan_put_roughly_is_found_when_it_is_looked_for_farther_round(client: TestClient, tied: Any) -> None:
    p, truth = tied
    true, by = frames.inverse(truth["ST-01"]) @ truth["ST-02"], ids(client, p)
    rough = frames.pose(0.05, (1.6, -1.5, 0.3)) @ true
    pair = {"a": by["ST-01"], "b": by["ST-02"], "T_a_b": numbers(rough)}
    off = []
    for reach in (0.3, 4.0):
        client.post(f"/api/projects/{p}/links", json={**pair, "reach": reach})
        *_, job = work(p)
        with session() as s:
            rows = s.scalars(select(Link).where(Link.project_id == p)).all()
        mine = next(k for k in rows if {k.a, k.b} == {by["ST-01"], by["ST-02"]})
        t = matrix(mine.T_a_b) if mine.a == by["ST-01"] else frames.inverse(matrix(mine.T_a_b))
        off.append(frames.difference(t, true)[0] if job.state == "done" else np.inf)
    assert off[1] < 0.005 < off[0]
    problem(client.post(f"/api/projects/{p}/links", json={**pair, "reach": 50}), 422, "bad_request")


def test_a_placement_that_shares_nothing_or_is_none_is_refused_and_changes_nothing(client: TestClient, tied: Any) -> None:
    p, _ = tied
    before, by = network(client, p), ids(client, p)
    far = frames.pose(0.4, (60.0, 45.0, 12.0))
    client.post(f"/api/projects/{p}/links", json={"a": by["ST-01"], "b": by["ST-03"], "T_a_b": numbers(far)})
    *_, job = work(p)
    assert job.state == "failed" and job.error is not None and job.error["code"] == "nothing_shared" and job.error["remedy"]
    same, turned = {"a": by["ST-01"], "b": by["ST-01"]}, {"a": by["ST-01"], "b": by["ST-02"]}
    for body in (same | {"T_a_b": numbers(np.eye(4))}, turned | {"T_a_b": numbers(2 * np.eye(4))}, turned | {"T_a_b": [0.0] * 15}):
        assert client.post(f"/api/projects/{p}/links", json=body).status_code == 422
    assert network(client, p) == before


def test_spheres_are_found_named_and_can_be_left_out(client: TestClient, tied: Any) -> None:
    p, truth = tied
    for radii in ([], [5.0], [2000.0]):
        assert client.post(f"/api/projects/{p}/targets/find", json={"radii_mm": radii}).status_code == 422
    client.post(f"/api/projects/{p}/targets/find", json={"radii_mm": [100.0]})
    *_, job = work(p)
    assert job.state == "done", job.error
    seen = client.get(f"/api/projects/{p}/sightings").json()
    named = [g for g in seen if g["target"]]
    site_from_project = truth["ST-01"] @ frames.inverse(poses(client, p)["ST-01"])
    centres = np.array(list(SPHERES.values()))
    assert len({g["target"] for g in named}) >= 2
    for g in named:
        gap = np.linalg.norm(centres - frames.apply(site_from_project, np.array([g["position"]]))[0], axis=1).min()
        assert gap < 0.003 and g["size_mm"] == 100 and (g["points"] > 20 or not g["used"]), g
    url = f"/api/projects/{p}/sightings/{named[0]['id']}"
    assert client.patch(url, json={"used": False, "version": named[0]["version"]}).status_code == 200
    problem(client.patch(url, json={"target": "T9", "version": named[0]["version"]}), 409, "conflict")
    again = next(g for g in client.get(f"/api/projects/{p}/sightings").json() if g["id"] == named[0]["id"])
    assert not again["used"]
    assert client.patch(url, json={"target": "  Spare  ", "version": again["version"]}).status_code == 200
    assert client.post(f"/api/projects/{p}/targets/regroup").status_code == 200
    now_ = client.get(f"/api/projects/{p}/sightings").json()
    # the name that somebody gave is now that of all sightings at its place; the others keep theirs
    assert {g["target_name"] for g in now_} - {""} == {g["target_name"] for g in named} - {named[0]["target_name"]} | {"Spare"}
    assert sum(g["target_name"] == "Spare" for g in now_) == sum(g["target"] == named[0]["target"] for g in named)
    client.post(f"/api/projects/{p}/targets/find", json={"radii_mm": [100], "edges_mm": [300]})
    *_, job = work(p)
    found = client.get(f"/api/projects/{p}/sightings").json()
    spheres = {g["id"]: (g["target"], g["used"]) for g in found if g["kind"] == "sphere"}
    assert job.state == "done" and {g["id"]: (g["target"], g["used"]) for g in now_} == spheres
    boards, middles = [g for g in found if g["kind"] == "board"], np.array([b.centre for b in BOARDS.values()])
    assert len({g["target"] for g in boards}) >= 2
    for g in boards:
        gap = np.linalg.norm(middles - frames.apply(site_from_project, np.array([g["position"]]))[0], axis=1).min()
        assert 1000 * gap < 3.5 * g["sigma_mm"] + 1 < 60 and g["size_mm"] == 300, g
    client.post(f"/api/projects/{p}/targets/find", json={"radii_mm": [72.5]})
    *_, job = work(p)
    assert {g["id"] for g in client.get(f"/api/projects/{p}/sightings").json()} == {g["id"] for g in found}  # not looked for: they stay


def test_a_sphere_that_is_picked_is_fitted_in_every_station_that_saw_it(client: TestClient, tied: Any) -> None:
    p, truth = tied
    part_site = poses(client, p)["ST-01"] @ frames.inverse(truth["ST-01"])
    centre = frames.apply(part_site, np.array([SPHERES["S1"]]))[0]
    eye = poses(client, p)["ST-01"][:3, 3]
    on_it = centre + 0.1 * (eye - centre) / np.linalg.norm(eye - centre)
    url, body = f"/api/projects/{p}/targets/fit", {"kind": "sphere", "size_mm": 100, "at": on_it.tolist(), "name": "K1"}
    assert client.post(url, json=body | {"size_mm": 5}).status_code == 422
    for _ in range(2):  # picked again, it is not there twice
        assert client.post(url, json=body).status_code == 202
        *_, job = work(p)
        assert job.state == "done" and job.result is not None, job.error
    seen = [g for g in client.get(f"/api/projects/{p}/sightings").json() if g["target_name"] == "K1"]
    assert len(seen) == job.result["sightings"] >= 1 and len({g["station"] for g in seen}) == len(seen)
    assert all(np.linalg.norm(np.array(g["position"]) - centre) < 0.003 and g["used"] for g in seen)
    client.post(url, json=body | {"at": (centre + [0.5, 0.0, 0.4]).tolist()})
    *_, job = work(p)
    assert job.state == "failed" and job.error is not None and "no sphere of radius 100.0 mm" in job.error["message"]


def test_events_reach_those_who_look_at_the_project_and_nobody_else(client: TestClient, tied: Any, tmp_path: Path) -> None:
    p, _ = tied
    other = made(client, "Elsewhere")

    async def listen(project: str, heard: list[str]) -> None:
        async for event in hub.stream(project):
            heard.append(event)

    async def both() -> tuple[list[str], list[str]]:
        heard: tuple[list[str], list[str]] = ([], [])
        hub.loop, before = asyncio.get_running_loop(), hub.loop
        tasks = [asyncio.create_task(listen(x, h)) for x, h in zip((p, other), heard, strict=True)]
        while not all(heard):  # both listen
            await asyncio.sleep(0.05)
        link = (await asyncio.to_thread(network, client, p))["links"][0]
        url = f"/api/projects/{p}/links/{link['id']}"
        await asyncio.to_thread(client.patch, url, json={"used": False, "version": link["version"]})
        for _ in range(100):
            if any('"network"' in e for e in heard[0]):
                break
            await asyncio.sleep(0.1)
        for t in tasks:
            t.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        hub.loop = before
        return heard

    mine, theirs = asyncio.run(both())
    assert mine[0].startswith("event: hello") and any(f'"project": "{p}"' in e and '"network"' in e for e in mine)
    assert all("change" not in e for e in theirs) and not hub.queues


def accepted(client: TestClient, p: str, link: str | None) -> dict[str, Any] | None:
    return next((dict(a) for a in client.get(f"/api/projects/{p}/acceptances").json() if a["link"] == link), None)


def test_an_acceptance_holds_for_what_was_looked_at_and_for_nothing_that_came_after(client: TestClient, tied: Any) -> None:
    p, _ = tied
    first, second, _ = network(client, p)["links"]
    for link, remark in ((first["id"], "looked at in slices"), (second["id"], ""), (None, "goes to the fabricator")):
        assert client.post(f"/api/projects/{p}/acceptances", json={"link": link, "remark": remark}).status_code == 201
    mine = accepted(client, p, first["id"])
    assert mine is not None and mine["stands"] and mine["remark"] == "looked at in slices" and mine["by"]
    assert (whole := accepted(client, p, None)) is not None and whole["stands"]
    r = client.patch(f"/api/projects/{p}/links/{first['id']}", json={"used": False, "version": first["version"]})
    assert r.status_code == 200, r.text
    mine, whole = (accepted(client, p, k) for k in (first["id"], None))
    assert mine and not mine["stands"] and "switched off" in mine["why"]
    assert whole and not whole["stands"] and "changed" in whole["why"]
    undo(client, p)  # what was accepted is there again
    assert all((accepted(client, p, k) or {})["stands"] for k in (first["id"], second["id"], None))
    card = client.get(f"/api/projects/{p}").json()
    client.patch(f"/api/projects/{p}", json={"profile": "topographic", "version": card["version"]})
    assert "topographic" in (accepted(client, p, None) or {})["why"]


def test_an_acceptance_is_withdrawn_and_given_again(client: TestClient, tied: Any) -> None:
    p, _ = tied
    link = network(client, p)["links"][0]["id"]
    client.post(f"/api/projects/{p}/acceptances", json={"link": link})
    row = accepted(client, p, link)
    assert row is not None
    url = f"/api/projects/{p}/acceptances/{row['id']}/withdraw"
    assert client.post(url, json={"version": row["version"]}).status_code == 200
    after = accepted(client, p, link)
    assert after is not None and not after["stands"] and "withdrawn by" in after["why"]
    problem(client.post(url, json={"version": row["version"]}), 409, "conflict")
    client.post(f"/api/projects/{p}/acceptances", json={"link": link})
    assert (accepted(client, p, link) or {})["stands"]
    problem(client.post(f"/api/projects/{made(client, 'Empty')}/acceptances", json={}), 422, "not_enough")
    for by in (1, -1):  # a change whose adjustment is not there yet: nothing is accepted, nothing is written
        with session() as s:
            s.get_one(Project, p).network_revision += by
        if by > 0:
            told = problem(client.post(f"/api/projects/{p}/acceptances", json={"link": link}), 422, "bad_input")
            assert "changed since" in told["detail"]
    assert (accepted(client, p, link) or {})["stands"]


def test_how_stations_are_looked_for_is_kept_read_again_and_taken_back(client: TestClient, tied: Any) -> None:
    p, _ = tied
    url = f"/api/projects/{p}/search"
    before = client.get(url).json()
    assert before["level"] and not before["in_order"] and before["spots"] == []
    names = [s["name"] for s in client.get(f"/api/projects/{p}/stations").json()]
    sketch = "\n".join(f"{n}; {3.5 * k}; 1" for k, n in enumerate(names))
    r = client.patch(url, json={"version": before["version"], "level": False, "in_order": True, "sketch": sketch})
    assert r.status_code == 200 and not r.json()["level"] and [s["x"] for s in r.json()["spots"]] == [0.0, 3.5, 7.0]
    problem(client.patch(url, json={"version": before["version"], "level": True}), 409, "conflict")
    told = problem(client.patch(url, json={"version": r.json()["version"], "sketch": "ST-77, 1, 2"}), 422, "bad_input")
    assert "ST-77" in told["detail"]
    undo(client, p)
    assert {k: v for k, v in client.get(url).json().items() if k != "version"} == {k: v for k, v in before.items() if k != "version"}


def png(colour: tuple[int, int, int], size: tuple[int, int] = (320, 200)) -> bytes:
    out = io.BytesIO()
    Image.new("RGB", size, colour).save(out, "PNG")
    return out.getvalue()


def test_what_leaning_scans_propose_is_kept_for_the_next_run(client: TestClient, tied: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    p, truth = tied
    url = f"/api/projects/{p}/search"
    client.patch(url, json={"version": client.get(url).json()["version"], "level": False})
    for again in (False, True):
        if again:
            monkeypatch.setattr("taut_lantern.core.align.believe.propose", None)  # nobody may look a second time
        client.post(f"/api/projects/{p}/tie")
        *_, job = work(p)
        assert job.state == "done" and job.result is not None and job.result["links"] == 3, job.error
    found = poses(client, p)
    off = frames.difference(frames.inverse(found["ST-01"]) @ found["ST-03"], frames.inverse(truth["ST-01"]) @ truth["ST-03"])
    assert off[0] < 0.003


def test_a_mirrored_scan_is_named_with_the_way_on(client: TestClient, tmp_path: Path) -> None:
    p = made(client, "Mirrored")
    clouds = {n: simulate(n, Scanner(points=120_000), 3)[0] for n in ("ST-01", "ST-02")}
    paths = [write_scan(tmp_path / f"{n}.e57", mirrored(s) if n == "ST-02" else s, name=n) for n, s in clouds.items()]
    bring_in(p, paths)
    client.post(f"/api/projects/{p}/tie")
    *_, job = work(p)
    assert job.state == "done", (job.state, job.error)
    (said,) = job.result["undecided"]
    assert said["code"] == "mirrored" and said["subject"] == "ST-02"
    assert "ST-02 fits ST-01 as its mirror image" in said["message"] and "right-handed" in said["message"]
    assert network(client, p)["links"] == []


def test_a_page_of_a_pdf_lies_below_the_sketch_and_under_the_plan(client: TestClient, tied: Any) -> None:
    p, _ = tied
    url = f"/api/projects/{p}/search"
    pages = io.BytesIO()
    Image.new("RGB", (60, 40), (200, 30, 30)).save(
        pages, "PDF", resolution=72, save_all=True, append_images=[Image.new("RGB", (90, 30), (10, 20, 200))]
    )
    problem(client.post(f"{url}/picture", content=pages.getvalue(), params={"page": 3}), 422, "bad_input")
    problem(client.post(f"{url}/picture", content=b"%PDF-1.4 torn"), 422, "unreadable")
    problem(
        client.patch(url, json={"version": client.get(url).json()["version"], "picture": {"x": 0, "y": 0, "size": 1}}), 422, "bad_input"
    )
    assert client.post(f"{url}/picture", content=png((0, 0, 0))).status_code == 201
    laid = client.post(f"{url}/picture", content=pages.getvalue(), params={"page": 2}).json()
    below = laid["picture"]
    assert below["wide"] / below["high"] == pytest.approx(3, abs=0.05) and below["size"] * below["wide"] == pytest.approx(40)
    shown = Image.open(io.BytesIO(client.get(f"/api/projects/{p}/pictures/{below['id']}/file").content))
    assert shown.getpixel((20, 20)) == pytest.approx((10, 20, 200), abs=8)
    assert client.get(f"/api/projects/{p}/pictures").json() == []  # it is none of the report's
    stations = client.get(f"/api/projects/{p}/stations").json()
    turn = frames.pose(0.4, (3.0, -2.0, 0.0))  # the sketch is drawn from another place, in another direction
    spots = {s["name"]: (frames.inverse(turn) @ matrix(s["pose"]))[:2, 3] for s in stations}
    text = "\n".join(f"{n}; {x:.4f}; {y:.4f}" for n, (x, y) in spots.items())
    kept = client.patch(url, json={"version": laid["version"], "sketch": text, "picture": {"x": -5, "y": 2, "size": 0.01}}).json()
    assert [kept["picture"][k] for k in ("x", "y", "size")] == [-5, 2, 0.01]
    (on_plan,) = kept["laid"]
    np.testing.assert_allclose(np.reshape(on_plan["T_part_sketch"], (2, 3)), turn[:2, [0, 1, 3]], atol=2e-4)
    undo(client, p)
    assert client.get(url).json()["picture"]["size"] == below["size"] and client.get(url).json()["laid"] == []
    assert client.delete(f"{url}/picture").json()["picture"] is None
    problem(client.delete(f"{url}/picture"), 404, "not_found")
    undo(client, p)
    assert client.get(url).json()["picture"]["id"] == below["id"]
    client.delete(f"{url}/picture")


def test_the_report_carries_pictures_company_and_acceptance_as_pdf_and_as_one_page(client: TestClient, tied: Any) -> None:
    p, _ = tied
    url = f"/api/projects/{p}/pictures"
    first, logo = png((200, 30, 30)), png((10, 20, 200), (90, 30))
    assert client.post(url, content=first, params={"caption": "The east wall & its pipes"}).status_code == 201
    assert client.post(url, content=png((0, 0, 0)), params={"logo": True}).status_code == 201
    assert client.post(url, content=logo, params={"logo": True}).status_code == 201
    rows = client.get(url).json()
    assert [(r["caption"], r["logo"], r["wide"]) for r in rows] == [("The east wall & its pipes", False, 320), ("", True, 90)]
    assert client.get(f"{url}/{rows[0]['id']}/file").content == first
    problem(client.post(url, content=b"\x89PNG no more"), 422, "unreadable")
    card = client.get(f"/api/projects/{p}").json()
    client.patch(f"/api/projects/{p}", json={"company": "Ottermere Surveys", "version": card["version"]})
    client.post(f"/api/projects/{p}/acceptances", json={"remark": "for the fabricator"})
    files = {}
    for kind in ("pdf", "html"):
        assert client.post(f"/api/projects/{p}/deliveries", json={"kind": kind}).status_code == 202
        *_, job = work(p)
        assert job.state == "done" and job.result is not None, job.error
        files[kind] = client.get(f"/api/projects/{p}/deliveries/{job.result['delivery']}/file").content
    page = files["html"].decode()
    for said in ("Ottermere Surveys", "The east wall &amp; its pipes", "for the fabricator", "<svg", *NAMES):
        assert said in page, said
    inside = [base64.b64decode(m) for m in re.findall(r"data:image/png;base64,([^\"]+)", page)]
    assert inside == [logo, first] and "http" not in page.replace("http-equiv", "")
    pictures = re.findall(rb"/Subtype /Image.{0,200}?/Width (\d+)|/Width (\d+).{0,200}?/Subtype /Image", files["pdf"], re.S)
    assert {int(a or b) for a, b in pictures} == {320, 90}
    client.delete(f"{url}/{rows[0]['id']}", params={"version": rows[0]["version"]})
    assert [r["logo"] for r in client.get(url).json()] == [True]
    undo(client, p)
    assert client.get(f"{url}/{rows[0]['id']}/file").content == first and len(client.get(url).json()) == 2
