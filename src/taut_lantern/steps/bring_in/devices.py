"""Instruments that the server is connected with: their state, scans fetched from them, targets measured with them, control.

They speak the HTTP protocol of docs/instruments.md. Which there are, the settings say: nobody types an address.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import httpx

from ...core.errors import BadInput, Busy, Conflict, LanternError, NotFound
from ...settings import settings
from ...site.common import Progress, clean_name, file_name, get_project, get_station
from ...site.solution import refresh_solution
from ...store import journal, scratch
from ...store.db import session
from ...store.models import Original, Sighting, Target
from ...store.queue import enqueue
from . import stations, uploads

TIMEOUT = httpx.Timeout(20.0, connect=3.0)
SOON = 0.5  # seconds between two looks at a scan that is being made
READ = 300.0  # seconds that the reading of a fetched file may take
MOST = 16 << 30  # bytes of a file


class DeviceError(Conflict):
    """An instrument does not do what it was asked; code and words are its own."""


def known() -> dict[str, str]:
    """Address by name, as the settings have it: "Name=http://host:port/path; ..."."""
    out = {}
    for piece in settings().devices.split(";"):
        name, equals, address = piece.partition("=")
        if equals and name.strip():
            out[name.strip()] = address.strip().rstrip("/")
    return out


@contextmanager
def _line(name: str) -> Iterator[tuple[httpx.Client, str]]:
    address = known().get(name)
    if address is None:
        raise NotFound(f"no instrument is called {name}", subject=name, remedy="reload the page")
    try:
        with httpx.Client(timeout=TIMEOUT) as http:
            yield http, address
    except httpx.HTTPError as problem:
        message = f"the line to {name} is lost" if isinstance(problem, httpx.TransportError) else f"{name} answered what is not understood"
        raise DeviceError(
            message, subject=name, remedy="check that it is switched on and near, and try again", code="line_lost"
        ) from problem


def _asked(name: str, answer: httpx.Response) -> Any:
    """What an instrument answers; DeviceError in its own words when it refuses."""
    if answer.status_code < 400:
        return answer.json()
    try:
        said = answer.json()
        code, message = str(said["code"]), str(said["message"])[:300]
    except (ValueError, KeyError, TypeError):
        code, message = "refused", f"it answered with {answer.status_code}"
    raise DeviceError(f"{name}: {message}", subject=name, remedy=REMEDIES.get(code, "do that at the instrument, and try again"), code=code)


REMEDIES = {
    "busy": "wait until it is ready",
    "low_battery": "change its battery",
    "target_not_hit": "aim anew, or choose another target",
    "no_scan": "make a scan from this set-up first",
    "not_set_up": "set it up on known marks first",
    "marks_disagree": "check the coordinates of the marks",
}


def listed() -> list[dict[str, Any]]:
    """All instruments and how they are; one that does not answer says so."""
    out = []
    for name in known():
        try:
            out.append({"name": name, "problem": "", **state(name)})
        except LanternError as problem:
            out.append({"name": name, "problem": problem.message, "kind": "unknown", "state": "away"})
    return out


def state(name: str) -> dict[str, Any]:
    with _line(name) as (http, address):
        found: dict[str, Any] = _asked(name, http.get(address))
        return found


def view(name: str, azimuth: float, elevation: float, wide: float) -> bytes:
    """PNG of what is seen through it; radians."""
    with _line(name) as (http, address):
        answer = http.get(f"{address}/view", params={"azimuth": azimuth, "elevation": elevation, "wide": wide})
        if answer.status_code >= 400:
            _asked(name, answer)
        return answer.content


def start_scan(project_id: str, name: str, called: str, points: int | None) -> str:
    """Let the scanner scan, then fetch and bring in what it made: a job."""
    if name not in known():
        raise NotFound(f"no instrument is called {name}", subject=name, remedy="reload the page")
    words = clean_name(called, "")[:120]
    if not words:
        raise BadInput("the scan needs a name", subject="name", remedy="name it as the station is to be called")
    with session() as s:
        get_project(s, project_id)
        return enqueue(s, project_id, "device", f"Scanning {words} with {name}", device=name, name=words, points=points, scan=None).id


def start_fetch(project_id: str, name: str, scan: str) -> str:
    """Fetch a scan that the scanner holds, and bring it in: a job."""
    made = next((m for m in state(name)["scans"] if m["id"] == scan), None)
    if made is None:
        raise NotFound(f"{name} holds no such scan", subject=name, remedy="look at its list again")
    with session() as s:
        get_project(s, project_id)
        return enqueue(s, project_id, "device", f"Fetching {made['name']} from {name}", device=name, name=made["name"], scan=scan).id


def run(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Scan (unless it is made already), fetch, bring in. Cancelling stops the scanner too."""
    name, scan = params["device"], params.get("scan")
    if scan is None:
        scan = _scanned(name, params["name"], params.get("points"), progress)
    with scratch.folder() as folder:
        path = folder / f"{file_name(params['name'], 'scan')}.e57"
        with _line(name) as (http, address), http.stream("GET", f"{address}/scans/{scan}/file") as answer:
            if answer.status_code >= 400:
                answer.read()
                _asked(name, answer)
            total, done = int(answer.headers.get("Content-Length", 0)), 0
            if total > MOST:
                raise BadInput(f"{name} offers a file of {total:,} bytes", subject=name, remedy="fetch it another way", code="too_large")
            with path.open("wb") as out:
                for piece in answer.iter_bytes(1 << 18):
                    out.write(piece)
                    done += len(piece)
                    progress.report(f"fetching {params['name']}", done, total)
                    progress.check()
        original = uploads.put_file(project_id, path)
    _until_read(original, progress)
    stations.start(project_id, [original])
    return {"original": original, "name": params["name"]}


