"""A simulated field scanner and a simulated total station on Ottermere's site.

They fail as real ones do: busy, battery low, a target that something stands before.
"""

from __future__ import annotations

import io
import math
import tempfile
import threading
import time
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from ..core import frames
from ..core.errors import NotEnough
from ..core.place.fit import LEVEL
from ..core.place.solve import solve
from ..core.scan.grid import range_image
from ..core.scan.scan import Scan
from ..core.targets.kinds import finish
from ..formats import e57
from .scanner import Scanner, scan
from .scene import BOARDS, SPHERES, STATIONS, Scene, ottermere
from .site import station_pose, walkers_of

Array = NDArray[np.float64]
LOW = 5  # per cent of the battery, below which no work is begun
PER_SCAN = 4  # per cent that a scan takes
FINE = 0.00025  # radians between the rays of a fine measurement
# Marks that the survey of the site rests on, site frame: bolts in the ground and in walls.
MONUMENTS: dict[str, tuple[float, float, float]] = {
    "M1": (0.9, 10.8, 0.02),
    "M2": (18.6, 2.4, 0.02),
    "M3": (9.8, -16.5, -0.15),
    "M4": (34.5, -5.5, -0.15),
}
STANDS: tuple[float, float, float] = (9.1, 1.3, 1.62)  # of the total station, site frame: its tilting axis
DIRECTION, DISTANCE = 5e-6, 0.0006  # radians and metres: deviations of one of its measurements


class Refused(Exception):
    """What an instrument does not do, and why."""

    def __init__(self, status: int, code: str, message: str) -> None:
        super().__init__(message)
        self.status, self.code, self.message = status, code, message


@dataclass
class Faults:
    """What is wrong with an instrument now; set by tests and whoever tries out how the program bears it."""

    busy: bool = False
    line: bool = False  # breaks in the middle of the next file
    battery: int | None = None


@dataclass(frozen=True)
class Fine(Scanner):
    """A few rays close together round a direction, instead of a full turn."""

    azimuth: float = 0.0
    elevation: float = 0.0
    half: float = 0.02  # radians
    step: float = FINE

    def grid(self) -> tuple[Array, Array]:
        off = np.arange(-self.half, self.half + self.step / 2, self.step)
        return self.elevation + off, self.azimuth + off / max(math.cos(self.elevation), 0.2)


@lru_cache(maxsize=2)
def _scene(place: str, seed: int) -> Scene:
    return ottermere(seed, walkers_of(place, seed))


def _look(place: str, scanner: Scanner, seed: int = 1) -> tuple[Scan, Array]:
    """A scan from a place, and its true pose: the same of every scanner there."""
    where, yaw = station_pose(place)
    return scan(_scene(place, seed), where, yaw, seed * 1000 + int(place[-2:]), scanner)


@dataclass
class Made:
    """A scan in the scanner's store."""

    id: str
    name: str
    place: str
    points: int
    state: str = "scanning"  # done, cancelled
    progress: float = 0.0
    file: bytes = b""


