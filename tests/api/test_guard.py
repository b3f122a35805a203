"""Nobody in: what browsers are told, who may change something, what a request may hold, what an address gives away."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest
from fastapi.testclient import TestClient
from sqlalchemy import text

from taut_lantern.api.app import make_app
from taut_lantern.api.guard import HEADERS
from taut_lantern.store.db import engine, session
from tests.api.test_api import made, problem
from tests.support import bring_in, room, write_scan


@pytest.fixture(scope="module")
def client(database: str) -> Iterator[TestClient]:
    with TestClient(make_app(), base_url="http://localhost") as c:
        yield c


def test_every_answer_tells_browsers_what_it_may_not_do(client: TestClient) -> None:
    for answer in (
        client.get("/"),
        client.get("/api/projects"),
        client.get("/api/nothing"),
        client.get("/%00"),
        client.post("/api/projects"),
    ):
        assert {k: answer.headers.get(k) for k in HEADERS} == HEADERS
    policy = HEADERS["Content-Security-Policy"]
    assert "script-src 'self';" in policy and "frame-ancestors 'none'" in policy
    assert not re.search(r"<script(?![^>]*\bsrc=)|\son\w+=", client.get("/").text)


@pytest.mark.parametrize("headers", [{"origin": "http://evil.example"}, {"origin": "null"}, {"origin": "http://localhost:1"}, {"sec-fetch-site": "cross-site"}, {"sec-fetch-site": "same-site"}])  # fmt: skip
def test_a_page_of_another_address_changes_nothing(client: TestClient, headers: dict[str, str]) -> None:
    p = made(client, "Origin")
    for call, path, body in (
        (client.post, f"/api/projects/{p}/undo", {"entry": 1}),
        (client.post, f"/api/projects/{p}/tie", None),
        (client.patch, f"/api/projects/{p}", {"name": "taken over"}),
        (client.delete, f"/api/projects/{p}", None),
    ):
        more = {} if body is None else {"json": body}
        problem(call(path, headers=headers, **more), 403, "foreign_origin")  # type: ignore[operator]
    assert client.get(f"/api/projects/{p}").json()["name"] == "Origin"
    for k, own in enumerate(({"origin": "http://localhost"}, {"sec-fetch-site": "same-origin"}, {})):
        assert client.patch(f"/api/projects/{p}", json={"name": f"{k}", "version": k + 1}, headers=own).status_code == 200


@pytest.mark.parametrize(
    "host", ["evil.example", "testserver", "localhost.evil.example", "127.0.0.1.evil.example", "[::2]:8420", "10.0.0.1"]
)
def test_without_a_token_no_other_name_is_answered(client: TestClient, host: str) -> None:
    problem(client.get("/api/projects", headers={"host": host}), 400, "foreign_host")


@pytest.mark.parametrize("host", ["127.0.0.1:8420", "localhost", "[::1]:8420", "127.8.9.1"])
def test_this_machine_is_answered_by_all_its_names(client: TestClient, host: str) -> None:
    assert client.get("/api/projects", headers={"host": host}).status_code == 200


def test_bodies_have_a_size(client: TestClient) -> None:
    big = b'{"name": "' + b"x" * (9 << 20) + b'"}'
    kind = {"content-type": "application/json"}
    problem(client.post("/api/projects", content=big, headers=kind), 413, "too_large")
    pieces = (big[k : k + 65536] for k in range(0, len(big), 65536))  # sent without saying how long it is
    problem(client.post("/api/projects", content=pieces, headers=kind), 413, "too_large")
    p = made(client)
    upload = client.post(f"/api/projects/{p}/uploads", json={"name": "a.e57", "size": 200 << 20}).json()["id"]
    url = f"/api/projects/{p}/uploads/{upload}?offset=0"
    problem(client.put(url, content=bytes(66 << 20)), 413, "too_large")
    assert client.put(url, content=bytes(20 << 20)).status_code == 200


def test_tiles_lie_below_their_project_and_are_gone_with_it(client: TestClient, tmp_path: Path) -> None:
    p, other = made(client, "Private"), made(client, "Other")
    (station,) = bring_in(p, [write_scan(tmp_path / "a.e57", room(500))])
    url = f"/api/projects/{p}/stations/{station}/tiles/0"
    one = client.get(url)
    assert one.status_code == 200 and one.headers["cache-control"].startswith("private") and station in one.headers["etag"]
    problem(client.get(url.replace(p, other)), 404, "not_found")
    version = client.get(f"/api/projects/{p}/stations").json()[0]["version"]
    client.patch(f"/api/projects/{p}/stations/{station}", json={"deleted": True, "version": version})
    problem(client.get(url), 404, "not_found")
    entry = client.get(f"/api/projects/{p}").json()["undo"]["entry"]
    client.post(f"/api/projects/{p}/undo", json={"entry": entry})
    assert client.get(url).content == one.content
    client.delete(f"/api/projects/{p}")
    problem(client.get(url), 404, "not_found")
    problem(client.get(f"/api/projects/{p}/stations/{station}/marks"), 404, "not_found")


def test_the_applications_role_owns_its_schema_and_nothing_else(database: str) -> None:
    with session() as s:
        assert s.execute(text("SELECT rolsuper, rolcreatedb, rolcreaterole, rolreplication FROM pg_roles WHERE rolname = current_user")).one() == (
            False, False, False, False,
        )  # fmt: skip
    for forbidden in (
        "COPY (SELECT 1) TO PROGRAM 'true'",
        "CREATE TEMP TABLE x (t text); COPY x FROM PROGRAM 'id'",
        "CREATE TEMP TABLE y (t text); COPY y FROM '/etc/passwd'",
        "SELECT pg_read_file('/etc/passwd')",
        "CREATE ROLE other SUPERUSER",
        "CREATE DATABASE other",
        "CREATE SCHEMA other",
        "ALTER SYSTEM SET log_statement = 'all'",
    ):
        with psycopg.connect(database, autocommit=True) as c, pytest.raises(psycopg.errors.InsufficientPrivilege):
            c.execute(forbidden)  # type: ignore[arg-type]


def test_an_exhausted_pool_is_told_with_when_to_come_back(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    from contextlib import ExitStack

    pool = engine().pool
    monkeypatch.setattr(pool, "_timeout", 0.2)
    with ExitStack() as stack:
        for _ in range(16):
            stack.enter_context(engine().connect())
        answer = client.get("/api/projects")
        problem(answer, 503, "busy")
        assert int(answer.headers["retry-after"]) > 0
    assert client.get("/api/projects").status_code == 200
