"""Building layouts that ties are scored on: drawn anew for every seed, with exact truth. Metres, z up.

They are not the layouts of the tests, which limits were set on: rooms, doors, furniture and set-ups follow from the seed.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import trimesh

from taut_lantern.standins.scene import Scene, Vec
from tests.truth.layouts import GREY, LEAF, PALE, STEEL, Layout

WOOD = (0.5, 0.35, 0.2)


def _furniture(rng: np.random.Generator, low: Vec, high: Vec, clear: list[Vec], count: int) -> list[tuple[Vec, Vec]]:
    """Corners of tables, shelves and crates on the floor, none within 0.9 m of where somebody stands or of a door."""
    out: list[tuple[Vec, Vec]] = []
    for _ in range(200):
        w, d, h = ((1.5, 0.8, 0.74), (0.9, 0.4, 1.9), (0.5, 0.5, 0.5), (0.6, 0.6, 1.2))[int(rng.integers(4))]
        if rng.random() < 0.5:
            w, d = d, w
        x, y = rng.uniform(low[0] + 0.05, high[0] - w - 0.05), rng.uniform(low[1] + 0.05, high[1] - d - 0.05)
        if all(np.hypot(max(x - c[0], 0, c[0] - x - w), max(y - c[1], 0, c[1] - y - d)) > 0.9 for c in clear):
            out.append(((x, y, low[2]), (x + w, y + d, low[2] + h)))
    return out[:count]


def copies(seed: int, kind: str) -> Layout:
    """A corridor between two rows of four rooms of one plan: 8 stations in rooms, 4 in the corridor.

    kind: "exact" (walls alike to the last digit, furniture not), "built" (walls off by 2 to 10 mm, furniture not alike) or "same"
    (furniture alike too: nothing inside a room tells it from the others).
    """
    draw = np.random.default_rng([seed, 1])
    wide, deep, passage = draw.uniform(4.2, 6.2), draw.uniform(4.0, 5.5), draw.uniform(1.9, 2.6)
    door, column = draw.uniform(0.5, wide - 1.6), draw.uniform((0.3, 0.5), (0.7, 0.8)) * (wide, deep)
    length = 4 * (wide + 0.2)
    stations: dict[str, Vec] = {}
    for k in range(8):  # in the room's own directions: along the corridor, away from it
        u, v = draw.uniform(0.3, 0.7) * wide, draw.uniform(0.3, 0.6) * deep
        if np.hypot(u - column[0], v - column[1]) < 0.9:
            u = u + (1.2 if u < wide / 2 else -1.2)
        x0 = (k % 4) * (wide + 0.2)
        stations[f"R{k + 1}"] = (x0 + u, passage / 2 + 0.1 + v, 0.0) if k < 4 else (x0 + wide - u, -passage / 2 - 0.1 - v, 0.0)
    for k in range(4):
        stations[f"C{k + 1}"] = ((k + draw.uniform(0.35, 0.65)) * length / 4, draw.uniform(-0.3, 0.3), 0.0)

    def scene(_: int, number: int) -> Scene:
        s, rng = Scene(), np.random.default_rng([seed, 2])
        s.box((-1, -passage / 2, -0.25), (length + 1, passage / 2, 0), GREY, 0.4)
        s.box((-1, -passage / 2, 2.7), (length + 1, passage / 2, 2.9), PALE, 0.6)
        for x in (-1.1, length + 1):
            s.wall(0, x, 0.1, (-passage / 2, passage / 2), (0, 2.7), [], PALE)
        for k in range(8):
            alike = np.random.default_rng([seed, 3])
            off = rng.uniform(-1, 1, 5)
            off = np.sign(off) * (0.002 + 0.008 * np.abs(off)) * (kind == "built")
            x0, up = (k % 4) * (wide + 0.2), k < 4
            y0 = passage / 2 + 0.1

            def box(lo: Vec, hi: Vec, colour: Vec, x0: float = x0, y0: float = y0, up: bool = up, into: Scene = s) -> None:
                """A box in the room's own directions: the rows face each other by half a turn."""
                if up:
                    into.box((x0 + lo[0], y0 + lo[1], lo[2]), (x0 + hi[0], y0 + hi[1], hi[2]), colour, 0.5)
                else:
                    into.box((x0 + wide - hi[0], -y0 - hi[1], lo[2]), (x0 + wide - lo[0], -y0 - lo[1], hi[2]), colour, 0.5)

            w, d = wide + off[0], deep + off[1]
            box((0, 0, -0.25), (w, d, 0), GREY)
            box((0, 0, 2.7 + off[2]), (w, d, 2.9 + off[2]), PALE)
            box((-0.1, -0.1, 0), (0, d + 0.1, 2.72), PALE)
            box((w, -0.1, 0), (wide + 0.1, d + 0.1, 2.72), PALE)
            box((0, d, 0), (w, d + 0.1, 2.72), PALE)
            at = door + off[3]
            box((0, -0.1, 0), (at, 0, 2.72), PALE)
            box((at + 0.95, -0.1, 0), (w, 0, 2.72), PALE)
            box((at, -0.1, 2.05), (at + 0.95, 0, 2.72), PALE)
            c = column + off[4]
            box((c[0] - 0.15, c[1] - 0.15, 0), (c[0] + 0.15, c[1] + 0.15, 2.72), PALE)
            here = stations[f"R{k + 1}"]
            stand = [(here[0] - x0, here[1] - y0, 0.0) if up else (x0 + wide - here[0], -y0 - here[1], 0.0)]
            if kind == "same":
                stand = [
                    (p[0] - (j % 4) * (wide + 0.2), p[1] - y0, 0.0) if j < 4 else ((j % 4) * (wide + 0.2) + wide - p[0], -y0 - p[1], 0.0)
                    for j, p in enumerate(stations[f"R{j + 1}"] for j in range(8))
                ]
            clear = [*stand, (at + 0.5, 0.3, 0.0)]
            for lo, hi in _furniture(alike if kind == "same" else rng, (0, 0, 0), (w, d, 0), clear, 5):
                box(lo, hi, WOOD)
        for _ in range(7):  # what stands in the corridor tells its parts apart
            x, side = rng.uniform(0, length - 0.6), rng.choice([-1, 1])
            y = side * (passage / 2 - 0.18)
            if all(np.hypot(x + 0.25 - p[0], y - p[1]) > 0.8 for p in stations.values()):
                s.box((x, y - 0.17, 0), (x + rng.uniform(0.25, 0.6), y + 0.17, rng.uniform(0.4, 2.0)), STEEL, 0.4)
        return s

    return Layout(f"copied rooms, {kind}", stations, (), scene)