@dataclass
class FieldScanner:
    points: int
    battery: int = 96
    at: int = 0  # number of its set-up
    scans: list[Made] = field(default_factory=list)
    faults: Faults = field(default_factory=Faults)
    lock: threading.Lock = field(default_factory=threading.Lock)

    @property
    def place(self) -> str:
        return list(STATIONS)[self.at % len(STATIONS)]

    @property
    def live(self) -> Made | None:
        return next((m for m in self.scans if m.state == "scanning"), None)

    def charge(self) -> int:
        return self.battery if self.faults.battery is None else self.faults.battery

    def ready(self) -> None:
        if self.faults.busy or self.live is not None:
            raise Refused(409, "busy", "the scanner is at work")
        if self.charge() < LOW:
            raise Refused(507, "low_battery", f"the battery is at {self.charge()} %: change it")

    def begin(self, name: str, points: int | None) -> Made:
        with self.lock:
            self.ready()
            if any(m.name == name and m.state == "done" for m in self.scans):
                raise Refused(409, "same_name", f"there is a scan {name} already")
            if any(m.place == self.place and m.state == "done" for m in self.scans):
                self.at += 1  # its crew has carried it on
            made = Made(f"s{len(self.scans) + 1}", name, self.place, points or self.points)
            self.scans.append(made)
        threading.Thread(target=self._work, args=(made,), daemon=True).start()
        return made

    def _work(self, made: Made) -> None:
        for k in range(8):  # it turns
            time.sleep(0.05)
            made.progress = k / 8
            if made.state == "cancelled":
                return
        cloud, _ = _look(made.place, Scanner(points=made.points))
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "scan.e57"
            e57.write(path, [e57.Outgoing(made.name, cloud, None)])
            made.file = path.read_bytes()
        with self.lock:
            if made.state == "scanning":
                made.state, made.progress = "done", 1.0
                self.battery -= PER_SCAN

    def one(self, scan_id: str) -> Made:
        found = next((m for m in self.scans if m.id == scan_id), None)
        if found is None:
            raise Refused(404, "unknown", "there is no such scan")
        return found

    def aim(self, azimuth: float, elevation: float, kind: str, size: float) -> dict[str, Any]:
        """Measure a target with fine rays: its centre in the frame of the scan that was made here."""
        self.ready()
        here = next((m for m in self.scans if m.place == self.place and m.state == "done"), None)
        if here is None:
            raise Refused(409, "no_scan", "make a scan from here first: the target is measured in its frame")
        first, _ = _look(self.place, Fine(azimuth=azimuth, elevation=elevation, half=0.004, step=0.0005))
        if not len(first.xyz):
            raise Refused(422, "target_not_hit", "nothing is hit in that direction")
        far = float(np.median(np.linalg.norm(first.xyz, axis=1)))
        half = float(np.clip(1.6 * (size if kind == "sphere" else 0.75 * size) / far, 0.006, 0.12))
        step = max(FINE, half / 90)
        cloud, _ = _look(self.place, Fine(azimuth=azimuth, elevation=elevation, half=half, step=step))
        start = far * np.array([math.cos(elevation) * math.cos(azimuth), math.cos(elevation) * math.sin(azimuth), math.sin(elevation)])
        found = finish(range_image(cloud), cloud.intensity, kind, size, start, True)
        if found is None:
            words = f"{'sphere of radius' if kind == 'sphere' else 'board of edge'} {1000 * size:.0f} mm"
            raise Refused(422, "target_not_hit", f"no {words} is hit in that direction: aim at its middle")
        return {
            "scan": here.name,
            "kind": kind,
            "centre": [float(v) for v in found.centre],
            "covariance": [float(v) for v in np.asarray(found.covariance).ravel()],
            "rms": found.rms,
            "points": found.points,
        }

    def view(self, azimuth: float, elevation: float, wide: float) -> bytes:
        """What is seen through it: PNG, ``wide`` radians across."""
        if self.live is not None:
            raise Refused(409, "busy", "the scanner turns: there is no view while it scans")
        pixels = 160
        cloud, _ = _look(self.place, Fine(azimuth=azimuth, elevation=elevation, half=wide / 2, step=wide / pixels))
        high = int(cloud.row.max()) + 1 if cloud.row is not None and len(cloud.row) else 1
        across = int(cloud.column.max()) + 1 if cloud.column is not None and len(cloud.column) else 1
        image = np.full((high, across, 3), 30, np.uint8)
        if cloud.row is not None and cloud.column is not None and cloud.rgb is not None:
            image[cloud.row, cloud.column] = cloud.rgb
        out = io.BytesIO()
        Image.fromarray(image[::-1, ::-1]).resize((480, round(480 * high / across))).save(out, "PNG")  # azimuth runs to the left
        return out.getvalue()


