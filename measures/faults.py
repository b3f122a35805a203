"""Faults at random moments of whole jobs (bring in, tie, clean, hand over) on two workers, and what became of each job.

Counts what was accepted and is gone, jobs that did not end, and things that are there twice; each must be none.
"""

from __future__ import annotations

import collections
import contextlib
import hashlib
import os
import random
import signal
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import Any

import httpx

from taut_lantern.core.scan.hierarchy import unpacked

from .table import Row

FAULTS = int(os.environ.get("LANTERN_FAULTS", "200"))
FILES = int(os.environ.get("LANTERN_MUTATIONS", "1000"))
LANTERN = Path(__file__).resolve().parents[1] / "lantern"
ENDED = ("done", "failed", "cancelled")
ABOVE = [0.04, 0, 0, 0, 0, 0.04, 0, 0, 0, 0, -0.04, 0, 0, 0, 0, 1]


class Site:
    """The application under fire: a server with its worker, and one more worker."""

    def __init__(self, folder: Path) -> None:
        from tests.databases import fresh_database
        from tests.served import Served

        self.served = Served(fresh_database("lantern_fire"), folder / "log")
        self.served.start()
        self.env = {**os.environ, "LANTERN_DATABASE": self.served.database, "LANTERN_PORT": str(self.served.port)}
        self.second = self._work()
        self.tally: collections.Counter[str] = collections.Counter()
        self.running = True

    def _work(self) -> subprocess.Popen[bytes]:
        log = self.served.log.open("ab")
        return subprocess.Popen(
            [sys.executable, "-m", "taut_lantern.cli", "work"], env=self.env, stdout=log, stderr=log, start_new_session=True
        )

    def processes(self, what: str) -> list[int]:
        from tests.served import processes_below

        roots = [self.served.pid, self.second.pid]
        if what == "server":
            return [self.served.pid]
        if what == "worker":
            return [*processes_below(self.served.pid, "cli work"), self.second.pid]
        forks = [p for r in roots for p in processes_below(r, "forkserver")]
        return [c for f in forks for c in processes_below(f)] or forks

    def fault(self, rng: random.Random) -> str:
        """One fault; whoever is to be started again from outside (the server, the second worker, the database) is."""
        what = rng.choice(("worker", "worker", "job", "job", "server", "database"))
        if what == "database":
            mode = rng.choice(("fast", "immediate"))
            subprocess.run([LANTERN, "restart", mode], check=True, capture_output=True)
            return f"database restarted ({mode})"
        how = rng.choice((signal.SIGKILL, signal.SIGTERM, signal.SIGSTOP))
        found = self.processes(what)
        if not found:
            return ""
        pid = rng.choice(found)
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, how)
            if how == signal.SIGSTOP:
                time.sleep(14)
                os.kill(pid, signal.SIGCONT)
        time.sleep(0.3)
        if self.second.poll() is not None:
            self.second = self._work()
        if self.served.process is not None and self.served.process.poll() is not None:
            self.served.start()
        return f"{how.name} to the {what}"

    def fire(self, count: int, seed: int) -> None:
        rng = random.Random(seed)
        done = 0
        while done < count:
            time.sleep(rng.uniform(0.2, 3.0))
            if said := self.fault(rng):
                self.tally[said] += 1
                done += 1
        self.running = False

    def ask(self, method: str, path: str, **more: Any) -> Any:
        """As a page does: again when the server is away or busy."""
        end = time.monotonic() + 180
        while True:
            try:
                r = self.served.http.request(method, path, **more)
                if r.status_code < 500:
                    return r
            except httpx.HTTPError:
                pass
            if time.monotonic() > end:
                raise TimeoutError(path)
            time.sleep(0.3)

    def get(self, path: str) -> Any:
        return self.ask("GET", path).json()

    def ended(self, project: str, job: str) -> dict[str, Any]:
        """The job once it has ended; stuck when it has not within three minutes."""
        end = time.monotonic() + 180
        while time.monotonic() < end:
            found = next((j for j in self.get(f"/projects/{project}/jobs") if j["id"] == job), None)
            if found and found["state"] in ENDED:
                return dict(found)
            time.sleep(0.3)
        return {"state": "stuck", "id": job, "error": None}