def hall(seed: int) -> Layout:
    """A hall with columns and machines, a corridor through a doorway, two rooms that are not alike."""
    draw = np.random.default_rng([seed, 4])
    a, b, h = draw.uniform(16, 24), draw.uniform(10, 14), draw.uniform(4.5, 6.5)
    door, far = draw.uniform(2, b - 4), draw.uniform(9, 14)
    stations: dict[str, Vec] = {f"H{k + 1}": (a * (k % 3 + 0.5) / 3, b * (0.28 + 0.44 * (k // 3)), 0.0) for k in range(6)}
    stations |= {"D1": (a + 1.4, door + 1.1, 0.0), "D2": (a + far - 1.5, door + 1.0, 0.0)}
    stations |= {"A": (a + 2.5, door + 5.0, 0.0), "B": (a + far - 2.5, door - 2.5, 0.0)}

    def scene(_: int, number: int) -> Scene:
        s, rng = Scene(), np.random.default_rng([seed, 5])
        s.box((0, 0, -0.3), (a, b, 0), GREY, 0.4)
        s.box((0, 0, h), (a, b, h + 0.3), PALE, 0.6)
        s.wall(1, -0.2, 0.2, (0, a), (0, h), [(3.0, 6.0, 0.0, 3.0)], PALE)
        s.wall(1, b, 0.2, (0, a), (0, h), [(a - 5, a - 3.5, 1.0, 2.2)], PALE)
        s.wall(0, -0.2, 0.2, (0, b), (0, h), [], PALE)
        s.wall(0, a, 0.2, (0, b), (0, h), [(door + 0.4, door + 1.8, 0.0, 2.3)], PALE)
        for x in np.arange(4.0, a - 2, 5.0):
            for y in (0.15, b - 0.55):
                s.box((x, y, 0), (x + 0.4, y + 0.4, h), GREY, 0.5)
        clear: list[Vec] = list(stations.values())
        for _ in range(9):
            x, y = rng.uniform((1, 1), (a - 3, b - 2.5))
            w, d, t = rng.uniform((0.5, 0.5, 0.6), (2.2, 1.2, 2.4))
            if all(np.hypot(max(x - p[0], 0, p[0] - x - w), max(y - p[1], 0, p[1] - y - d)) > 1.0 for p in clear):
                s.box((x, y, 0), (x + w, y + d, t), STEEL, 0.4)
        for _ in range(3):
            y, z, r = rng.uniform(1, b - 1), h - rng.uniform(0.4, 1.2), rng.uniform(0.05, 0.16)
            s.tube((0.1, y, z), (a - 0.1, y, z), r, (0.5, 0.5, 0.55), 0.5, 48)
        y0, y1 = door, door + 2.2  # the corridor, and a room on either side of it
        s.box((a + 0.2, y0, -0.3), (a + far, y1, 0), GREY, 0.4)
        s.box((a + 0.2, y0, 2.6), (a + far, y1, 2.8), PALE, 0.6)
        s.wall(1, y0 - 0.1, 0.1, (a + 0.2, a + far), (0, 2.6), [(a + far - 3.2, a + far - 2.2, 0.0, 2.1)], PALE)
        s.wall(1, y1, 0.1, (a + 0.2, a + far), (0, 2.6), [(a + 1.8, a + 2.8, 0.0, 2.1)], PALE)
        s.wall(0, a + far, 0.1, (y0 - 0.1, y1 + 0.1), (0, 2.6), [], PALE)
        for low, high in (
            ((a + 0.6, y1 + 0.1), (a + rng.uniform(5, 7), y1 + rng.uniform(4.5, 6))),
            ((a + far - rng.uniform(5, 6.5), y0 - rng.uniform(4, 5)), (a + far - 0.4, y0 - 0.1)),
        ):
            s.box((*low, -0.3), (*high, 0), GREY, 0.4)
            s.box((*low, 2.9), (*high, 3.1), PALE, 0.6)
            north = low[1] > y0
            s.wall(0, low[0] - 0.1, 0.1, (low[1], high[1]), (0, 2.9), [], PALE)
            s.wall(0, high[0], 0.1, (low[1], high[1]), (0, 2.9), [], PALE)
            s.wall(1, high[1] if north else low[1] - 0.1, 0.1, (low[0], high[0]), (0, 2.9), [], PALE)
            doors = [(a + 2.3, y1 + 0.4, 0.0), (a + far - 2.7, y0 - 0.4, 0.0)]
            for lo, hi in _furniture(rng, (*low, 0.0), (*high, 0.0), [*clear, *doors], 4):
                s.box(lo, hi, WOOD, 0.45)
        return s

    return Layout("hall with a corridor", stations, (), scene)


def corridor(seed: int) -> Layout:
    """A bare long corridor: nothing but door frames and an extinguisher holds it along its axis."""
    draw = np.random.default_rng([seed, 6])
    length = draw.uniform(36, 50)
    stations: dict[str, Vec] = {f"K{k + 1}": ((k + 0.5) * length / 6, draw.uniform(-0.3, 0.3), 0.0) for k in range(6)}

    def scene(_: int, number: int) -> Scene:
        s, rng = Scene(), np.random.default_rng([seed, 7])
        s.box((0, -1.1, -0.25), (length, 1.1, 0), GREY, 0.4)
        s.box((0, -1.1, 2.6), (length, 1.1, 2.8), PALE, 0.6)
        for y in (-1.2, 1.1):
            s.wall(1, y, 0.1, (0, length), (0, 2.6), [], PALE)
        for x in (-0.1, length):
            s.wall(0, x, 0.1, (-1.1, 1.1), (0, 2.6), [], PALE)
        for x in np.cumsum(rng.uniform(2.2, 5.5, 12)):
            y = rng.choice([-1.1, 1.06])
            if x < length - 1.2:
                for lo, hi in (((x, 0), (x + 0.06, 2.1)), ((x + 0.96, 0), (x + 1.02, 2.1)), ((x, 2.04), (x + 1.02, 2.1))):
                    s.box((lo[0], y, lo[1]), (hi[0], y + 0.04, hi[1]), WOOD, 0.5)
        for x in rng.uniform(2, length - 2, 3):
            s.box((x, 0.9, 0.9), (x + 0.18, 1.1, 1.4), (0.7, 0.1, 0.1), 0.5)
        return s

    return Layout("long corridor", stations, (), scene)


def stair(seed: int) -> Layout:
    """A spiral stair of three turns in a round shaft with landings, and a room on each."""
    draw = np.random.default_rng([seed, 8])
    rise, radius = draw.uniform(3.0, 3.6), draw.uniform(2.2, 2.8)
    stations: dict[str, Vec] = {}
    for k in range(3):
        stations[f"L{k + 1}"] = (radius + 1.6, 0.3, k * rise)
        stations[f"M{k + 1}"] = (radius + 4.5, -0.8 + 0.6 * k, k * rise)
        stations[f"S{k + 1}"] = (-0.62 * radius, 0.2, k * rise + 0.5 * rise + 0.2)

    def scene(_: int, number: int) -> Scene:
        s, rng = Scene(), np.random.default_rng([seed, 9])
        s.tube((0, 0, 0), (0, 0, 3 * rise + 2.4), 0.12, STEEL, 0.4, 32)
        turn = 2 * np.pi / 16
        for k in range(48):
            w, z = k * turn, (k + 1) * rise / 16
            for r in np.arange(0.2, radius, 0.42):
                x, y, half = (r + 0.2) * np.cos(w), (r + 0.2) * np.sin(w), 0.2 + 0.09 * r
                s.box((x - half, y - half, z - 0.05), (x + half, y + half, z), STEEL, 0.4)
        for k in range(24):  # the shaft: plane pieces of a circle, open towards the rooms
            w = 2 * np.pi * (k + 0.5) / 24
            if abs(np.angle(np.exp(1j * w))) > 0.42:
                x, y, e = radius * np.cos(w), radius * np.sin(w), radius * np.pi / 24 * 1.1
                s.box((x - e, y - e, 0), (x + e, y + e, 3 * rise + 2.4), PALE, 0.6)
        s.box((-radius - 1, -radius - 1, -0.3), (radius + 8, radius + 2, 0.0), GREY, 0.4)
        s.box((-radius - 1, -radius - 1, 3 * rise + 2.4), (radius + 8, radius + 2, 3 * rise + 2.6), PALE, 0.6)
        for k in range(3):
            z, end = k * rise, radius + rng.uniform(6.2, 7.4)
            s.box((radius + 0.05, -3, z - 0.2), (end, 2.2, z), GREY, 0.4)
            s.wall(0, end, 0.1, (-3, 2.2), (z, z + rise - 0.2), [], PALE)
            s.wall(1, -3.1, 0.1, (radius - 0.6, end), (z, z + rise - 0.2), [], PALE)
            s.wall(1, 2.2, 0.1, (radius - 0.6, end), (z, z + rise - 0.2), [], PALE)
            for lo, hi in _furniture(rng, (radius + 1.0, -3, z), (end, 2.2, z), [(p[0], p[1], z) for p in stations.values()], 4):
                s.box(lo, hi, WOOD, 0.45)
        return s

    return Layout("spiral stair", stations, (), scene)


def works(seed: int, rooms: int = 10) -> Layout:
    """Works on one long passage: rooms and halls of all sizes on both sides, three stations in each and one before its door."""
    draw = np.random.default_rng([seed, 10])
    half = 1.3
    plan: list[tuple[float, float, float, float, float, int]] = []  # from, to along the passage, depth, height, door, side
    ends = [0.0, 0.0]
    for k in range(rooms):
        side, wide = k % 2, draw.uniform(7.0, 14.0)
        x = ends[side]
        plan.append((x, x + wide, draw.uniform(6.0, 12.0), draw.uniform(2.9, 5.5), x + draw.uniform(1.0, wide - 2.5), side))
        ends[side] = x + wide + 0.2
    length = max(ends)
    stations: dict[str, Vec] = {}
    for k, (x0, x1, deep, _, door, side) in enumerate(plan):
        up = 1 if side == 0 else -1
        stations[f"P{k + 1:02}"] = (door + 0.6 + draw.uniform(-0.4, 0.4), draw.uniform(-0.3, 0.3), 0.0)
        stations[f"A{k + 1:02}"] = (door + 0.6, up * (half + 1.9), 0.0)
        stations[f"B{k + 1:02}"] = (x0 + 0.28 * (x1 - x0), up * (half + 0.2 + 0.68 * deep), 0.0)
        stations[f"C{k + 1:02}"] = (x0 + 0.72 * (x1 - x0), up * (half + 0.2 + 0.62 * deep), 0.0)

    def scene(_: int, number: int) -> Scene:
        s, rng = Scene(), np.random.default_rng([seed, 11])
        s.box((-1, -half, -0.25), (length + 1, half, 0), GREY, 0.4)
        s.box((-1, -half, 2.7), (length + 1, half, 2.9), PALE, 0.6)
        for x in (-1.1, length + 1):
            s.wall(0, x, 0.1, (-half, half), (0, 2.7), [], PALE)
        clear = list(stations.values())
        for k, (x0, x1, deep, high, door, side) in enumerate(plan):
            up = 1 if side == 0 else -1
            y0, y1 = sorted((up * (half + 0.2), up * (half + 0.2 + deep)))
            s.box((x0, min(y0, up * half), -0.25), (x1, max(y1, up * half), 0), GREY, 0.4)
            s.box((x0, y0, high), (x1, y1, high + 0.2), PALE, 0.6)
            s.wall(
                1, half if up > 0 else -half - 0.2, 0.2, (x0 - 0.1, x1 + 0.1), (0, max(high, 2.7)), [(door, door + 1.2, 0.0, 2.15)], PALE
            )
            s.wall(1, y1 if up > 0 else y0 - 0.1, 0.1, (x0 - 0.1, x1 + 0.1), (0, high), [], PALE)
            for x in (x0 - 0.1, x1):
                s.wall(0, x, 0.1, (y0, y1), (0, high), [], PALE)
            for lo, hi in _furniture(rng, (x0, y0, 0.0), (x1, y1, 0.0), [*clear, (door + 0.6, up * (half + 0.6), 0.0)], 7):
                s.box(lo, hi, WOOD if k % 2 else STEEL, 0.45)
            for _ in range(2):
                y, z, r = rng.uniform(y0 + 0.5, y1 - 0.5), high - rng.uniform(0.3, 0.7), rng.uniform(0.04, 0.12)
                s.tube((x0, y, z), (x1, y, z), r, (0.5, 0.5, 0.55), 0.5, 24)
        for _ in range(rooms):  # what stands in the passage
            x, side = rng.uniform(0, length - 0.6), rng.choice([-1, 1])
            y = side * (half - 0.16)
            if all(np.hypot(x + 0.25 - p[0], y - p[1]) > 0.8 for p in clear) and all(not r[4] - 0.8 < x < r[4] + 1.4 for r in plan):
                s.box((x, y - 0.15, 0), (x + rng.uniform(0.25, 0.6), y + 0.15, rng.uniform(0.4, 2.0)), STEEL, 0.4)
        for end, side in zip(ends, (1, -1), strict=True):  # where one row of rooms is shorter
            if end < length:
                s.wall(1, half if side > 0 else -half - 0.2, 0.2, (end - 0.1, length + 1), (0, 2.7), [], PALE)
        for side in (1, -1):
            s.wall(1, half if side > 0 else -half - 0.2, 0.2, (-1, 0.0), (0, 2.7), [], PALE)
            s.wall(1, half if side > 0 else -half - 0.2, 0.2, (length, length + 1), (0, 2.7), [], PALE)
        return s

    return Layout("works of forty stations", stations, (), scene)


def yard(seed: int) -> Layout:
    """An open yard between sheds, a wall, poles and trees; four cars stand elsewhere in every scan."""
    draw = np.random.default_rng([seed, 12])
    wide, deep = draw.uniform(48, 66), draw.uniform(30, 42)
    stations: dict[str, Vec] = {
        f"Y{k + 1}": (wide * (k % 4 + 0.5 + draw.uniform(-0.2, 0.2)) / 4, deep * (0.3 + 0.4 * (k // 4) + draw.uniform(-0.08, 0.08)), 0.0)
        for k in range(8)
    }

    def scene(_: int, number: int) -> Scene:
        s, rng, cars = Scene(), np.random.default_rng([seed, 13]), np.random.default_rng([seed, 14, number])
        s.box((-5, -5, -0.3), (wide + 5, deep + 5, 0), (0.4, 0.4, 0.38), 0.3)
        for low, high in (((0.0, deep), (0.6 * wide, deep + 8)), ((0.7 * wide, -9.0), (wide, 0.0))):
            tall = rng.uniform(4.5, 8.0)
            s.box((*low, 0), (*high, tall), (0.6, 0.4, 0.3), 0.5)
            for _ in range(3):  # gates and window sills that stand out
                x = rng.uniform(low[0] + 1, high[0] - 4)
                y = low[1] - 0.15 if low[1] > 0 else high[1]
                s.box((x, y, rng.uniform(0, 1.2)), (x + rng.uniform(1, 3), y + 0.15, rng.uniform(2.0, 3.5)), STEEL, 0.4)
        s.wall(1, -0.3, 0.3, (0, 0.6 * wide), (0, rng.uniform(1.8, 2.6)), [(6.0, 10.0, 0.0, 3.0)], GREY)
        s.wall(0, wide + 0.5, 0.3, (4.0, deep), (0, rng.uniform(1.8, 2.6)), [], GREY)
        clear = [np.array(p[:2]) for p in stations.values()]

        def free(x: float, y: float, reach: float) -> bool:
            return all(np.hypot(x - p[0], y - p[1]) > reach for p in clear)

        for x in np.arange(6.0, wide, rng.uniform(9, 14)):
            y = deep / 2 + rng.uniform(-2, 2)
            if free(x, y, 1.0):
                s.tube((x, y, 0), (x, y, 6.5), 0.09, STEEL, 0.4, 32)
        for _ in range(7):
            x, y = rng.uniform((2, 2), (wide - 2, deep - 2))
            if not free(x, y, 2.5):
                continue
            s.tube((x, y, 0.0), (x + 0.1, y, 2.4), 0.17, (0.33, 0.24, 0.16), 0.3, 24)
            c = np.array([x, y, 3.6]) + rng.normal(size=(350, 3)) * [0.9, 0.9, 0.8]
            tri = c[:, None, :] + rng.normal(size=(350, 3, 3)) * 0.09
            s.add(trimesh.Trimesh(tri.reshape(-1, 3), np.arange(1050).reshape(-1, 3), process=False), LEAF, 0.4)
        for _ in range(3):  # a skip, a stack of pipes: they stay
            x, y = rng.uniform((3, 3), (wide - 6, deep - 4))
            if free(x + 1.5, y + 1, 3.0):
                s.box((x, y, 0), (x + rng.uniform(1.5, 3.5), y + rng.uniform(1, 2), rng.uniform(0.8, 1.6)), STEEL, 0.4)
        for _ in range(4):
            x, y = cars.uniform((2, 4), (wide - 7, deep - 6))
            if free(x + 2.2, y + 0.9, 3.5):
                s.box((x, y, 0.25), (x + 4.4, y + 1.8, 0.9), (0.7, 0.1, 0.1), 0.5)
                s.box((x + 1.1, y + 0.1, 0.9), (x + 3.4, y + 1.7, 1.45), (0.15, 0.15, 0.17), 0.2)
        return s

    return Layout("open yard", stations, (), scene)


DRAWS: dict[str, Callable[[int], Layout]] = {
    "exact": lambda seed: copies(seed, "exact"),
    "built": lambda seed: copies(seed, "built"),
    "same": lambda seed: copies(seed, "same"),
    "hall": hall,
    "corridor": corridor,
    "stair": stair,
    "works": works,
    "yard": yard,
}
