"""The HTTP API: uploads, bad input, two tabs at once, files out."""

from __future__ import annotations

import hashlib
import re
import struct
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient

from taut_lantern.api.app import make_app
from taut_lantern.core.scan.hierarchy import unpacked
from taut_lantern.site.common import Progress
from taut_lantern.steps.bring_in import uploads
from taut_lantern.steps.tie import links
from taut_lantern.store.db import Damaged, file_chunks, session
from taut_lantern.store.models import Job
from taut_lantern.work.jobs import run_job
from tests.formats.test_e57 import BROKEN, write_odd
from tests.support import bring_in, link_rows, room, write_scan


@pytest.fixture(scope="module")
def client(database: str) -> Iterator[TestClient]:
    with TestClient(make_app(), base_url="http://localhost") as c:
        yield c


def undo(client: TestClient, project: str, way: str = "undo") -> Any:
    """Take the last change back, as the page has it before it."""
    known = client.get(f"/api/projects/{project}").json()[way]
    return client.post(f"/api/projects/{project}/{way}", json={"entry": known["entry"] if known else 1})


def made(client: TestClient, name: str = "API") -> str:
    return client.post("/api/projects", json={"name": name}).json()["id"]


def send(client: TestClient, project: str, path: Path, piece: int = 1 << 20) -> str:
    data = path.read_bytes()
    begun = client.post(f"/api/projects/{project}/uploads", json={"name": path.name, "size": len(data)})
    assert begun.status_code == 201, begun.text
    upload = begun.json()
    for at in range(upload["received"], len(data), piece):
        r = client.put(f"/api/projects/{project}/uploads/{upload['id']}?offset={at}", content=data[at : at + piece])
        assert r.status_code == 200, r.text
    return upload["id"]


def work(project: str, kind: str = "") -> list[Job]:
    """Do what waits, in this process, as the worker would."""
    from sqlalchemy import select

    with session() as s:
        waiting = list(s.scalars(select(Job.id).where(Job.project_id == project, Job.state == "waiting").order_by(Job.created_at)))
    for job in waiting:
        run_job(job)
    with session() as s:
        return [s.get_one(Job, j) for j in waiting]


def problem(r: Any, status: int, code: str) -> dict[str, Any]:
    assert r.status_code == status, r.text
    assert r.headers["content-type"].startswith("application/problem+json")
    body = r.json()
    assert body["code"] == code and body["detail"], body
    return body


def test_a_file_is_read_before_anything_is_stored_then_brought_in_once(client: TestClient, tmp_path: Path) -> None:
    p = made(client)
    upload = send(client, p, write_scan(tmp_path / "ST-07.e57", room(9000)))
    work(p)
    (file,) = client.get(f"/api/projects/{p}/originals").json()
    assert file["state"] == "complete" and file["scans"][0]["points"] == 9000 and file["scans"][0]["colour"]
    assert client.get(f"/api/projects/{p}/stations").json() == []
    body = {"originals": [upload], "min_range": 1.8, "max_range": 50}
    assert len(client.post(f"/api/projects/{p}/bring-in", json=body).json()["jobs"]) == 1
    assert client.post(f"/api/projects/{p}/bring-in", json=body).json()["jobs"] == []  # already on its way
    (job,) = work(p)
    assert job.state == "done"
    (station,) = client.get(f"/api/projects/{p}/stations").json()
    r = station["report"]
    assert r["too_near"] > 0 and r["read"] == 9000 == r["kept"] + r["too_near"] and station["points"] == r["kept"]
    url = f"/api/projects/{p}/stations/{station['id']}/tiles"
    tiles, one = client.get(url), client.get(f"{url}/0")
    count = int(unpacked(tiles.content).count[0])
    assert count == station["root"]["count"] and len(one.content) == 16 * count
    assert all("immutable" in answer.headers["cache-control"] for answer in (tiles, one))
    xyz = np.frombuffer(one.content, np.float32, 3 * count).reshape(-1, 3)
    assert (np.linalg.norm(xyz, axis=1) >= 1.8).all()


def test_an_upload_that_breaks_off_goes_on_where_it_stopped(client: TestClient, tmp_path: Path) -> None:
    p = made(client)
    data = write_scan(tmp_path / "a.e57", room(4000)).read_bytes()
    first = client.post(f"/api/projects/{p}/uploads", json={"name": "a.e57", "size": len(data)}).json()
    url = f"/api/projects/{p}/uploads/{first['id']}"
    client.put(f"{url}?offset=0", content=data[:50_000])
    wrong = problem(client.put(f"{url}?offset=60000", content=data[60_000:]), 409, "wrong_offset")
    assert wrong["subject"] == "50000"
    problem(client.put(f"{url}?offset=50000", content=data[50_000:] + b"too long"), 422, "bad_input")
    (open_,) = client.get(f"/api/projects/{p}/uploads?size={len(data)}").json()
    assert (open_["id"], open_["received"]) == (first["id"], 50_000)
    assert [x["sha256"] for x in open_["pieces"]] == [hashlib.sha256(data[:50_000]).hexdigest()]
    assert client.put(f"{url}?offset=50000", content=data[50_000:]).json()["state"] == "complete"
    assert b"".join(file_chunks(first["id"], len(data))) == data


