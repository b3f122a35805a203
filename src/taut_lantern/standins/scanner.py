"""A simulated terrestrial scanner: structured spherical grid, noise, mixed pixels, dropouts, colour.

What it imitates of real measurement, with the size of each effect in :class:`Scanner`:
range noise growing with distance, dark and glancing surfaces; a mean of two surfaces at edges (mixed
pixels); no return from the sky, far or dark targets; one small range offset per surface and scan; a
compensator that levels almost but not quite. Truth goes only into the returned pose.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from embreex import rtcore_scene
from embreex.mesh_construction import TriangleMesh
from numpy.typing import NDArray

from ..core import frames
from ..core.scan.scan import Scan
from .scene import Ball, Board, Mirror, Puff, Scene


@dataclass(frozen=True)
class Scanner:
    points: int = 800_000  # grid directions per full turn
    noise: float = 0.0012  # metres at 0 m on a mid-grey surface
    noise_per_metre: float = 3e-5
    surface_offset: float = 0.0004  # metres, one draw per surface and scan; 0 switches it off
    level_error: float = 5e-5  # radians
    lean: float = 0.0  # radians that the tripod leans, about a level axis drawn for each scan
    lowest: float = -math.radians(62)
    longest: float = 90.0  # metres
    mixed: float = 0.15  # share of the beams on an edge that meet both surfaces
    beam: float = 0.0  # radians: deviation of the light round its ray, which blurs the pattern of boards

    def grid(self) -> tuple[NDArray, NDArray]:
        """(rows,) elevation and (columns,) azimuth in radians, equal steps."""
        step = math.sqrt(2 * math.pi * (math.pi / 2 - self.lowest) / self.points)
        columns = int(round(2 * math.pi / step))
        rows = int((math.pi / 2 - self.lowest) / step)
        return self.lowest + step * (np.arange(rows) + 0.5), 2 * math.pi * (np.arange(columns) + 0.5) / columns - math.pi


def _spheres(
    balls: dict[str, Ball],
    origin: NDArray,
    direction: NDArray,
    distance: NDArray,
    colour: NDArray,
    reflect: NDArray,
    normal: NDArray,
    surface: NDArray,
    first: int,
) -> None:
    """Exact spheres in front of what the rays met (in place)."""
    for k, ball in enumerate(balls.values()):
        to = np.array(ball.centre) - origin
        along = direction @ to
        closest2 = float(to @ to) - along**2
        hit = np.nonzero((along > 0) & (closest2 < ball.radius**2))[0]
        t = along[hit] - np.sqrt(ball.radius**2 - closest2[hit])
        hit, t = hit[t < distance[hit]], t[t < distance[hit]]
        distance[hit], colour[hit], reflect[hit], surface[hit] = t, 240, 0.8, first + k
        normal[hit] = (origin + direction[hit] * t[:, None] - ball.centre) / ball.radius


def _boards(
    boards: dict[str, Board],
    origin: NDArray,
    direction: NDArray,
    distance: NDArray,
    colour: NDArray,
    reflect: NDArray,
    normal: NDArray,
    beam: float,
    rng: np.random.Generator,
) -> None:
    """Quadrant boards (in place). A beam that is wider than its ray sees the mean of what lies under it."""
    for board in boards.values():
        right, up, n = board.axes()
        c, half = np.array(board.centre), board.size / 2
        facing = direction @ n
        with np.errstate(divide="ignore", invalid="ignore"):
            t = np.where(facing < -0.05, ((c - origin) @ n) / facing, np.inf)
        near = np.nonzero((t > 0) & (t * (1 - 3 * beam) < distance))[0]
        p = origin + direction[near] * t[near, None] - c
        near = near[(np.abs(p @ right) < half + 6 * beam * t[near]) & (np.abs(p @ up) < half + 6 * beam * t[near])]
        light = direction[near, None] + (beam * rng.standard_normal((len(near), 24, 3)) if beam else 0.0)
        at = origin + light * (((c - origin) @ n) / (light @ n))[..., None] - c
        u, v = at @ right, at @ up
        inside = (np.abs(u) < half) & (np.abs(v) < half)
        share, own = inside.mean(axis=1), np.where(inside, np.where(u * v > 0, 0.85, 0.06), 0).mean(axis=1)
        p = origin + direction[near] * t[near, None] - c
        on = (np.abs(p @ right) < half) & (np.abs(p @ up) < half) & (t[near] < distance[near])
        reflect[near] = own + (1 - share) * reflect[near]
        distance[near[on]], normal[near[on]] = t[near[on]], n
        colour[near[on]] = (15 + (reflect[near[on]] - 0.06) / 0.79 * 230)[:, None]


def _in_the_air(air: list[Puff], origin: NDArray, ray: NDArray, distance: NDArray, reflect: NDArray, rng: np.random.Generator) -> NDArray:
    """Which rays meet something that hangs in the air, at any place of their way through it (in place)."""
    out = np.zeros(len(ray), bool)
    for puff in air:
        to = np.array(puff.centre) - origin
        along = ray @ to
        half = np.sqrt(np.maximum(puff.radius**2 - (float(to @ to) - along**2), 0.0))
        low, high = np.maximum(along - half, 0.4), along + half
        at = low + rng.random(len(ray)) * (high - low)
        met = (high > low) & (rng.random(len(ray)) < puff.share * (high - low) / (2 * puff.radius)) & (at < distance - 0.05)
        distance[met], reflect[met] = at[met], 0.15
        out |= met
    return out


@dataclass(frozen=True)
class _Back:
    """rays (m,) numbers of those that a mirror turns back, where (m, 3), how far on (m,), and which way they go then (m, 3)."""

    rays: NDArray
    at: NDArray
    far: NDArray
    way: NDArray


def _turned_back(mirror: Mirror, origin: NDArray, ray: NDArray, distance: NDArray, rng: np.random.Generator) -> _Back:
    right, up, n = mirror.axes()
    c = np.array(mirror.centre)
    facing = ray @ n
    with np.errstate(divide="ignore", invalid="ignore"):
        t = np.where(facing < -0.02, ((c - origin) @ n) / facing, np.inf)
    near = np.nonzero((t > 0) & (t < distance + 0.004))[0]
    p = origin + ray[near] * t[near, None]
    inside = (np.abs((p - c) @ right) < mirror.width / 2) & (np.abs((p - c) @ up) < mirror.height / 2)
    inside &= rng.random(len(near)) < mirror.share
    near, p = near[inside], p[inside]
    way = ray[near] - 2 * facing[near, None] * n
    return _Back(near, p + 0.01 * way, t[near] + 0.01, way)


def scan(scene: Scene, position: tuple[float, float, float], yaw: float, seed: int, scanner: Scanner) -> tuple[Scan, NDArray]:
    """One scan and its true pose (4, 4) station -> site.

    position : metres, site frame, centre of the instrument; yaw : radians, its zero direction.
    """
    rng = np.random.default_rng(seed)
    elevation, azimuth = scanner.grid()
    tilt = frames.small(np.array([*rng.normal(0, scanner.level_error, 2), 0, 0, 0, 0]))
    if scanner.lean:
        towards = rng.uniform(0, 2 * math.pi)
        tilt = frames.small(scanner.lean * np.array([math.cos(towards), math.sin(towards), 0, 0, 0, 0])) @ tilt
    truth = frames.pose(yaw, position) @ tilt
    el, az = np.repeat(elevation, len(azimuth)), np.tile(azimuth, len(elevation))
    beam = np.stack([np.cos(el) * np.cos(az), np.cos(el) * np.sin(az), np.sin(el)], axis=1)
    ray = beam @ truth[:3, :3].T
    origin = truth[:3, 3]

    vertices, faces, surface_of, reflect_of, colour_of = scene.arrays()
    local = (vertices - origin).astype(np.float32)
    world = rtcore_scene.EmbreeScene()
    TriangleMesh(world, local, faces.astype(np.int32))
    met = world.run(np.zeros((len(ray), 3), np.float32), ray.astype(np.float32), query="INTERSECT", output=True)["primID"]
    hit = met >= 0
    corner = vertices[faces] - origin
    normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
    face = np.where(hit, met, 0)
    normal = normal[face]
    with np.errstate(divide="ignore", invalid="ignore"):
        distance = np.where(hit, np.einsum("ij,ij->i", corner[face, 0], normal) / np.einsum("ij,ij->i", ray, normal), np.inf)
    surface = np.where(hit, surface_of[face], -1)
    reflect, colour = np.where(hit, reflect_of[face], 0.0), np.where(hit[:, None], colour_of[face], 0).astype(float)
    last = int(surface_of.max()) + 1
    _spheres(scene.spheres, origin, ray, distance, colour, reflect, normal, surface, last)
    _boards(scene.boards, origin, ray, distance, colour, reflect, normal, scanner.beam, rng)
    way = ray
    if scene.mirrors:
        way = ray.copy()
        for mirror in scene.mirrors:
            back = _turned_back(mirror, origin, ray, distance, rng)
            at, to = back.at, back.way
            met = world.run((at - origin).astype(np.float32), to.astype(np.float32), query="INTERSECT", output=True)["primID"]
            face = np.where(met >= 0, met, 0)
            flat = np.cross(corner[face, 1] - corner[face, 0], corner[face, 2] - corner[face, 0])
            flat /= np.maximum(np.linalg.norm(flat, axis=1, keepdims=True), 1e-12)
            on = np.einsum("ij,ij->i", corner[face, 0] - (at - origin), flat) / np.einsum("ij,ij->i", to, flat)
            distance[back.rays] = np.where(met >= 0, back.far + on, np.inf)
            normal[back.rays], way[back.rays], surface[back.rays] = flat, to, surface_of[face]
            reflect[back.rays], colour[back.rays] = 0.8 * reflect_of[face], 0.8 * colour_of[face]
    cosine = np.abs(np.einsum("ij,ij->i", way, normal))

    ok = np.isfinite(distance) & (distance < scanner.longest) & (distance > 0.4)
    ok &= rng.random(len(ok)) > np.clip(0.002 + 0.00004 * distance / np.maximum(reflect * cosine, 0.01), 0, 0.9)
    image = np.where(ok, distance, np.inf).reshape(len(elevation), len(azimuth))
    mixed = image.copy()
    for axis in (0, 1):  # a beam on an edge sees part of both surfaces; on a plane seen at a glancing angle it does not
        other = np.roll(image, 1, axis)
        with np.errstate(invalid="ignore"):
            jump = np.abs(other - image)
        edge = (jump > 0.05) & (jump < 3.0) & (rng.random(image.shape) < scanner.mixed)
        here = np.flatnonzero(edge)
        there = np.roll(np.arange(image.size).reshape(image.shape), 1, axis).flat[here]
        gap = ray[there] * image.flat[there][:, None] - ray[here] * image.flat[here][:, None]
        edge.flat[here] = np.abs(np.einsum("ij,ij->i", gap, normal[here])) > 0.02
        share = rng.random(image.shape)
        mixed[edge] = (share * image)[edge] + ((1 - share) * other)[edge]
    distance = mixed.reshape(-1)
    if scene.air:
        ok |= _in_the_air(scene.air, origin, ray, distance, reflect, np.random.default_rng((seed, len(scene.air))))
    sigma = (scanner.noise + scanner.noise_per_metre * np.minimum(distance, 200)) * np.clip(
        0.5 / np.maximum(reflect, 0.05), 0.7, 2.5
    ) ** 0.5
    sigma *= np.clip(1 / np.maximum(cosine, 0.1), 1, 4) ** 0.5
    offsets = rng.normal(0, scanner.surface_offset, last + len(scene.spheres) + 1)
    measured = distance + sigma * rng.standard_normal(len(distance)) + offsets[surface]
    keep = np.nonzero(ok)[0]
    intensity = np.clip(reflect * (0.35 + 0.65 * cosine) * (1 + 0.06 * rng.standard_normal(len(reflect))), 0, 1)
    shade = np.clip(0.55 + 0.45 * cosine, 0, 1)[:, None]
    rgb = np.clip(colour * shade * (1 + 0.04 * rng.standard_normal((len(colour), 1))), 0, 255)
    rows, columns = np.divmod(keep, len(azimuth))
    return Scan(
        (beam[keep] * measured[keep, None]).astype(np.float32),
        intensity[keep].astype(np.float32),
        rgb[keep].astype(np.uint8),
        rows.astype(np.int32),
        columns.astype(np.int32),
    ), truth