def _scanned(name: str, called: str, points: int | None, progress: Progress) -> str:
    with _line(name) as (http, address):
        body: dict[str, Any] = {"name": called} | ({"points": points} if points else {})
        held = [m for m in _asked(name, http.get(address))["scans"] if m["name"] == called and m["state"] != "cancelled"]
        made = held[-1] if held else _asked(name, http.post(f"{address}/scans", json=body))  # taken up again it is not scanned twice
        while made["state"] == "scanning":
            progress.report(f"{name} is scanning", int(1000 * made["progress"]), 1000)
            if progress.should_stop():
                http.delete(f"{address}/scans/{made['id']}")
                progress.check()
            time.sleep(SOON)
            made = _asked(name, http.get(f"{address}/scans/{made['id']}"))
        if made["state"] != "done":
            raise DeviceError(f"{name}: the scan was stopped at the scanner", subject=name, remedy="scan again", code="stopped")
        return str(made["id"])


def _until_read(original: str, progress: Progress) -> None:
    end = time.monotonic() + READ
    while time.monotonic() < end:
        progress.check()
        with session() as s:
            row = s.get_one(Original, original)
            if row.state == "bad":
                raise BadInput(f"{row.name} cannot be read", subject=row.name, remedy="fetch it again")
            if row.reading:
                return
        time.sleep(0.1)
    raise Busy("the file was not read in time", subject="worker", remedy="bring it in from the list of files", code="busy")


def aim(
    project_id: str, name: str, station_id: str, azimuth: float, elevation: float, kind: str, size: float, called: str
) -> dict[str, Any]:
    """Measure a target precisely with the scanner, whose set-up is a station here: a sighting of it, instead of what the scan says of the
    same target. Radians, metres."""
    with session() as s:
        station = get_station(s, project_id, station_id)
    with _line(name) as (http, address):
        body = {"azimuth": azimuth, "elevation": elevation, "kind": kind, "size": size}
        found = _asked(name, http.post(f"{address}/aim", json=body))
    if found["scan"] != station.name:
        message = f"{name} stands where {found['scan']} was scanned, not at {station.name}"
        raise BadInput(message, subject=station.name, remedy=f"choose the station {found['scan']}")
    words = clean_name(called, "")[:120]
    with journal.change(project_id, "", network=True, topic="network") as c:
        radius = size if kind == "sphere" else size / 2
        target = None
        for old in list(c.s.query(Sighting).filter(Sighting.station_id == station_id, Sighting.kind == kind)):
            if sum((a - b) ** 2 for a, b in zip(old.centre, found["centre"], strict=True)) < (radius / 2) ** 2:
                target = old.target_id
                c.remove(old)
        row = c.s.get(Target, target) if target and not words else None
        if row is None:
            words = words or _free(c)
            row = c.s.query(Target).filter(Target.project_id == project_id, Target.name == words).first()
        if row is None:
            row = Target(project_id=project_id, name=words, kind=kind, radius=radius)
            c.s.add(row)
            c.s.flush()
        sighting = Sighting(project_id=project_id, station_id=station_id, target_id=row.id, kind=kind, radius=radius, by_hand=[])
        sighting.centre, sighting.covariance = found["centre"], found["covariance"]
        sighting.rms, sighting.points, sighting.remark, sighting.used = found["rms"], found["points"], "measured finely", True
        sighting.decided("target", "used")
        c.s.add(sighting)
        c.title = f"Measured {row.name} from {station.name} with {name}"
        c.s.flush()
        refresh_solution(c.s, c.project)
        deviation = 1000 * sum(found["covariance"][k] for k in (0, 4, 8)) ** 0.5
        return {"target": row.name, "points": found["points"], "sigma_mm": deviation}


def _free(c: journal.Change) -> str:
    names = {n for (n,) in c.s.query(Target.name).filter(Target.project_id == c.project.id)}
    return next(name for k in range(1, len(names) + 2) if (name := f"T{k}") not in names)


def set_up(name: str, marks: dict[str, list[float]]) -> dict[str, Any]:
    """Set the total station up on known marks: their coordinates, E, N, H in metres."""
    with _line(name) as (http, address):
        found: dict[str, Any] = _asked(name, http.post(f"{address}/set-up", json={"marks": marks}))
        return found


def measure(name: str, target: str) -> dict[str, Any]:
    with _line(name) as (http, address):
        found: dict[str, Any] = _asked(name, http.post(f"{address}/measure", json={"target": target}))
        return found


def control_of(name: str) -> str:
    """The control file of what was measured."""
    with _line(name) as (http, address):
        answer = http.get(f"{address}/file")
        if answer.status_code >= 400:
            _asked(name, answer)
        return answer.text