def test_another_file_of_the_same_name_and_size_never_goes_on_with_a_broken_upload(client: TestClient, tmp_path: Path) -> None:
    p = made(client)
    one = write_scan(tmp_path / "one/a.e57", room(4000)).read_bytes()
    path = write_scan(tmp_path / "other/a.e57", room(4000, seed=5))
    other = path.read_bytes()
    assert len(one) == len(other) and one != other
    digest = hashlib.sha256(one).hexdigest()
    begin = lambda **more: client.post(f"/api/projects/{p}/uploads", json={"name": "a.e57", "size": len(one), **more}).json()  # noqa: E731
    first = begin(sha256=digest)
    client.put(f"/api/projects/{p}/uploads/{first['id']}?offset=0", content=one[:60_000])
    assert begin(sha256=digest) == first | {"received": 60_000}  # the very same bytes go on
    assert begin()["id"] != first["id"] and begin(sha256=hashlib.sha256(other).hexdigest())["id"] != first["id"]
    put = uploads.put_file(p, path)
    assert put != first["id"] and b"".join(file_chunks(put, len(other))) == other
    client.put(f"/api/projects/{p}/uploads/{first['id']}?offset=60000", content=other[60_000:])  # a mixture
    work(p)
    mixed = next(f for f in client.get(f"/api/projects/{p}/originals").json() if f["id"] == first["id"])
    assert mixed["state"] == "bad" and mixed["problem"]["code"] == "other_bytes"


@pytest.mark.parametrize("kind", BROKEN)
def test_a_broken_file_is_refused_by_name_and_nothing_of_it_stays(client: TestClient, tmp_path: Path, kind: str) -> None:
    p = made(client, f"broken {kind}")
    path = tmp_path / "Nº 3 'hall'/x.e57"
    path.parent.mkdir()
    BROKEN[kind][0](path)
    if path.stat().st_size == 0:
        body = problem(client.post(f"/api/projects/{p}/uploads", json={"name": path.name, "size": 0}), 422, "empty_file")
        assert "x.e57" in body["detail"] and body["remedy"]
        return
    upload = send(client, p, path)
    work(p)
    (file,) = client.get(f"/api/projects/{p}/originals").json()
    assert file["state"] == "bad" and file["problem"]["code"] == BROKEN[kind][1] and "x.e57" in file["problem"]["message"]
    with pytest.raises(Damaged):
        b"".join(file_chunks(upload, path.stat().st_size))
    problem(client.post(f"/api/projects/{p}/bring-in", json={"originals": [upload]}), 422, "bad_input")


def test_a_file_with_points_that_are_none_is_brought_in_without_them(client: TestClient, tmp_path: Path) -> None:
    p = made(client)
    upload = send(client, p, write_odd(tmp_path / "odd.e57"))
    work(p)
    client.post(f"/api/projects/{p}/bring-in", json={"originals": [upload], "min_range": 0.0})
    (job,) = work(p)
    assert job.state == "done", job.error
    (station,) = client.get(f"/api/projects/{p}/stations").json()
    assert (station["report"]["kept"], station["report"]["not_finite"]) == (59, 30)
    second = send(client, p, write_scan(tmp_path / "far.e57", room(50)))
    work(p)
    client.post(f"/api/projects/{p}/bring-in", json={"originals": [second], "min_range": 100})
    (job,) = work(p)
    assert job.state == "failed" and job.error["code"] == "no_points" and "far.e57" in job.error["message"]  # type: ignore[index]
    assert len(client.get(f"/api/projects/{p}/stations").json()) == 1


@pytest.mark.parametrize("name", ["a/b\\c\"d'e.e57", "\U0001f3ee лампа.e57", "x" * 296 + ".e57", "..e57", "  blank .e57"])
def test_odd_names_are_kept_readable(client: TestClient, tmp_path: Path, name: str) -> None:
    p = made(client, name)
    data = write_scan(tmp_path / "a.e57", room(300), name=name[:200]).read_bytes()
    begun = client.post(f"/api/projects/{p}/uploads", json={"name": name, "size": len(data)})
    assert begun.status_code == 201, begun.text
    client.put(f"/api/projects/{p}/uploads/{begun.json()['id']}?offset=0", content=data)
    work(p)
    client.post(f"/api/projects/{p}/bring-in", json={"originals": [begun.json()["id"]]})
    work(p)
    (station,) = client.get(f"/api/projects/{p}/stations").json()
    assert station["name"].strip() and "\x00" not in station["name"]
    client.post(f"/api/projects/{p}/deliveries", json={"kind": "e57"})
    (job,) = work(p)
    assert job.state == "done", job.error
    (delivery,) = client.get(f"/api/projects/{p}/deliveries").json()
    assert client.get(f"/api/projects/{p}/deliveries/{delivery['id']}/file").status_code == 200