def whole_job(site: Site, files: list[Path], outcomes: collections.Counter[str], wrong: list[str], name: str) -> None:
    """Bring in, tie, clean, hand over, as a user does who starts again what failed; then look at what is there."""
    project = site.ask("POST", "/projects", json={"name": name}).json()["id"]
    base = f"/projects/{project}"

    def through(start: Any, what: str) -> None:
        for _ in range(6):
            jobs = start()
            states = [site.ended(project, j) for j in jobs]
            for s in states:
                known = s["state"] == "failed" and bool((s["error"] or {}).get("message"))
                outcomes["failed with a reason" if known else s["state"]] += 1
                if s["state"] == "stuck":
                    wrong.append(f"{name}: a job to {what} did not end")
            if all(s["state"] == "done" for s in states):
                return
        wrong.append(f"{name}: could not {what} in six attempts")

    def posted(path: str, **body: Any) -> list[str]:
        r = site.ask("POST", base + path, json=body or None)
        return list(r.json().get("jobs", [])) if r.status_code < 300 else []

    uploads = []
    for path in files:
        data = path.read_bytes()
        upload = site.ask(
            "POST", f"{base}/uploads", json={"name": path.name, "size": len(data), "sha256": hashlib.sha256(data).hexdigest()}
        ).json()
        uploads.append(upload["id"])
        at = upload["received"]
        while at < len(data):
            r = site.ask("PUT", f"{base}/uploads/{upload['id']}", params={"offset": at}, content=data[at : at + (1 << 20)])
            at = int(r.json()["subject"]) if r.status_code == 409 and r.json()["subject"].isdigit() else at + len(data[at : at + (1 << 20)])
            if r.status_code == 409 and not r.json()["subject"].isdigit():
                break
    end = time.monotonic() + 180
    while not all(o["scans"] for o in site.get(f"{base}/originals")) and time.monotonic() < end:
        for j in site.get(f"{base}/jobs"):
            if j["kind"] == "read" and j["state"] in ("failed", "cancelled"):
                site.ask("POST", f"{base}/jobs/{j['id']}/retry")
        time.sleep(0.5)
    through(lambda: posted("/bring-in", originals=uploads), "bring in")
    stations = site.get(f"{base}/stations")
    through(lambda: posted("/tie"), "tie")
    ids = [s["id"] for s in stations]
    lasso = {"view": ABOVE, "outline": [[-0.2, -0.2], [0.2, -0.2], [0.2, 0.2]], "stations": ids}
    deleted = site.ask("POST", f"{base}/lasso", json=lasso)
    edits = site.get(f"{base}/edits")  # an answer may have been lost on its way: what was accepted is what is there now
    site.ask("PATCH", base, json={"name": f"{name} renamed"})
    through(lambda: posted("/deliveries", kind="laz"), "hand over")
    # what is there now
    now = {s["name"]: s["points"] for s in site.get(f"{base}/stations")}
    trees = {x["id"]: site.ask("GET", f"{base}/stations/{x['id']}/tiles").content for x in site.get(f"{base}/stations")}
    tiles = {station: int(unpacked(body).count.sum()) for station, body in trees.items()}
    if len(now) != len(files) or any(tiles[s["id"]] != s["points"] for s in site.get(f"{base}/stations")):
        wrong.append(f"{name}: {len(now)} stations of {len(files)} scans, or tiles that do not cover them")
    if site.get(f"{base}/edits") != edits or (deleted.status_code == 200 and not edits) or len(edits) > 1:
        wrong.append(f"{name}: the deletion is gone, or there more than once ({len(edits)})")
    if site.get(base)["name"] != f"{name} renamed":
        wrong.append(f"{name}: the new name is gone")
    titles = [j["title"] for j in site.get(f"{base}/journal")]
    for word, most in (("Brought in", len(files)), ("Tied", 1)):
        if (n := sum(t.startswith(word) for t in titles)) != most:
            wrong.append(f"{name}: “{word}” stands {n} times in the journal, not {most}")
    made = site.get(f"{base}/deliveries")
    if len(made) != 1 or len(site.ask("GET", f"{base}/deliveries/{made[0]['id']}/file").content) != made[0]["size"]:
        wrong.append(f"{name}: {len(made)} deliveries, or one that is not whole")
    if live := [j for j in site.get(f"{base}/jobs") if j["state"] not in ENDED]:
        time.sleep(45)
        if [j for j in site.get(f"{base}/jobs") if j["state"] not in ENDED and j["id"] in {x["id"] for x in live}]:
            wrong.append(f"{name}: jobs that do not end")


