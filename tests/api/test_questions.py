"""A site with two rooms that nothing tells apart: asked in pictures, answered, tied with it, taken back; over HTTP and unattended."""

from __future__ import annotations

import io
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image
from rich.console import Console

from taut_lantern.api.app import make_app
from taut_lantern.core import frames
from taut_lantern.core.errors import BadInput
from taut_lantern.formats import e57
from taut_lantern.site.common import matrix
from taut_lantern.standins.scanner import Scanner
from taut_lantern.steps.unattended import Known, run_job
from tests.api.test_api import made, problem, undo, work
from tests.support import bring_in, write_scan
from tests.truth.layouts import PLANT, TWINS

BLUE, BROWN = (35, 64, 122), (163, 78, 18)  # the two scans of a picture


@pytest.fixture(scope="module")
def client(database: str) -> Iterator[TestClient]:
    with TestClient(make_app(), base_url="http://localhost") as c:
        yield c


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory) -> tuple[list[Path], dict[str, np.ndarray]]:
    folder = tmp_path_factory.mktemp("twins")
    scans = TWINS.scans(Scanner(points=150_000), 7)
    written = [write_scan(folder / f"{name}.e57", cloud, name=name) for name, (cloud, _) in scans.items()]
    return written, {name: pose for name, (_, pose) in scans.items()}


@pytest.fixture(scope="module")
def tied(client: TestClient, files: Any) -> tuple[str, dict[str, np.ndarray]]:
    project = made(client, "Twin rooms")
    bring_in(project, files[0])
    client.post(f"/api/projects/{project}/tie", json={})
    *_, job = work(project)
    assert job.state == "done" and job.result is not None and job.result["questions"] == 1, job.error
    return project, files[1]


def asked(client: TestClient, p: str) -> list[dict[str, Any]]:
    return list(client.get(f"/api/projects/{p}/questions").json())


def right(q: dict[str, Any], truth: dict[str, np.ndarray]) -> str:
    """The word of the reading that is true."""
    for r in q["readings"]:
        if r["T_partner_station"] is not None:
            true = frames.inverse(truth[r["partner_name"]]) @ truth[q["station_name"]]
            if max(frames.difference(np.reshape(r["T_partner_station"], (4, 4)), true)) < 0.1:
                return str(r["word"])
    return "two" if q["kind"] == "alike" else "none"


def parts(client: TestClient, p: str) -> list[int]:
    return sorted(len(x["stations"]) for x in client.get(f"/api/projects/{p}/network").json()["parts"])


def inked(picture: bytes, colour: tuple[int, int, int]) -> int:
    """Pixels of about that colour."""
    rgb = np.asarray(Image.open(io.BytesIO(picture)).convert("RGB")).astype(int)
    return int((np.abs(rgb - colour).sum(axis=2) < 90).sum())


def test_what_the_scans_do_not_decide_is_asked_in_pictures_that_differ(client: TestClient, tied: Any) -> None:
    p, _ = tied
    (q,) = asked(client, p)
    assert q["answer"] is None and "R2" in q["message"] and not any(len(word) == 32 for word in q["message"].split())
    pictures = [client.get(f"/api/projects/{p}/questions/{q['id']}/picture/{r['word']}") for r in q["readings"]]
    for picture in pictures:
        assert picture.headers["content-type"] == "image/png" and Image.open(io.BytesIO(picture.content)).size == (620, 420)
        assert inked(picture.content, BLUE) > 300 and inked(picture.content, BROWN) > 300
    assert pictures[0].content != pictures[1].content
    assert parts(client, p) == [1, 3]  # who is asked about is not placed
    knot = next(k for k in client.get(f"/api/projects/{p}").json()["thread"] if k["step"] == "tie")
    assert knot["state"] == "begun" and "question" in knot["question"]


def test_an_answer_places_the_station_and_is_kept_opened_and_taken_back(client: TestClient, tied: Any) -> None:
    p, truth = tied
    (q,) = asked(client, p)
    url, word = f"/api/projects/{p}/questions/{q['id']}/answer", right(q, truth)
    problem(client.post(url, json={"word": "two" if q["kind"] == "place" else "first", "version": q["version"]}), 422, "bad_input")
    assert client.post(url, json={"word": word, "version": q["version"]}).status_code == 202
    problem(client.post(url, json={"word": word, "version": q["version"]}), 409, "conflict")
    work(p)
    (told,) = asked(client, p)
    assert told["answer"] == word and told["answered_by"] and told["answered_at"] and told["id"] == q["id"]
    assert parts(client, p) == [4]
    stands = {s["name"]: matrix(s["pose"]) for s in client.get(f"/api/projects/{p}/stations").json()}
    for name in ("P2", "R1", "R2"):
        metres, _ = frames.difference(frames.inverse(stands["P1"]) @ stands[name], frames.inverse(truth["P1"]) @ truth[name])
        assert metres < 0.02, (name, metres)
    journal = [j["title"] for j in client.get(f"/api/projects/{p}/journal").json()]
    assert any("R2" in t and "Answered" in t for t in journal)
    for _ in range(2):  # the new ties, then the answer
        assert undo(client, p).status_code == 200
    assert asked(client, p)[0]["answer"] is None and parts(client, p) == [1, 3]