def test_wrong_suffixes_and_sizes_are_refused_at_the_door(client: TestClient) -> None:
    p = made(client)
    problem(client.post(f"/api/projects/{p}/uploads", json={"name": "a.zip", "size": 10}), 422, "unknown_kind")
    problem(client.post(f"/api/projects/{p}/uploads", json={"name": "a.e57", "size": 2**49}), 422, "too_large")
    problem(client.post(f"/api/projects/{p}/uploads", json={"name": "a.e57", "size": -1}), 422, "bad_request")
    problem(client.get("/api/projects/" + "0" * 32), 404, "not_found")
    problem(client.get("/api/nothing"), 404, "not_found")


def test_two_tabs_that_edit_the_same_thing_are_told(client: TestClient) -> None:
    p = made(client, "two tabs")
    project = client.get(f"/api/projects/{p}").json()
    one = client.patch(f"/api/projects/{p}", json={"name": "first", "version": project["version"]})
    assert one.status_code == 200
    problem(client.patch(f"/api/projects/{p}", json={"name": "second", "version": project["version"]}), 409, "conflict")
    assert client.get(f"/api/projects/{p}").json()["name"] == "first"
    box = {"centre": [0, 0, 0], "half": [1, 1, 1]}
    made_box = client.post(f"/api/projects/{p}/boxes", json=box).json()["id"]
    (row,) = client.get(f"/api/projects/{p}/boxes").json()
    url = f"/api/projects/{p}/boxes/{made_box}"
    assert client.put(url, json={**box, "half": [2, 2, 2], "version": row["version"]}).status_code == 200
    problem(client.put(url, json={**box, "half": [3, 3, 3], "version": row["version"]}), 409, "conflict")


CONTROL_FAULTS = {
    "a missing column": ("a;1;2;3\nb;1;2\n", "missing_column"),
    "two equal names": ("a;1;2;3\na;4;5;6\n", "same_name"),
    "letters in a number": ("a;1;2;3\nb;1;2O;3\n", "not_a_number"),
}


@pytest.mark.parametrize("kind", CONTROL_FAULTS)
def test_a_control_file_with_a_fault_is_shown_but_not_taken(client: TestClient, kind: str) -> None:
    p = made(client)
    text, code = CONTROL_FAULTS[kind]
    seen = client.post(f"/api/projects/{p}/control/preview", json={"text": text, "file": "k.csv"}).json()
    assert not seen["usable"] and seen["findings"][0]["code"] == code
    body = problem(client.put(f"/api/projects/{p}/control", json={"text": text, "file": "k.csv"}), 422, code)
    assert "k.csv" in body["detail"] and "line" in body["detail"]
    assert client.get(f"/api/projects/{p}/control").json()["points"] == []


def test_a_decimal_comma_is_understood_and_control_without_targets_says_what_is_missing(client: TestClient) -> None:
    p = made(client)
    taken = client.put(f"/api/projects/{p}/control", json={"text": "a;10,5;20,5;1,5\nb;1,0;2,0;3,0\n", "file": "k.csv"}).json()
    assert taken["points"][0]["enh"] == [20.5, 10.5, 1.5] and "at least 3" in taken["problem"]
    problem(client.post(f"/api/projects/{p}/control/apply", json={}), 422, "not_enough")
    knot = next(k for k in client.get(f"/api/projects/{p}").json()["thread"] if k["step"] == "place")
    assert knot["state"] == "begun"


def test_what_needs_stations_says_so(client: TestClient) -> None:
    p = made(client)
    problem(client.post(f"/api/projects/{p}/tie"), 422, "not_enough")
    problem(client.post(f"/api/projects/{p}/sections", json={"kind": "plan", "above_floor": 1.2}), 422, "bad_input")
    problem(client.get(f"/api/projects/{p}/boxes/proposal"), 422, "bad_input")
    problem(client.post(f"/api/projects/{p}/deliveries", json={"kind": "laz"}), 422, "bad_input")
    problem(undo(client, p), 404, "nothing_to_undo")


