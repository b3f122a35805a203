"""What is claimed against what is: normalised squared errors of links, of free networks and of stations placed on control.

One is honest; below, claims are too large; above, too small. Layouts and draws are not those that limits were set on.
"""

from __future__ import annotations

import itertools
import os

import numpy as np

from taut_lantern.core import frames
from taut_lantern.core.align.evidence import evidence
from taut_lantern.core.align.fine import fine
from taut_lantern.core.align.prepared import prepare
from taut_lantern.core.network.adjust import adjust
from taut_lantern.core.network.judge import Profile, judge
from taut_lantern.core.network.observations import ControlObservation, LinkObservation, SightingObservation
from taut_lantern.core.network.reliability import snoop
from taut_lantern.core.network.solution import Solution
from taut_lantern.core.place.solve import solve
from taut_lantern.standins.scanner import Scanner
from tests.truth.layouts import LAYOUTS, Layout

from .sites import hall, stair, works
from .table import Row

POINTS = 600_000
SEEDS = [int(v) for v in os.environ.get("LANTERN_SEEDS", "81 82").split()]
NEAR, WRONG = 14.0, 0.05  # metres between stations of a pair; off: a wrong placement says nothing about claims
START = frames.pose(0.01, (0.06, -0.05, 0.02))
CONTROL, SURVEYS = 0.002, 40  # metres, deviation of a coordinate of control; draws of it for each network


def left(found: np.ndarray, true: np.ndarray) -> np.ndarray:
    """(6,) left motion from truth: radians, metres."""
    e = found @ frames.inverse(true)
    return np.concatenate([frames.rotation_vector(e[:3, :3]), e[:3, 3]])


def squared(error: np.ndarray, covariance: np.ndarray) -> float:
    """Normalised squared error by unknown."""
    return float(error @ np.linalg.solve(covariance, error)) / len(error)


def linked(layout: Layout, seed: int, offset: float) -> tuple[dict[str, np.ndarray], list[LinkObservation]]:
    """(true poses, links that are not parted) of a draw of a layout, each from a start as a hand puts it."""
    made = layout.scans(Scanner(points=POINTS, surface_offset=offset), seed)
    truth = {n: pose for n, (_, pose) in made.items()}
    ready = {n: prepare(cloud) for n, (cloud, _) in made.items()}
    out = []
    for a, b in itertools.combinations(truth, 2):
        if np.linalg.norm(truth[a][:3, 3] - truth[b][:3, 3]) > NEAR:
            continue
        true = frames.inverse(truth[a]) @ truth[b]
        found = fine(ready[a], ready[b], START @ true)
        if found is None or np.linalg.norm(left(found.T_a_b, true)[3:]) > WRONG:
            continue
        if judge(evidence(ready[a], ready[b], found), Profile(), 0.0, 0.0, f"{a} · {b}").status in ("taut", "slack"):
            out.append(LinkObservation(f"{a}|{b}", a, b, found.T_a_b, found.covariance))
    return truth, out


def of_network(s: Solution, truth: dict[str, np.ndarray]) -> float:
    """Normalised squared error of all stations of the largest part together, by unknown."""
    datum = s.datum[0]
    names = [x for x in s.parts[0] if x != datum]
    to_part = s.poses[datum] @ frames.inverse(truth[datum])
    origin = np.eye(4)
    origin[:3, 3] = s.poses[datum][:3, 3]
    error = np.concatenate([left(frames.inverse(origin) @ s.poses[x], frames.inverse(origin) @ to_part @ truth[x]) for x in names])
    return squared(error, s.joint(names))


def in_control(s: Solution, truth: dict[str, np.ndarray], links: list[LinkObservation], draw: list[int]) -> list[float]:
    """Squared errors of stations placed on four surveyed targets by claimed variance, by coordinate: means over draws."""
    rng = np.random.default_rng(draw)
    names = s.parts[0]
    places = np.array([truth[x][:3, 3] for x in names])
    corners = [int(np.argmax(places @ v)) for v in ((1, 1, 0), (-1, -1, 0), (1, -1, 0), (-1, 1, 0))]
    out = []
    for _ in range(SURVEYS):
        seen, given = [], []
        for k, c in enumerate(corners):
            target = places[c] + rng.normal(0, 1, 3) * (2.5, 2.5, 0.8)
            for n in np.argsort(np.linalg.norm(places - target, axis=1))[:3]:
                own = frames.apply(frames.inverse(truth[names[n]]), target[None])[0]
                seen.append(SightingObservation(names[n], f"T{k}", own + rng.normal(0, 0.0003, 3), 0.0003**2 * np.eye(3)))
            given.append(target + rng.normal(0, CONTROL, 3))
        free = adjust(names, links, seen)
        found = {t.target: t.position for t in free.targets if t.part == 0}
        if len(found) < len(corners) or free.datum[0] not in names:
            continue
        placed = solve(list(found), ["control"] * 4, np.array([found[f"T{k}"] for k in range(4)]), np.array(given), 0.005)
        control = [ControlObservation(f"T{k}", given[k], placed.sigma**2 * np.eye(3)) for k in range(4)]
        both = adjust(names, links, seen, {x: free.poses[x] for x in free.parts[0]}, control=control)
        if not both.placings or not both.converged:
            continue
        T = both.placings[0].T_control_part
        for x in both.placings[0].motions:
            out.append(squared((T @ both.poses[x] - truth[x])[:3, 3], both.placings[0].position(x, T @ both.poses[x])))
    return out


def run() -> list[Row]:
    rows = []
    for offset, words in ((0.0, "noise only"), (0.0004, "with 0.4 mm surface offsets")):
        own, network, control = [], [], []
        for seed in SEEDS:
            for n, layout in enumerate((LAYOUTS[0], hall(seed), stair(seed), works(seed, 3))):
                truth, links = linked(layout, seed, offset)
                one = [squared(left(k.T_a_b, frames.inverse(truth[k.a]) @ truth[k.b]), k.covariance) for k in links]
                s, out = snoop(list(truth), links)
                free = of_network(s, truth)
                placed = in_control(s, truth, [k for k in links if k.key not in out], [seed, n])
                print(
                    f"  {layout.name} {seed} {words}: {len(links)} links {np.mean(one):.2f}, free {free:.2f}, placed {np.mean(placed):.2f}",
                    flush=True,
                )
                own += one
                network.append(free)
                control += placed
        for what, values in (("links", own), ("free networks", network), ("stations placed on four points of control of 2 mm", control)):
            mean = float(np.mean(values))
            rows.append(
                Row(
                    f"Claims against truth, {words}: normalised squared error of {what}, mean of {len(values)}",
                    f"{mean:.2f} (median {np.median(values):.2f})",
                    "1 is honest",
                    "0.7 to 1.4",
                    0.7 <= mean <= 1.4,
                )
            )
    return rows