def test_tying_again_keeps_the_answer_and_opening_it_asks_again(client: TestClient, tied: Any) -> None:
    p, truth = tied
    (q,) = asked(client, p)
    url = f"/api/projects/{p}/questions/{q['id']}/answer"
    client.post(url, json={"word": right(q, truth), "version": q["version"]})
    client.post(f"/api/projects/{p}/tie", json={})
    work(p)
    assert parts(client, p) == [4] and [x["answer"] for x in asked(client, p)] == [right(q, truth)]
    (told,) = asked(client, p)
    assert client.post(url, json={"word": None, "version": told["version"]}).status_code == 202
    work(p)
    assert parts(client, p) == [1, 3] and [x["answer"] for x in asked(client, p)] == [None]


def test_unattended_it_stays_open_unless_the_answer_is_given(files: Any, tmp_path: Path, client: TestClient) -> None:
    paths, truth = files
    quiet = Console(quiet=True)
    code = run_job(paths, tmp_path / "open", None, "", "m", "", False, quiet)
    result = json.loads((tmp_path / "open" / "result.json").read_text())
    (q,) = result["undecided"]
    assert code == 3 and q["station"] == "R2" and len(q["readings"]) >= 2 and any(f["code"] == "ambiguous" for f in result["findings"])
    readings = [r | {"word": r["answer"], "partner_name": r["partner"]} for r in q["readings"]]
    word = right({**q, "station_name": q["station"], "readings": readings}, truth)
    code = run_job(paths, tmp_path / "told", None, "", "m", "", False, quiet, Known([f"{q['other']},{q['station']}={word}"]))
    result = json.loads((tmp_path / "told" / "result.json").read_text())
    assert code == 0 and result["undecided"] == [] and len(result["solution"]["parts"]) == 1


def test_unattended_a_sketch_or_a_held_file_settles_it(files: Any, tmp_path: Path, client: TestClient) -> None:
    paths, truth = files
    sketch = tmp_path / "sketch.txt"
    sketch.write_text("".join(f"{n}; {t[0, 3] + 0.6:.1f}; {t[1, 3] - 0.4:.1f}\n" for n, t in truth.items()))
    both = tmp_path / "rooms.e57"
    clouds = TWINS.scans(Scanner(points=150_000), 7)
    e57.write(both, [e57.Outgoing(n, clouds[n][0], truth[n]) for n in ("R1", "R2")])
    passage = [f for f in paths if f.stem not in ("R1", "R2")]
    for name, scans, known in (
        ("sketch", paths, Known(sketch=sketch, profile="topographic", order=True)),
        ("held", [both, *passage], Known(hold=["rooms"])),
    ):
        code = run_job(scans, tmp_path / name, None, "", "m", "", False, Console(quiet=True), known)
        result = json.loads((tmp_path / name / "result.json").read_text())
        assert code == 0 and result["undecided"] == [] and len(result["solution"]["parts"]) == 1, result["findings"]
        pose = {}
        for x in result["stations"]:
            pose[x["name"]] = np.eye(4)
            pose[x["name"]][:3, :3], pose[x["name"]][:3, 3] = x["pose"]["rotation"], x["pose"]["translation"]
        for n in truth:
            off = frames.inverse(pose["R1"]) @ pose[n] @ frames.inverse(frames.inverse(truth["R1"]) @ truth[n])
            assert np.linalg.norm(off[:3, 3]) < (1e-6 if (name, n) == ("held", "R2") else 0.03), (name, n)


@pytest.mark.parametrize(
    ("known", "word"),
    [(Known(hold=["cellar"]), "cellar"), (Known(profile="rough"), "rough"), (Known(sketch=Path("no/such.txt")), "no such sketch")],
)
def test_unattended_what_cannot_be_meant_is_said_before_anything_runs(files: Any, tmp_path: Path, known: Known, word: str) -> None:
    with pytest.raises(BadInput, match=word):
        run_job(files[0], tmp_path / "out", None, "", "m", "", False, Console(quiet=True), known)
    assert not (tmp_path / "out").exists()


def test_unattended_scanners_that_leaned_are_tied_when_that_is_said(tmp_path: Path, client: TestClient) -> None:
    scans = PLANT.scans(Scanner(points=200_000, lean=0.2), 8)
    paths = [write_scan(tmp_path / f"{n}.e57", cloud, name=n) for n, (cloud, _) in scans.items()]
    run_job(paths, tmp_path / "out", None, "", "m", "", False, Console(quiet=True), Known(unlevel=True))
    result = json.loads((tmp_path / "out" / "result.json").read_text())
    assert len(result["solution"]["parts"]) == 1, result["findings"]
    used = [k for k in result["links"] if k["used"] and k["overlap"] > 0.15]
    assert len(used) >= 6
    for k in used:
        off, _ = frames.difference(np.array(k["T_a_b"]), frames.inverse(scans[k["a"]][1]) @ scans[k["b"]][1])
        assert off < 0.02, (k["a"], k["b"], off)