def test_the_outside_is_not_let_in_by_another_name(client: TestClient) -> None:
    assert client.get("/api/projects", headers={"host": "evil.example"}).status_code == 400
    for path in ("/..%2f..%2fpyproject.toml", "/%00", "/" + "x" * 9000, "/p/%2e%2e/" + "y" * 9000, "/assets/%00.js"):
        assert client.get(path).status_code == 404, path


def test_a_full_disk_is_named_and_nothing_half_done_stays(client: TestClient, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    p = made(client)
    bring_in(p, [write_scan(tmp_path / "a.e57", room(500))])

    def full(*a: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("taut_lantern.steps.hand_over.deliver.store_file", full)
    client.post(f"/api/projects/{p}/deliveries", json={"kind": "e57"})
    *_, job = work(p)
    assert job.state == "failed" and job.error["code"] == "disk_full" and "free some space" in job.error["remedy"]  # type: ignore[index]
    assert client.get(f"/api/projects/{p}/deliveries").json() == []
    monkeypatch.undo()
    again = client.post(f"/api/projects/{p}/jobs/{job.id}/retry").json()["jobs"]
    assert [j.id for j in work(p)] == again
    assert client.get(f"/api/projects/{p}/deliveries").json()[0]["outdated"] is False


def test_a_damaged_page_inside_a_whole_file_is_named_with_its_place(client: TestClient, tmp_path: Path) -> None:
    p = made(client)
    path = write_scan(tmp_path / "page.e57", room(120_000))
    data = bytearray(path.read_bytes())
    length = struct.unpack("<Q", data[16:24])[0]
    data[length // 2 : length // 2 + 64] = bytes(64)
    path.write_bytes(data)
    send(client, p, path)
    work(p)
    (file,) = client.get(f"/api/projects/{p}/originals").json()
    client.post(f"/api/projects/{p}/bring-in", json={"originals": [file["id"]]})
    (job,) = work(p)
    assert job.state == "failed" and "page.e57 breaks off in scan 1 after" in job.error["message"]  # type: ignore[index]
    assert client.get(f"/api/projects/{p}/stations").json() == []


def test_files_of_this_machine_come_in_through_the_same_door(client: TestClient, tmp_path: Path) -> None:
    p = made(client)
    upload = uploads.put_file(p, write_scan(tmp_path / "a.e57", room(400)))
    uploads.read_original(p, upload, Progress())
    twin = uploads.put_file(p, write_scan(tmp_path / "b.e57", room(400)))
    reading = uploads.read_original(p, twin, Progress())
    assert reading["problem"] is None
    assert "Reading b.e57" in problem(client.delete(f"/api/projects/{p}/originals/{twin}"), 409, "in_use")["detail"]
    work(p)
    assert client.delete(f"/api/projects/{p}/originals/{twin}").status_code == 200
    assert [f["id"] for f in client.get(f"/api/projects/{p}/originals").json() if not f["discarded"]] == [upload]


def test_the_page_of_a_project_names_its_first_tile_and_text_is_sent_compressed(client: TestClient, tmp_path: Path) -> None:
    project = made(client, "Opening")
    bring_in(project, [write_scan(tmp_path / "ST-1.e57", room(3000)), write_scan(tmp_path / "ST-2.e57", room(3000, seed=2))])
    stations = client.get(f"/api/projects/{project}/stations").json()
    named = lambda path: re.findall(r'<link rel="preload"[^>]*href="([^"]+)"', client.get(path).text)  # noqa: E731
    first, second = (f"/api/projects/{project}/stations/{s['id']}/tiles/0" for s in stations)
    for path in (f"/p/{project}", f"/p/{project}/tie"):
        assert named(path) == [f"/api/projects/{project}/stations", first.removesuffix("/0"), first]
    assert len(client.get(first).content) % 16 == 0 and "private" in client.get(first).headers["cache-control"]
    (other,) = bring_in(project, [write_scan(tmp_path / "ST-3.e57", room(3000, seed=3))])
    (link,) = link_rows(project, (stations[1]["id"], other, np.eye(4)))  # the largest part comes first, until it is not
    assert named(f"/p/{project}")[-1] == second
    links.switch_link(project, link, False, None)
    assert named(f"/p/{project}")[-1] == first
    for path in ("/", "/p/", f"/p/{'0' * 31}", "/p/'; DROP TABLE tile;"):
        assert named(path) == []
    assert len(named(f"/p/{'0' * 32}")) == 1  # there is no tile: the page says so
    script = re.search(r'src="(/assets/[^"]+\.js)"', client.get("/").text)
    assert script
    plain, squeezed = (client.get(script[1], headers={"accept-encoding": e}) for e in ("identity", "gzip"))
    assert squeezed.headers["content-encoding"] == "gzip" and "content-encoding" not in plain.headers
    assert squeezed.content == plain.content and "immutable" in squeezed.headers["cache-control"]
