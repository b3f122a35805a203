"""Ottermere Pumping Station, the invented demo site: triangles with colour, reflectance and a surface number.

Site frame: x east along the engine hall, y north, z up, hall floor at z = 0, metres.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import trimesh
from numpy.typing import NDArray

Vec = tuple[float, float, float]
SPHERE_RADIUS = 0.100
# Sphere centres: six on stands or brackets.
SPHERES: dict[str, Vec] = {
    "S1": (2.2, 5.0, 1.35),
    "S2": (13.6, 1.4, 1.80),
    "S3": (20.4, 5.2, 1.10),
    "S4": (26.6, 4.6, 1.50),
    "S5": (13.0, 9.2, -2.10),
    "S6": (14.0, -4.5, 1.30),
}


@dataclass(frozen=True)
class Ball:
    """A sphere target: centre and radius, metres."""

    centre: Vec
    radius: float = SPHERE_RADIUS


@dataclass(frozen=True)
class Board:
    """A quadrant board: centre, outward normal, edge (metres), and its turn in its own plane from upright, radians."""

    centre: Vec
    out: Vec
    size: float = 0.3
    roll: float = 0.0

    def axes(self) -> tuple[NDArray, NDArray, NDArray]:
        """(right, up, out) unit vectors of the board."""
        n = np.array(self.out, float) / np.linalg.norm(self.out)
        flat = np.cross([0, 0, 1.0], n) if abs(n[2]) < 0.95 else np.cross([0, 1.0, 0], n)
        u = flat / np.linalg.norm(flat)
        v = np.cross(n, u)
        c, s = np.cos(self.roll), np.sin(self.roll)
        return c * u + s * v, c * v - s * u, n


@dataclass(frozen=True)
class Mirror:
    """What turns light back: centre, outward normal, width and height (metres), and the share of the rays that it turns back. A mirror on
    a wall turns all of them; a wet floor some."""

    centre: Vec
    out: Vec
    width: float
    height: float
    share: float = 1.0

    def axes(self) -> tuple[NDArray, NDArray, NDArray]:
        """(right, up, out) unit vectors."""
        return Board(self.centre, self.out).axes()


@dataclass(frozen=True)
class Puff:
    """What hangs in the air: of the beams that pass through the middle of a ball (centre, radius, metres), a share meet some of it."""

    centre: Vec
    radius: float
    share: float


BOARDS: dict[str, Board] = {
    "B1": Board((6.0, 0.012, 1.6), (0, 1, 0)),
    "B2": Board((17.0, 11.988, 2.0), (0, -1, 0)),
    "B3": Board((23.988, 8.5, 1.9), (-1, 0, 0)),
    "B4": Board((30.988, 2.0, 1.5), (-1, 0, 0)),
    "B5": Board((21.988, 8.0, -1.8), (-1, 0, 0)),
    "B6": Board((5.0, -0.312, 1.7), (0, -1, 0)),
}
# Station name -> (x, y, floor height under the tripod)
STATIONS: dict[str, Vec] = {
    "ST-01": (4.2, 3.0, 0.0),
    "ST-02": (11.2, 5.4, 0.0),
    "ST-03": (17.6, 8.8, 0.0),
    "ST-04": (21.6, 2.9, 0.0),
    "ST-05": (25.3, 2.5, 0.0),
    "ST-06": (28.6, 4.3, 0.0),
    "ST-07": (2.9, 8.9, -0.9),
    "ST-08": (7.6, 8.8, -3.2),
    "ST-09": (17.5, 9.1, -3.2),
    "ST-10": (10.1, -1.6, 0.0),
    "ST-11": (22.5, -9.5, -0.15),
    "ST-12": (0.5, -8.6, -0.15),
}


@dataclass
class Scene:
    """vertices (v, 3), faces (f, 3), and per face: surface number, reflectance 0..1, colour (f, 3) uint8; and targets."""

    spheres: dict[str, Ball] = field(default_factory=dict)
    boards: dict[str, Board] = field(default_factory=dict)
    mirrors: list[Mirror] = field(default_factory=list)
    air: list[Puff] = field(default_factory=list)
    _parts: list[tuple[NDArray, NDArray, NDArray, float, Vec]] = field(default_factory=list)
    _surfaces: int = 0

    def add(self, mesh: trimesh.Trimesh, colour: Vec, reflectance: float = 0.5, by_face_normal: bool = False) -> None:
        faces = np.asarray(mesh.faces)
        if by_face_normal:
            key = np.round(mesh.face_normals, 2) @ np.array([1.0, 7.0, 49.0])
            _, label = np.unique(np.round(key, 2), return_inverse=True)
        else:
            label = np.zeros(len(faces), dtype=int)
        self._parts.append((np.asarray(mesh.vertices), faces, label + self._surfaces, reflectance, colour))
        self._surfaces += int(label.max()) + 1

    def box(self, low: Vec, high: Vec, colour: Vec, reflectance: float = 0.5) -> None:
        low_, high_ = np.array(low), np.array(high)
        mesh = trimesh.creation.box(high_ - low_)
        mesh.apply_translation((low_ + high_) / 2)
        self.add(mesh, colour, reflectance, by_face_normal=True)

    def tube(self, a: Vec, b: Vec, radius: float, colour: Vec, reflectance: float = 0.5, sides: int = 96) -> None:
        mesh = trimesh.creation.cylinder(radius=radius, segment=np.array([a, b]), sections=sides)
        self.add(mesh, colour, reflectance)

    def wall(
        self,
        axis: int,
        at: float,
        thick: float,
        span: tuple[float, float],
        height: tuple[float, float],
        holes: list[tuple[float, float, float, float]],
        colour: Vec,
        reflectance: float = 0.55,
    ) -> None:
        """A wall across ``axis`` (0: x fixed, 1: y fixed) with holes (from, to, bottom, top)."""
        cuts_u = sorted({span[0], span[1], *(h[0] for h in holes), *(h[1] for h in holes)})
        cuts_z = sorted({height[0], height[1], *(h[2] for h in holes), *(h[3] for h in holes)})
        for u0, u1 in zip(cuts_u, cuts_u[1:], strict=False):
            for z0, z1 in zip(cuts_z, cuts_z[1:], strict=False):
                u, z = (u0 + u1) / 2, (z0 + z1) / 2
                if any(h[0] < u < h[1] and h[2] < z < h[3] for h in holes):
                    continue
                low, high = ((at, u0, z0), (at + thick, u1, z1)) if axis == 0 else ((u0, at, z0), (u1, at + thick, z1))
                self.box(low, high, colour, reflectance)

    def arrays(self) -> tuple[NDArray, NDArray, NDArray, NDArray, NDArray]:
        vertices, faces, surface, reflect, colour, base = [], [], [], [], [], 0
        for v, f, s, r, c in self._parts:
            vertices.append(v)
            faces.append(f + base)
            surface.append(s)
            reflect.append(np.full(len(f), r))
            colour.append(np.tile(np.array(c) * 255, (len(f), 1)))
            base += len(v)
        return (
            np.concatenate(vertices),
            np.concatenate(faces),
            np.concatenate(surface),
            np.concatenate(reflect),
            np.concatenate(colour).astype(np.uint8),
        )


BRICK, PLASTER, CONCRETE, STEEL = (0.62, 0.36, 0.28), (0.82, 0.80, 0.74), (0.56, 0.56, 0.54), (0.36, 0.42, 0.46)
GREEN, RED, DARK, GRASS = (0.16, 0.42, 0.32), (0.64, 0.16, 0.14), (0.12, 0.12, 0.13), (0.34, 0.42, 0.22)


def engine_hall(s: Scene) -> None:
    # floor in pieces round the stair opening x 1.6..6.4, y 8.1..9.7
    for low, high in (((0, 0), (24.3, 8.1)), ((0, 9.7), (24.3, 12)), ((0, 8.1), (1.6, 9.7)), ((6.4, 8.1), (24.3, 9.7))):
        s.box((*low, -0.3), (*high, 0.0), (0.50, 0.48, 0.45), 0.4)
    windows = [(x, x + 1.6, 3.2, 5.6) for x in (2.0, 6.0, 14.0, 18.5)]
    s.wall(1, -0.3, 0.3, (-0.3, 24.3), (-0.15, 7.0), [(8.2, 12.0, 0.0, 4.0), *windows], BRICK)
    s.wall(1, 12.0, 0.3, (-0.3, 24.3), (-0.15, 7.0), [(x + 0.7, x + 2.3, 3.4, 5.8) for x in (3.0, 10.0, 16.0, 20.0)], BRICK)
    s.wall(0, -0.3, 0.3, (0, 12), (-0.15, 7.0), [(5.0, 7.4, 3.0, 5.5)], BRICK)
    s.wall(0, 24.0, 0.3, (0, 12), (0.0, 7.0), [(2.0, 3.15, 0.0, 2.25)], PLASTER)
    for x in (0.0, 3.9, 8.0, 12.1, 16.0, 20.0, 23.6):
        for y in (0.0, 11.6):
            s.box((x, y, 0), (x + 0.4, y + 0.4, 6.2), PLASTER, 0.6)
    for y in (0.35, 11.35):
        s.box((0, y, 5.75), (24, y + 0.3, 6.2), STEEL, 0.35)
    s.box((14.6, 0.4, 6.25), (15.3, 11.6, 6.85), (0.72, 0.58, 0.12), 0.5)  # crane bridge
    s.box((14.7, 6.4, 5.7), (15.2, 7.3, 6.25), RED, 0.4)
    s.tube((14.95, 6.8, 4.2), (14.95, 6.8, 5.7), 0.03, DARK, 0.2, 24)
    for x in np.arange(1.5, 24, 3.5):  # trusses: bottom chord, two rafters, king post
        s.box((x, 0, 7.0), (x + 0.14, 12, 7.18), STEEL, 0.35)
        s.tube((x + 0.07, 0, 7.2), (x + 0.07, 6, 9.3), 0.07, STEEL, 0.35, 16)
        s.tube((x + 0.07, 12, 7.2), (x + 0.07, 6, 9.3), 0.07, STEEL, 0.35, 16)
        s.tube((x + 0.07, 6, 7.1), (x + 0.07, 6, 9.3), 0.05, STEEL, 0.35, 16)
    for y0, y1 in ((-0.4, 6.0), (12.4, 6.0)):
        roof = trimesh.Trimesh([(-0.4, y0, 7.25), (24.4, y0, 7.25), (24.4, y1, 9.45), (-0.4, y1, 9.45)], [(0, 1, 2), (0, 2, 3)])
        s.add(roof, (0.42, 0.30, 0.22), 0.4)
    for x in (-0.3, 24.0):
        s.add(trimesh.Trimesh([(x, 0, 7.0), (x, 12, 7.0), (x, 6, 9.3)], [(0, 1, 2)]), BRICK, 0.5)
    for x, r in ((7.2, 0.95), (17.0, 0.80)):  # pump sets: plinth, motor, volute, pipes
        s.box((x - 1.6, 4.6, 0), (x + 2.1, 7.6, 0.45), CONCRETE, 0.5)
        s.tube((x - 1.2, 6.1, 1.55), (x + 0.6, 6.1, 1.55), r, GREEN, 0.45)
        s.tube((x + 0.6, 6.1, 1.55), (x + 1.3, 6.1, 1.55), 0.28, STEEL, 0.4)
        s.tube((x + 1.5, 5.3, 1.35), (x + 1.5, 6.9, 1.35), 0.55, GREEN, 0.45)
        s.tube((x + 1.5, 7.0, 1.35), (x + 1.5, 11.9, 1.35), 0.275, (0.2, 0.34, 0.5), 0.45)
    s.tube((10.6, 2.6, 0), (10.6, 2.6, 2.9), 0.62, (0.5, 0.5, 0.54), 0.5)  # air vessel
    s.box((0.05, 0.9, 0), (0.6, 3.6, 2.1), (0.55, 0.57, 0.5), 0.5)  # switchgear, west wall
    s.box((19.6, 0.45, 0), (22.6, 1.0, 1.95), (0.55, 0.57, 0.5), 0.5)
    s.box((12.6, 10.6, 0), (15.4, 11.5, 0.9), (0.45, 0.33, 0.2), 0.4)  # bench
    s.box((22.2, 9.6, 0), (23.5, 11.4, 1.3), (0.45, 0.33, 0.2), 0.4)
    for x in (1.5, 6.45):  # hand rail round the stair
        for y in (8.05, 9.72):
            s.tube((x, y, 0), (x, y, 1.1), 0.03, DARK, 0.25, 16)
    s.tube((1.5, 8.05, 1.1), (6.45, 8.05, 1.1), 0.025, DARK, 0.25, 16)
    s.tube((1.5, 9.72, 1.1), (6.45, 9.72, 1.1), 0.025, DARK, 0.25, 16)


def gallery(s: Scene) -> None:
    s.box((1.4, 6.9, -3.5), (22.3, 11.2, -3.2), CONCRETE, 0.5)
    s.wall(1, 6.7, 0.2, (1.4, 22.3), (-3.2, -0.3), [], CONCRETE)
    s.wall(1, 11.0, 0.2, (1.4, 22.3), (-3.2, -0.3), [], CONCRETE)
    s.wall(0, 1.4, 0.2, (6.9, 11.0), (-3.2, -0.3), [], CONCRETE)
    s.wall(0, 22.0, 0.3, (6.9, 11.0), (-3.2, -0.3), [], CONCRETE)
    s.box((1.6, 8.1, -0.98), (3.6, 9.7, -0.9), STEEL, 0.4)  # landing, then steps down to the east
    for k in range(11):
        z = -0.9 - (k + 1) * 2.3 / 12
        s.box((3.6 + k * 0.25, 8.1, z - 0.05), (3.87 + k * 0.25, 9.0, z), STEEL, 0.4)
    for y, z, r in ((10.5, -1.2, 0.275), (10.45, -2.2, 0.22), (7.25, -0.9, 0.11), (7.2, -1.5, 0.08)):
        s.tube((1.6, y, z), (22.0, y, z), r, (0.2, 0.34, 0.5), 0.45)
    for x in (4.7, 8.9, 12.4, 15.1, 19.3):  # valves and supports at uneven steps
        s.tube((x, 10.5, -1.2), (x + 0.35, 10.5, -1.2), 0.42, RED, 0.45)
        s.box((x + 0.8, 10.2, -3.2), (x + 0.95, 10.8, -2.42), STEEL, 0.4)
    for x, w in ((6.9, 0.5), (11.2, 0.35), (16.4, 0.6)):
        s.box((x, 6.9, -3.2), (x + w, 7.5, -2.1), (0.5, 0.46, 0.36), 0.45)
        s.box((x + 0.2, 6.9, -0.75), (x + 0.45, 11.0, -0.3), CONCRETE, 0.5)
    s.box((19.8, 7.2, -3.2), (21.4, 8.3, -2.5), GREEN, 0.45)
    s.tube((20.6, 7.75, -2.5), (20.6, 7.75, -1.5), 0.35, GREEN, 0.45)
    s.box((11.0, 9.6, -3.2), (12.6, 10.0, -2.7), (0.5, 0.46, 0.36), 0.45)


def control_room(s: Scene) -> None:
    s.box((24.3, -0.2, -0.3), (31.2, 6.2, 0.0), (0.52, 0.50, 0.46), 0.5)
    s.box((24.3, -0.2, 3.0), (31.2, 6.2, 3.2), PLASTER, 0.7)
    s.wall(1, -0.2, 0.2, (24.3, 31.2), (0, 3.0), [(26.0, 29.6, 1.0, 2.2)], PLASTER, 0.7)
    s.wall(1, 6.0, 0.2, (24.3, 31.2), (0, 3.0), [], PLASTER, 0.7)
    s.wall(0, 31.0, 0.2, (0, 6.0), (0, 3.0), [(3.4, 5.0, 1.1, 2.2)], PLASTER, 0.7)
    s.box((26.4, 5.3, 0), (29.8, 6.0, 2.1), (0.6, 0.62, 0.58), 0.55)
    s.box((27.0, 0.5, 0.68), (29.4, 1.4, 0.75), (0.55, 0.42, 0.28), 0.5)
    s.box((27.2, 0.6, 0), (27.4, 1.3, 0.68), DARK, 0.25)
    s.box((29.0, 0.6, 0), (29.2, 1.3, 0.68), DARK, 0.25)
    s.box((24.35, 4.4, 0), (24.8, 5.8, 1.8), (0.5, 0.5, 0.55), 0.5)
    s.box((30.4, 0.1, 0), (31.0, 1.2, 1.2), (0.45, 0.33, 0.2), 0.5)
    s.tube((25.9, 5.2, 0), (25.9, 5.2, 3.0), 0.09, STEEL, 0.45, 48)


def yard(s: Scene, rng: np.random.Generator) -> None:
    s.box((-14, -24, -0.45), (40, -0.3, -0.15), GRASS, 0.3)
    s.box((-14, -0.3, -0.45), (-0.3, 16, -0.15), GRASS, 0.3)
    s.box((8.0, -1.1, -0.15), (12.2, -0.3, 0.0), CONCRETE, 0.5)  # ramp at the gate
    s.wall(1, -18.4, 0.4, (-14, 40), (-0.15, 2.4), [(12.0, 15.0, 0.9, 1.9)], CONCRETE)
    s.wall(0, 38.5, 0.3, (-18, 4), (-0.15, 2.0), [(-9.0, -5.0, -0.15, 2.0)], BRICK)
    s.box((-12.8, -14.0, -0.15), (-8.5, -7.5, 2.9), (0.5, 0.4, 0.3), 0.45)  # store
    for p in ((5.0, -13.5), (16.5, -15.2), (30.5, -12.6), (-4.5, -15.5), (33.0, -4.5)):
        s.tube((*p, -0.15), (p[0] + 0.1, p[1], 2.6), 0.16, (0.33, 0.24, 0.16), 0.3, 24)
        c = np.array([p[0], p[1], 3.9]) + rng.normal(size=(420, 3)) * [0.95, 0.95, 0.8]
        tri = c[:, None, :] + rng.normal(size=(420, 3, 3)) * 0.09
        s.add(trimesh.Trimesh(tri.reshape(-1, 3), np.arange(1260).reshape(-1, 3), process=False), (0.2, 0.4, 0.14), 0.4)
    s.box((15.6, -8.2, 0.15), (20.3, -6.2, 2.1), (0.85, 0.86, 0.86), 0.7)  # parked van
    s.box((20.3, -8.2, 0.15), (21.4, -6.2, 1.35), (0.85, 0.86, 0.86), 0.7)
    for x in (16.6, 20.4):
        for y in (-8.25, -6.35):
            s.tube((x, y, 0.18), (x, y + 0.2, 0.18), 0.33, DARK, 0.1, 48)
    for x in (-2.0, 2.5, 7.0, 26.0, 30.0, 34.0):
        s.tube((x, -4.0, -0.15), (x, -4.0, 0.95), 0.07, (0.7, 0.7, 0.66), 0.5, 32)
    s.box((27.0, -3.6, -0.15), (29.2, -2.2, 1.0), STEEL, 0.4)


def people(s: Scene, spots: list[tuple[float, float, float]]) -> None:
    for x, y, z in spots:
        s.tube((x, y, z + 0.02), (x, y, z + 1.45), 0.2, (0.85, 0.55, 0.1), 0.5, 24)
        head = trimesh.creation.icosphere(2, 0.13)
        head.apply_translation((x, y, z + 1.62))
        s.add(head, (0.75, 0.55, 0.45), 0.5)


def ottermere(seed: int, walkers: list[tuple[float, float, float]]) -> Scene:
    """The whole site, with people standing at ``walkers`` for this scan."""
    scene, rng = Scene({n: Ball(c) for n, c in SPHERES.items()}, BOARDS), np.random.default_rng(seed)
    engine_hall(scene)
    gallery(scene)
    control_room(scene)
    yard(scene, rng)
    for name, (x, y, z) in SPHERES.items():
        floor = {"S5": -3.2, "S6": -0.15}.get(name, 0.0)
        scene.tube((x, y, floor), (x, y, z - SPHERE_RADIUS), 0.015, DARK, 0.3, 12)
    people(scene, walkers)
    return scene
