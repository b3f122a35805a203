"""Sites that nothing was set on, each hard in its own way: a terrace of alike rooms on a corridor, an open yard with trees and
cars that move between the scans, a plant room on two floors. Metres, z up; a layout gives its scene as it stood for one scan.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import trimesh

from taut_lantern.core.scan.scan import Scan
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import Scene, Vec
from taut_lantern.standins.site import simulate

GREY, PALE, STEEL, LEAF = (0.55, 0.55, 0.53), (0.8, 0.79, 0.75), (0.36, 0.42, 0.46), (0.2, 0.4, 0.14)
WAVES = ((25.0, 1.5), (9.0, 0.7), (3.0, 0.25), (1.0, 0.08))  # of natural ground: length and height, metres


@dataclass(frozen=True)
class Layout:
    """stations: where the tripod stood (floor); pairs: those that share enough to be linked; scene: as it stood for scan k."""

    name: str
    stations: dict[str, Vec]
    pairs: tuple[tuple[str, str], ...]
    scene: Callable[[int, int], Scene]  # seed, number of the scan

    def scans(self, scanner: Scanner, seed: int) -> dict[str, tuple[Scan, np.ndarray]]:
        """(scan, true pose station -> site) by station."""
        return {name: self.one(k, scanner, seed) for k, name in enumerate(self.stations)}

    def one(self, k: int, scanner: Scanner, seed: int) -> tuple[Scan, np.ndarray]:
        x, y, z = list(self.stations.values())[k]
        return scan(self.scene(seed, k), (x, y, z + 1.6 + 0.04 * k), 0.7 * k + seed, 1000 * seed + k, scanner)


def on_two(make: Callable[[Scanner], Scan], scanner: Scanner) -> tuple[Scan, np.ndarray, np.ndarray]:
    """A scan; (n,) which of its beams met two surfaces and lie 3 cm off both; and (n,) which met one. Told by the same scan without such."""
    cloud, clean = make(scanner), make(replace(scanner, mixed=0.0))
    ranges, true = (np.linalg.norm(c.xyz, axis=1) for c in (cloud, clean))
    assert clean.row is not None and clean.column is not None
    image = np.full((clean.row.max() + 1, clean.column.max() + 1), np.inf)
    image[clean.row, clean.column] = true
    off = np.abs(ranges - true) > 0.03
    for axis in (0, 1):
        off &= np.abs(np.roll(image, 1, axis)[clean.row, clean.column] - ranges) > 0.03
    return cloud, off, ranges == true


def room(s: Scene, low: Vec, high: Vec, doors: dict[str, tuple[float, float]]) -> None:
    """Walls, floor and ceiling; doors by side: from, to along the wall, 2.1 m high."""
    (x0, y0, z0), (x1, y1, z1) = low, high
    s.box((x0, y0, z0 - 0.25), (x1, y1, z0), GREY, 0.4)
    s.box((x0, y0, z1), (x1, y1, z1 + 0.2), PALE, 0.6)
    for side, axis, at, span in (
        ("west", 0, x0 - 0.1, (y0, y1)),
        ("east", 0, x1, (y0, y1)),
        ("south", 1, y0 - 0.1, (x0, x1)),
        ("north", 1, y1, (x0, x1)),
    ):
        holes = [(*doors[side], z0, z0 + 2.1)] if side in doors else []
        s.wall(axis, at, 0.1, span, (z0, z1), holes, PALE, 0.6)


def _terrace(seed: int, number: int) -> Scene:
    """Five rooms of one plan on a corridor; the furniture of each stands a little otherwise."""
    s = Scene()
    s.box((-1, -2.3, -0.25), (26, 0, 0), GREY, 0.4)
    s.box((-1, -2.3, 2.7), (26, 0, 2.9), PALE, 0.6)
    s.wall(1, -2.4, 0.1, (-1, 26), (0, 2.7), [], PALE)
    s.wall(0, -1.1, 0.1, (-2.3, 0), (0, 2.7), [], PALE)
    s.wall(0, 26.0, 0.1, (-2.3, 0), (0, 2.7), [], PALE)
    rng = np.random.default_rng(seed)
    for k in range(5):
        x = 5.0 * k
        room(s, (x, 0.1, 0.0), (x + 4.8, 5.0, 2.7), {"south": (x + 0.5, x + 1.5)})
        dx, dy = rng.uniform(-0.5, 0.5, 2)
        s.box((x + 2.6 + dx, 3.6 + 0.4 * dy, 0), (x + 4.2 + dx, 4.4 + 0.4 * dy, 0.74), (0.5, 0.35, 0.2), 0.45)
        s.box((x + 0.1, 2.0 + dy, 0), (x + 0.6, 3.0 + dy, 1.9 + 0.2 * dx), STEEL, 0.4)
    for k, x in enumerate((3.0, 9.5, 17.0, 23.0)):
        s.box((x, -0.55, 0), (x + 0.5 + 0.2 * k, -0.15, 0.9 + 0.3 * k), STEEL, 0.4)
    return s


def _yard(seed: int, number: int) -> Scene:
    """A yard between two sheds, with trees, and cars that drove on between the scans."""
    s, rng, cars = Scene(), np.random.default_rng(seed), np.random.default_rng(100 * seed + number)
    s.box((-30, -25, -0.3), (45, 25, 0), (0.4, 0.4, 0.38), 0.3)
    s.box((-28, 12, 0), (10, 22, 5.5), (0.6, 0.4, 0.3), 0.5)
    s.box((18, -22, 0), (43, -13, 7.0), PALE, 0.6)
    s.wall(1, -20.0, 0.3, (-28, 12), (0, 2.2), [(-8.0, -4.0, 0.0, 2.2)], GREY)
    for x in (-24.0, -12.0, 0.5, 14.0, 27.0, 40.0):
        s.tube((x, 3.0, 0), (x, 3.0, 6.5), 0.09, STEEL, 0.4, 32)
    for _ in range(7):
        p = rng.uniform((-26, -16), (40, 9))
        s.tube((*p, 0.0), (p[0] + 0.1, p[1], 2.4), 0.17, (0.33, 0.24, 0.16), 0.3, 24)
        c = np.array([p[0], p[1], 3.6]) + rng.normal(size=(350, 3)) * [0.9, 0.9, 0.8]
        tri = c[:, None, :] + rng.normal(size=(350, 3, 3)) * 0.09
        s.add(trimesh.Trimesh(tri.reshape(-1, 3), np.arange(1050).reshape(-1, 3), process=False), LEAF, 0.4)
    for _ in range(5):
        x, y = cars.uniform((-22, -10), (36, 0))
        s.box((x, y, 0.25), (x + 4.4, y + 1.8, 0.9), (0.7, 0.1, 0.1), 0.5)
        s.box((x + 1.1, y + 0.1, 0.9), (x + 3.4, y + 1.7, 1.45), (0.15, 0.15, 0.17), 0.2)
    return s


def hillside(seed: int) -> tuple[Scene, Callable[[float, float], float]]:
    """Ground that no plane lies in, 60 m wide: waves of 1 to 25 m in all directions. Also its height at a place."""
    rng, side = np.random.default_rng(seed), np.linspace(-30, 30, 301)
    waves = [(way, 2 * np.pi / long, high, rng.uniform(0, 6.3)) for long, high in WAVES for way in rng.uniform(0, 6.3, 12)]

    def height(x: Any, y: Any) -> Any:
        return sum(high / 5 * np.sin(k * (np.cos(way) * x + np.sin(way) * y) + phase) for way, k, high, phase in waves)

    x, y = (v.ravel() for v in np.meshgrid(side, side, indexing="ij"))
    corner = np.arange(301 * 301).reshape(301, 301)
    a, b, c, d = (v.ravel() for v in (corner[:-1, :-1], corner[1:, :-1], corner[1:, 1:], corner[:-1, 1:]))
    s = Scene()
    faces = np.concatenate([np.column_stack([a, b, c]), np.column_stack([a, c, d])])
    s.add(trimesh.Trimesh(np.column_stack([x, y, height(x, y)]), faces, process=False), LEAF, 0.4)
    return s, lambda at_x, at_y: float(height(at_x, at_y))


def _plant(seed: int, number: int) -> Scene:
    """A plant room on two floors, joined by an opening with a stair; pipes, vessels, cable trays."""
    s, rng = Scene(), np.random.default_rng(seed)
    s.wall(1, -0.2, 0.2, (0, 18), (-4.2, 4.5), [(8.0, 10.5, 0.0, 2.4)], GREY)
    s.wall(1, 11.0, 0.2, (0, 18), (-4.2, 4.5), [], GREY)
    s.wall(0, -0.2, 0.2, (0, 11), (-4.2, 4.5), [], GREY)
    s.wall(0, 18.0, 0.2, (0, 11), (-4.2, 4.5), [(3.0, 5.0, 0.0, 2.4)], GREY)
    s.box((0, 0, -4.4), (18, 11, -4.2), GREY, 0.4)
    s.box((0, 0, 4.5), (18, 11, 4.7), PALE, 0.6)
    for low, high in (((0, 0), (18, 3.5)), ((0, 3.5), (6.0, 7.0)), ((11.5, 3.5), (18, 7.0)), ((0, 7.0), (18, 11))):
        s.box((*low, -0.25), (*high, 0.0), GREY, 0.4)
    for k in range(14):  # the stair
        s.box((6.2 + 0.3 * k, 3.7, -4.2), (6.5 + 0.3 * k, 4.7, -4.2 + 0.3 * (k + 1)), STEEL, 0.4)
    for x, y, z, r in ((3.0, 8.5, 0.0, 0.8), (14.5, 8.8, 0.0, 1.0), (4.0, 2.2, -4.2, 0.7), (15.0, 2.5, -4.2, 0.9)):
        s.tube((x, y, z + 0.3), (x, y, z + 2.4), r, (0.16, 0.42, 0.32), 0.5)
    for k in range(6):
        y, z, r = rng.uniform(0.6, 10.4), (0.0 if k % 2 else -4.2) + rng.uniform(2.6, 3.4), rng.uniform(0.05, 0.18)
        s.tube((0.3, y, z), (17.7, y, z), r, (0.5, 0.5, 0.55), 0.5, 48)
    for k in range(5):
        x, y = rng.uniform((1, 1), (16, 2.5))
        s.box((x, y, 0.0 if k % 2 else -4.2), (x + 0.8, y + 0.6, (0.0 if k % 2 else -4.2) + 1.1), (0.45, 0.33, 0.2), 0.5)
    return s


def _twins(seed: int, number: int) -> Scene:
    """Two rooms that are alike to the last thing in them, side by side on a passage that is not."""
    s = Scene()
    s.box((-1, -2.3, -0.25), (11.4, 0, 0), GREY, 0.4)
    s.box((-1, -2.3, 2.7), (11.4, 0, 2.9), PALE, 0.6)
    s.wall(1, -2.4, 0.1, (-1, 11.4), (0, 2.7), [], PALE)
    s.wall(0, -1.1, 0.1, (-2.3, 0), (0, 2.7), [], PALE)
    s.wall(0, 11.4, 0.1, (-2.3, 0), (0, 2.7), [], PALE)
    for x in (0.0, 5.2):
        room(s, (x, 0.1, 0.0), (x + 5.0, 4.6, 2.7), {"south": (x + 1.8, x + 3.0)})
        s.box((x + 3.4, 3.3, 0), (x + 4.7, 4.2, 0.74), (0.5, 0.35, 0.2), 0.45)
        s.box((x + 0.1, 2.6, 0), (x + 0.5, 3.9, 1.9), STEEL, 0.4)
    for x, y, high in ((-0.8, -2.2, 1.1), (4.6, -2.25, 1.9), (10.6, -0.5, 0.8), (7.4, -2.25, 0.6)):
        s.box((x, y, 0), (x + 0.5, y + 0.4, high), STEEL, 0.4)
    return s


TWINS = Layout(
    "twin rooms",
    {"P1": (2.6, -1.3, 0), "P2": (7.4, -1.1, 0), "R1": (1.9, 1.7, 0), "R2": (7.9, 2.3, 0)},
    (("P1", "P2"), ("P1", "R1"), ("P2", "R2")),
    _twins,
)
TERRACE = Layout(
    "terrace",
    {"C1": (2.0, -1.2, 0), "C2": (10.5, -1.2, 0), "C3": (19.5, -1.2, 0), **{f"R{k + 1}": (5.0 * k + 1.6, 1.9, 0) for k in range(5)}},
    (("C1", "C2"), ("C2", "C3"), ("C1", "R1"), ("C1", "R2"), ("C2", "R3"), ("C3", "R4"), ("C3", "R5")),
    _terrace,
)
YARD = Layout(
    "yard",
    {"Y1": (-18, 2, 0), "Y2": (-5, -5, 0), "Y3": (8, 4, 0), "Y4": (22, -4, 0), "Y5": (33, 5, 0)},
    (("Y1", "Y2"), ("Y2", "Y3"), ("Y3", "Y4"), ("Y4", "Y5"), ("Y1", "Y3"), ("Y2", "Y4"), ("Y3", "Y5")),
    _yard,
)
PLANT = Layout(
    "plant room",
    {"U1": (4.0, 5.2, 0), "U2": (13.5, 5.0, 0), "U3": (9.0, 8.6, 0), "L1": (4.5, 6.5, -4.2), "L2": (13.0, 5.5, -4.2)},
    (("U1", "U3"), ("U2", "U3"), ("U1", "U2"), ("L1", "L2"), ("U3", "L1"), ("U3", "L2")),
    _plant,
)


class _Demo(Layout):
    def scans(self, scanner: Scanner, seed: int) -> dict[str, tuple[Scan, np.ndarray]]:
        return {name: simulate(name, scanner, seed) for name in self.stations}


DEMO = _Demo(
    "demo",
    dict.fromkeys(("ST-01", "ST-02", "ST-03", "ST-04", "ST-07"), (0.0, 0.0, 0.0)),
    (("ST-01", "ST-02"), ("ST-02", "ST-03"), ("ST-01", "ST-03"), ("ST-02", "ST-04"), ("ST-01", "ST-07")),
    lambda seed, number: Scene(),
)
LAYOUTS = (DEMO, TERRACE, YARD, PLANT)
