"""A real server with its worker on a database of its own, that tests may kill and start again."""

from __future__ import annotations

import contextlib
import hashlib
import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import httpx

from taut_lantern.core.scan.hierarchy import unpacked


def _same(data: bytes, pieces: list[dict[str, Any]]) -> bool:
    return all(hashlib.sha256(data[p["offset"] : p["offset"] + p["size"]]).hexdigest() == p["sha256"] for p in pieces)


def processes_below(root: int, word: str = "") -> list[int]:
    """All processes that a process started, and those they started, whose command line holds a word."""
    parents: dict[int, list[int]] = {}
    for p in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            parents.setdefault(int((p / "stat").read_text().rsplit(")", 1)[1].split()[1]), []).append(int(p.name))
    below, ready = [], [root]
    while ready:
        children = parents.get(ready.pop(), [])
        below += children
        ready += children

    def line(pid: int) -> str:
        with contextlib.suppress(OSError):
            return (Path("/proc") / str(pid) / "cmdline").read_bytes().replace(b"\0", b" ").decode()
        return ""

    return [p for p in below if word in line(p)]


class Served:
    def __init__(self, database: str, log: Path, simulated: bool = False) -> None:
        """simulated: with the simulated instruments beside it."""
        self.more = ["--simulated"] if simulated else []
        with socket.socket() as s:
            s.bind(("127.0.0.1", 0))
            self.port = s.getsockname()[1]
        self.database, self.log = database, log
        self.url = f"http://127.0.0.1:{self.port}"
        self.http = httpx.Client(base_url=f"{self.url}/api", timeout=60)
        self.process: subprocess.Popen[bytes] | None = None

    @property
    def pid(self) -> int:
        assert self.process is not None
        return self.process.pid

    def start(self) -> None:
        env = {**os.environ, "LANTERN_DATABASE": self.database, "LANTERN_PORT": str(self.port)}
        subprocess.run([sys.executable, "-m", "taut_lantern.cli", "setup", "--quick"], env=env, check=True)
        with self.log.open("ab") as log:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "taut_lantern.cli", "serve", *self.more], env=env, stdout=log, stderr=log, start_new_session=True
            )
        end = time.monotonic() + 180  # a machine whose browsers draw without a graphics card is in no hurry
        while time.monotonic() < end and self.process.poll() is None:
            try:
                self.http.get("/projects").raise_for_status()
                return
            except httpx.HTTPError:
                time.sleep(0.1)
        raise TimeoutError(self.log.read_text())

    def kill(self) -> None:
        """SIGKILL to the server, the worker and whatever they started, all at once."""
        assert self.process is not None
        os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()

    def stop(self) -> None:
        if self.process is not None and self.process.poll() is None:
            self.process.send_signal(signal.SIGTERM)
            try:
                self.process.wait(10)
            except subprocess.TimeoutExpired:
                self.kill()

    def stored_points(self, project: str) -> int:
        """Points of all tiles of all stations."""
        paths = (f"/projects/{project}/stations/{x['id']}/tiles" for x in self.get(f"/projects/{project}/stations"))
        return sum(int(unpacked(self.http.get(path).content).count.sum()) for path in paths)

    def get(self, path: str) -> Any:
        r = self.http.get(path)
        r.raise_for_status()
        return r.json()

    def post(self, path: str, **body: Any) -> Any:
        r = self.http.post(path, json=body)
        r.raise_for_status()
        return r.json()

    def send(self, project: str, path: Path, until: int | None = None) -> str:
        """Upload a file, or only its first ``until`` bytes."""
        data = path.read_bytes()
        open_ = [u for u in self.get(f"/projects/{project}/uploads?size={len(data)}") if _same(data, u["pieces"])]
        upload = open_[0] if open_ else self.post(f"/projects/{project}/uploads", name=path.name, size=len(data))
        for at in range(upload["received"], until or len(data), 1 << 20):
            piece = data[at : min(at + (1 << 20), until or len(data))]
            self.http.put(f"/projects/{project}/uploads/{upload['id']}", params={"offset": at}, content=piece).raise_for_status()
        return str(upload["id"])

    def wait(self, what: Any, seconds: float = 240) -> Any:
        """What ``what()`` gives once it is true."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            if found := what():
                return found
            time.sleep(0.15)
        raise TimeoutError(self.log.read_text()[-3000:])

    def job(self, project: str, kind: str, *states: str) -> Any:
        return next((j for j in self.get(f"/projects/{project}/jobs") if j["kind"] == kind and j["state"] in states), None)
