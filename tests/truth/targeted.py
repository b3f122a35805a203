"""Rooms full of targets, and of what is mistaken for them: spheres of two radii on stands, decoys of nearly the same radius, boards
flat on walls and tilted, pipes, vessels, people, furniture, windows and chequers. Metres, z up; every seed is another room."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from taut_lantern.core import frames
from taut_lantern.core.scan.scan import Scan
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import DARK, STEEL, Ball, Board, Scene, people

RADIUS, DECOY, SIZES = 0.0725, 0.004, (0.15, 0.21, 0.3)


@dataclass
class Expected:
    """A target in the station's frame. points: rays that came back from it; share: of those that would without anything before
    it; side: |cos| of the angle at which a board is seen, 1 for a sphere."""

    kind: str
    size: float
    centre: np.ndarray
    points: int
    share: float
    side: float
    spacing: float
    decoy: bool = False


@dataclass
class TargetRoom:
    scan: Scan
    expected: list[Expected] = field(default_factory=list)


def target_room(seed: int, scanner: Scanner = Scanner(points=2_000_000, surface_offset=0.0, beam=1.2e-4)) -> TargetRoom:
    rng = np.random.default_rng(9000 + seed)
    length, width, high = rng.uniform(14, 30), rng.uniform(9, 16), rng.uniform(3.2, 6)
    s = Scene()
    s.box((0, 0, -0.3), (length, width, 0), (0.5, 0.48, 0.45), rng.uniform(0.2, 0.6))
    s.box((0, 0, high), (length, width, high + 0.2), (0.8, 0.8, 0.78), 0.6)
    for axis, at, span in ((0, -0.3, width), (0, length, width), (1, -0.3, length), (1, width, length)):
        a = rng.uniform(1, span - 3)
        s.wall(axis, at, 0.3, (-0.3, span + 0.3), (0, high), [(a, a + 1.8, 0.9, 2.3)], (0.7, 0.65, 0.6), rng.uniform(0.2, 0.8))
    place = lambda low=0.8: np.array([rng.uniform(low, length - low), rng.uniform(low, width - low)])  # noqa: E731
    origin = np.array([*place(2.5), rng.uniform(1.5, 1.8)])
    _clutter(s, rng, origin, place, high)
    balls: dict[str, tuple[Ball, bool]] = {}
    while len(balls) < 16:
        p = place()
        z = rng.uniform(0.5, min(2.6, high - 0.4))
        decoy = len(balls) >= 11
        r = RADIUS + (rng.choice((-1, 1)) * DECOY if decoy else 0.0)
        if np.linalg.norm(p - origin[:2]) > 1.2 and all(math.dist((*p, z), b.centre) > 0.6 for b, _ in balls.values()):
            balls[f"S{len(balls)}"] = Ball((p[0], p[1], z), r), decoy
            s.tube((p[0], p[1], 0), (p[0], p[1], z - r), 0.014, DARK, 0.3, 12)
    s.spheres = {n: b for n, (b, _) in balls.items()}
    _put_boards(s, rng, origin, length, width, high)
    cloud, pose = scan(s, tuple(origin), float(rng.uniform(-3, 3)), seed, scanner)
    back = frames.inverse(pose)
    out = TargetRoom(cloud)
    elevation, azimuth = scanner.grid()
    solid = (elevation[1] - elevation[0]) * (azimuth[1] - azimuth[0])
    for ball, decoy in balls.values():
        c = frames.apply(back, np.array([ball.centre]))[0]
        d = float(np.linalg.norm(c))
        on = np.abs(np.linalg.norm(cloud.xyz - c, axis=1) - ball.radius) < 0.008
        lean = math.hypot(c[0], c[1]) / d
        face = math.pi * math.asin(ball.radius / d) ** 2 / (solid * lean)
        out.expected.append(
            Expected("sphere", ball.radius, c, int(on.sum()), float(on.sum() / face), 1.0, d * (azimuth[1] - azimuth[0]), decoy)
        )
    for board in s.boards.values():
        right, up, n = (back[:3, :3] @ x for x in board.axes())
        c = frames.apply(back, np.array([board.centre]))[0]
        d = float(np.linalg.norm(c))
        side, lean = abs(float(n @ c)) / d, math.hypot(c[0], c[1]) / d
        p = cloud.xyz - c
        half = board.size / 2
        on = (np.abs(p @ n) < 0.008) & (np.abs(p @ right) < half) & (np.abs(p @ up) < half)
        face = board.size**2 * side / (solid * lean * d * d)
        out.expected.append(Expected("board", board.size, c, int(on.sum()), float(on.sum() / face), side, d * (azimuth[1] - azimuth[0])))
    return out


def _clutter(s: Scene, rng: np.random.Generator, origin: np.ndarray, place, high: float) -> None:  # type: ignore[no-untyped-def]
    for _ in range(4):
        x, y = place()
        if math.dist((x, y), origin[:2]) > 1.5:
            s.tube((x, y, 0), (x, y, high), rng.uniform(0.05, 0.11), STEEL, 0.45, 48)
    for _ in range(3):
        y, z, r = rng.uniform(1, 8), rng.uniform(0.4, high - 0.3), rng.choice((0.05, RADIUS, 0.1))
        if abs(y - origin[1]) > 0.5:
            s.tube((1, y, z), (8, y, z), float(r), STEEL, 0.5, 48)
    for _ in range(6):
        x, y = place()
        if math.dist((x, y), origin[:2]) > 1.8:
            w, d, h = rng.uniform(0.3, 1.2, 3)
            s.box((x, y, 0), (x + w, y + d, h), tuple(rng.uniform(0.1, 0.9, 3)), rng.uniform(0.05, 0.9))
            for k in range(4):  # stripes on its side: dark and pale, as labels and grilles have
                s.box((x + 0.06 * k, y - 0.004, h / 2), (x + 0.06 * k + 0.03, y, h / 2 + 0.1), DARK, 0.08)
    spots = [(float(x), float(y), 0.0) for x, y in (place() for _ in range(3)) if math.dist((x, y), origin[:2]) > 1.5]
    people(s, spots)


def _put_boards(s: Scene, rng: np.random.Generator, origin: np.ndarray, length: float, width: float, high: float) -> None:
    walls = (((0, 1, 0), 0.006), ((0, -1, 0), width - 0.006), ((1, 0, 0), 0.006), ((-1, 0, 0), length - 0.006))
    for k in range(12):
        size = float(rng.choice(SIZES))
        for _ in range(50):
            if k % 3 < 2:
                n, at = walls[int(rng.integers(4))]
                along = rng.uniform(0.5, (length if n[0] == 0 else width) - 0.5)
                c = (along, at, rng.uniform(0.6, high - 0.5)) if n[0] == 0 else (at, along, rng.uniform(0.6, high - 0.5))
            else:  # on a stand, turned and leaning
                turn, lean = rng.uniform(-math.pi, math.pi), rng.uniform(-0.5, 0.5)
                n = (math.cos(turn) * math.cos(lean), math.sin(turn) * math.cos(lean), math.sin(lean))
                c = (rng.uniform(1, length - 1), rng.uniform(1, width - 1), rng.uniform(0.8, 2.2))
            to = origin - np.array(c)
            facing = float(to @ np.array(n)) / np.linalg.norm(to)
            if facing > 0.36 and np.linalg.norm(to) > 1.5 and all(math.dist(c, b.centre) > 0.7 for b in s.boards.values()):
                roll = 0.0 if k % 2 else float(rng.uniform(-0.8, 0.8))
                s.boards[f"B{k}"] = Board(c, n, size, roll)
                break