def under_fire() -> Row:
    from taut_lantern.standins.scanner import Scanner
    from taut_lantern.standins.site import write_site

    outcomes: collections.Counter[str] = collections.Counter()
    wrong: list[str] = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_site(folder, Scanner(points=120_000), names=["ST-01", "ST-02", "ST-07"])
        files = sorted(folder.glob("*.e57"))
        site = Site(folder)
        begun = time.monotonic()
        gun = threading.Thread(target=site.fire, args=(FAULTS, int(begun)))
        gun.start()
        jobs = 0
        try:
            while site.running:
                jobs += 1
                whole_job(site, files, outcomes, wrong, f"job {jobs}")
                print(
                    f"  {sum(site.tally.values())} faults, {jobs} whole jobs, {dict(outcomes)}, wrong: {wrong}", file=sys.stderr, flush=True
                )
            gun.join()
        finally:
            site.second.kill()
            site.served.stop()
    fired = ", ".join(f"{n} {what}" for what, n in sorted(site.tally.items()))
    became = ", ".join(f"{n} {what}" for what, n in sorted(outcomes.items()))
    return Row(
        f"{sum(site.tally.values())} faults at random moments of {jobs} whole jobs on two workers: {fired}",
        f"jobs: {became}; accepted work lost, jobs without an end, doubles: {len(wrong)}" + "".join(f"; {w}" for w in wrong),
        "none needed",
        "0 lost, 0 without an end, 0 doubles",
        not wrong,
    )


def mutated() -> Row:
    """Files with bytes changed, cut off, overwritten, moved, or with another description: read whole or named."""
    import numpy as np

    from taut_lantern.core.errors import BadInput
    from taut_lantern.formats import e57
    from tests.formats.test_crafted import checksummed
    from tests.support import room, write_scan

    rng = np.random.default_rng(int(time.time()))
    count: collections.Counter[str] = collections.Counter()
    with tempfile.TemporaryDirectory() as name:
        sound = np.frombuffer(write_scan(Path(name) / "sound.e57", room(3000), name="ST-1").read_bytes(), np.uint8)
        path = Path(name) / "mutated.e57"
        for k in range(FILES):
            data, at = sound.copy(), int(rng.integers(0, len(sound)))
            if k % 5 == 0:
                data[rng.integers(0, len(data), int(rng.integers(1, 30)))] ^= rng.integers(1, 256, 1).astype(np.uint8)
            elif k % 5 == 1:
                data = data[: max(1, at)]
            elif k % 5 == 2:
                data[at : at + 500] = rng.integers(0, 256, len(data[at : at + 500]))
            elif k % 5 == 3:
                data[:48][rng.integers(8, 48, 3)] = rng.integers(0, 256, 3)
            else:
                data = np.concatenate([data[:at], data[at // 2 : at], data[at:]])
            body = data.tobytes()
            path.write_bytes(checksummed(body) if k % 2 and len(body) % 1024 == 0 else body)  # half of them get past the checksums
            try:
                for n, head in enumerate(e57.headers(path)):
                    e57.points(path, n)
                    assert head.name
                count["read"] += 1
            except BadInput as problem:
                count["named" if "mutated.e57" in problem.message and problem.remedy else "not named"] += 1
            except Exception as problem:  # what must not be
                count[f"broke ({type(problem).__name__})"] += 1
    bad = {k: v for k, v in count.items() if k not in ("read", "named")}
    said = ", ".join(f"{v} {k}" for k, v in sorted(count.items()))
    return Row(f"{FILES:,} mutated E57 files", said, "none needed", "each read or named, no crash", not bad)


def run() -> list[Row]:
    return [mutated(), under_fire()]