@dataclass
class TotalStation:
    battery: int = 78
    faults: Faults = field(default_factory=Faults)
    placed: Array | None = None  # T_control_instrument
    sigma: float = 0.0
    measured: dict[str, tuple[Array, float]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.rng = np.random.default_rng(20)
        self.truth = frames.pose(float(self.rng.uniform(-3, 3)), STANDS)

    def charge(self) -> int:
        return self.battery if self.faults.battery is None else self.faults.battery

    def ready(self) -> None:
        if self.faults.busy:
            raise Refused(409, "busy", "the total station is at work")
        if self.charge() < LOW:
            raise Refused(507, "low_battery", f"the battery is at {self.charge()} %: change it")

    def shot(self, at: tuple[float, float, float], thick: float = 0.0) -> Array:
        """(3,) one measurement of a place, instrument frame, metres; Refused when something stands before it."""
        to = frames.apply(frames.inverse(self.truth), np.array([at]))[0]
        far = float(np.linalg.norm(to))
        azimuth, elevation = math.atan2(to[1], to[0]), math.asin(to[2] / far)
        turn = self.truth[:3, :3] @ (to / far)
        look = Fine(
            noise=0,
            noise_per_metre=0,
            surface_offset=0,
            level_error=0,
            azimuth=math.atan2(turn[1], turn[0]),
            elevation=elevation,
            half=5e-4,
        )
        cloud, _ = scan(_scene("ST-10", 1), STANDS, 0.0, 7, look)
        seen = np.linalg.norm(cloud.xyz, axis=1) if len(cloud.xyz) else np.array([far])
        if float(np.median(seen)) < far - thick - 0.08:
            raise Refused(422, "target_not_hit", "something stands before that target")
        azimuth += self.rng.normal(0, DIRECTION) / max(math.cos(elevation), 0.1)
        elevation, far = elevation + self.rng.normal(0, DIRECTION), far + self.rng.normal(0, DISTANCE)
        return far * np.array([math.cos(elevation) * math.cos(azimuth), math.cos(elevation) * math.sin(azimuth), math.sin(elevation)])

    def set_up(self, known: dict[str, list[float]]) -> dict[str, Any]:
        """Free set-up on known marks: its place and heading from what it measures to them."""
        self.ready()
        unknown = [n for n in known if n not in MONUMENTS]
        if unknown:
            raise Refused(422, "unknown_mark", f"there is no mark {', '.join(unknown)} on the site; there are {', '.join(MONUMENTS)}")
        names, local = [], []
        hidden = []
        for name in known:
            try:
                local.append(self.shot(MONUMENTS[name]))
                names.append(name)
            except Refused:
                hidden.append(name)
        try:
            given = np.array([known[n] for n in names]).reshape(-1, 3)
            found = solve(names, ["control"] * len(names), np.array(local).reshape(-1, 3), given, 0.004, LEVEL)
        except NotEnough as problem:
            more = f" ({', '.join(hidden)} hidden)" if hidden else ""
            raise Refused(422, "no_set_up", f"{problem.message}{more}") from None
        worst = max(p.distance for p in found.points)
        if worst > 0.02:
            off = max(found.points, key=lambda p: p.distance)
            message = f"the marks do not agree: {off.name} is off by {1000 * off.distance:.0f} mm; check its coordinates"
            raise Refused(422, "marks_disagree", message)
        self.placed = found.T_control_project
        self.sigma = float(np.sqrt(np.trace(found.covariance[3:, 3:]) / 3))
        self.measured = {}
        return {
            "position": [float(v) for v in self.placed[:3, 3]],
            "sigma": self.sigma,
            "residuals": {p.name: p.distance for p in found.points},
            "hidden": hidden,
        }

    def measure(self, target: str) -> dict[str, Any]:
        self.ready()
        if self.placed is None:
            raise Refused(409, "not_set_up", "set it up on known marks first")
        at = SPHERES.get(target) or (BOARDS[target].centre if target in BOARDS else None) or MONUMENTS.get(target)
        if at is None:
            raise Refused(422, "target_not_hit", f"there is no target {target} on the site")
        local = np.mean([self.shot(at, 0.1), self.shot(at, 0.1)], axis=0)  # both faces
        far = float(np.linalg.norm(local))
        sigma = math.sqrt(self.sigma**2 + (DISTANCE**2 + 2 * (far * DIRECTION) ** 2) / 6)
        place = frames.apply(self.placed, local[None])[0]
        self.measured[target] = (place, sigma)
        return {"name": target, "enh": [float(v) for v in place], "sigma": sigma}

    def file(self) -> str:
        if not self.measured:
            raise Refused(409, "nothing_measured", "nothing has been measured yet")
        lines = ["# total station, metres", "point;northing;easting;height;s;remark"]
        lines += [f"{n};{p[1]:.4f};{p[0]:.4f};{p[2]:.4f};{s:.4f};total station" for n, (p, s) in self.measured.items()]
        return "\n".join(lines) + "\n"
