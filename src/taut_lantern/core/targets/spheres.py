"""Find spheres of known radius in a scan, with centre, fit and standard deviation.

Terms: r known radius; u unit ray; c centre in the station's frame; b = u.c; the range to the near face is
b - sqrt(b^2 - |c|^2 + r^2). The fit minimises range residuals, because the range carries the noise.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..kernels.targets import LIMB, fit_centre, ranges, sphere_gate
from ..scan.grid import Grid

Array = NDArray[np.float64]
FEWEST = 9  # points on a face; below CONFIRMED a radius 7 mm off fits as well
CONFIRMED = 25
WHOLE = 0.78  # of the rays within its silhouette that nothing nearer stopped: what is no sphere has seven tenths at most
PRIOR = 4.0  # degrees of freedom that the noise of the whole scan is worth beside a sphere's own residuals
OFFSET = 0.0002  # metres along the beam that the ranges of one surface may be off together, which no residual shows


@dataclass(frozen=True)
class SphereSighting:
    """centre (3,) metres station frame; covariance (3, 3) m^2; rms m; points on the face; remark for people."""

    centre: Array
    radius: float
    covariance: Array
    rms: float
    points: int
    free_radius: float
    free_radius_sigma: float
    remark: str

    @property
    def confirmed(self) -> bool:
        """Whether its own points tell its radius from others."""
        return self.points >= CONFIRMED and self.free_radius_sigma <= 0.1 * self.radius


def range_noise(grid: Grid) -> float:
    """Single-point range noise (metres) from second differences along rows, median of the quiet half."""
    rho = np.linalg.norm(grid.image[::3].astype(float), axis=2)
    d2 = rho[:, 2:] - 2 * rho[:, 1:-1] + rho[:, :-2]
    ok = (rho[:, 2:] > 0) & (rho[:, 1:-1] > 0) & (rho[:, :-2] > 0) & (np.abs(d2) < 0.02)
    return float(np.clip(np.median(np.abs(d2[ok])) / 0.6745 / math.sqrt(6), 3e-4, 0.005)) if ok.any() else 0.001


def fit_sphere(grid: Grid, start: Array, radius: float, noise: float, rho: NDArray[np.float32] | None = None) -> SphereSighting | None:
    """Fit from a start within about half a radius; None when what is there is no such sphere. rho: ranges of the grid, if known."""
    seen = _fitted(grid, ranges(grid.image) if rho is None else rho, start, radius, noise)
    return seen if isinstance(seen, SphereSighting) else None


def _fitted(grid: Grid, rho: NDArray[np.float32], start: Array, radius: float, noise: float) -> SphereSighting | str:
    """The sighting, or why what is there is no sphere of this radius."""
    centre = start.astype(float)
    alpha = math.asin(min(0.99, radius / float(np.linalg.norm(start))))
    room = int(7 * (alpha / grid.geo[3] + 3) * (alpha / (grid.geo[1] * 0.1) + 3)) if abs(start[2]) > 0.9 * np.linalg.norm(start) else 0
    room = room or int(8 * (alpha / grid.geo[3] + 3) * (alpha / (grid.geo[1] * 0.4) + 3))
    pixels, kept = np.empty((min(room, 400_000), 4)), np.zeros(min(room, 400_000), np.bool_)
    n, _, missing = fit_centre(grid.image, rho, grid.geo, grid.wrap, centre, radius, noise, pixels, kept)
    distance = float(np.linalg.norm(centre))
    if n == 0 or distance < 2 * radius:
        return "nothing round"
    u, q, kept = pixels[:n, :3], pixels[:n, 3], kept[:n]
    b = u @ centre
    root = np.sqrt(np.maximum(b**2 - distance**2 + radius**2, 1e-10))
    cosine, residual = root / radius, q - (b - root)
    inside = kept & (np.abs(residual) * np.sqrt(cosine) < max(4 * noise, 0.004))
    count = int(inside.sum())
    before = int((residual < -1.5 * radius).sum())  # rays that something nearer stopped have no say
    lean = math.hypot(centre[0], centre[1]) / distance
    face = math.pi * (LIMB * math.asin(radius / distance)) ** 2 / (grid.geo[1] * grid.geo[3] * max(lean, 0.1))
    if count < FEWEST or count < 0.5 * face:
        return "too little of its face"
    if count < WHOLE * (n - before) or missing > 0.25 * face:
        return "holes in its face"
    u, residual, cosine, root, b = u[inside], residual[inside], cosine[inside], root[inside], b[inside]
    level = float(np.mean(cosine * residual**2))
    if level / noise**2 > 1.3 + (3 if count >= 12 else 1.5) * math.sqrt(2 / count):
        return "too rough"
    grown = (PRIOR * noise**2 + count * level) / (PRIOR + count - 3)  # variance of a ray that hits squarely
    jac = np.column_stack([u - (b[:, None] * u - centre) / root[:, None], -radius / root])
    normal = (jac * cosine[:, None]).T @ jac
    free = np.linalg.solve(normal + 1e-9 * np.trace(normal) * np.eye(4), (jac * cosine[:, None]).T @ residual)
    free_sigma = math.sqrt(grown * float(np.linalg.inv(normal + 1e-12 * np.trace(normal) * np.eye(4))[3, 3]))
    if abs(free[3]) > 3.5 * free_sigma + 0.0005 or free_sigma > 0.25 * radius:
        return "another radius"
    if not _round(u * (b - root + residual)[:, None] - centre, centre / distance, radius, math.sqrt(grown)):
        return "not round"
    view = centre / distance
    covariance = grown * np.linalg.inv(normal[:3, :3]) + OFFSET**2 * np.outer(view, view)
    side = (u - (u @ view)[:, None] * view).mean(axis=0)  # where on the face its points lie
    remark = _remark(count, face, free_sigma, radius, float(np.linalg.norm(side)) * distance / radius)
    return SphereSighting(centre, radius, covariance, math.sqrt(level), count, radius + float(free[3]), free_sigma, remark)


def _remark(count: int, face: float, free_sigma: float, radius: float, side: float) -> str:
    """What makes a sighting doubtful, for people. side: how far the middle of its points lies beside its own, in radii."""
    if count < CONFIRMED or free_sigma > 0.1 * radius:
        return "radius not confirmed" if count >= 12 else "few points: its radius is not confirmed"
    if side > 0.22 or count < 0.6 * face:
        return "one-sided: part of it is hidden"
    return ""


def _round(p: Array, view: Array, radius: float, sigma: float) -> bool:
    """Curved in both directions: a pipe of the same radius is not. p : (n, 3) from the centre; view: unit, along the beam."""
    e1 = np.cross(view, [0.0, 0, 1]) if abs(view[2]) < 0.9 else np.cross(view, [1.0, 0, 0])
    e1 /= np.linalg.norm(e1)
    e2 = np.cross(view, e1)
    x, y, z = p @ e1, p @ e2, p @ view
    a = np.stack([x * x, x * y, y * y, x, y, np.ones(len(x))], axis=1)
    q, *_ = np.linalg.lstsq(a, z, rcond=None)
    curvature = np.linalg.eigvalsh(np.array([[2 * q[0], q[1]], [q[1], 2 * q[2]]]))
    uncertain = sigma * np.sqrt(np.diag(np.linalg.pinv(a.T @ a)))
    return bool(curvature[0] > 0.4 / radius - 2 * 2 * uncertain[0] and curvature[0] > 0.2 / radius)


def find_spheres(grid: Grid, radii: list[float]) -> list[SphereSighting]:
    """All spheres of the given radii (metres) in a scan, the surest first."""
    noise, rho = range_noise(grid), ranges(grid.image)
    found: list[SphereSighting] = []
    for radius in radii:
        gate = np.full(rho.shape, -1, np.float32)
        if not sphere_gate(rho, grid.geo, grid.wrap, radius, gate):
            continue
        rc = np.argwhere(gate >= 0)
        rc = rc[np.argsort(gate[rc[:, 0], rc[:, 1]], kind="stable")]
        start = grid.image[rc[:, 0], rc[:, 1]].astype(float)
        start *= 1 + radius / np.linalg.norm(start, axis=1, keepdims=True)
        free = np.ones(len(start), bool)
        for k in range(len(start)):
            if not free[k]:
                continue
            free &= ((start - start[k]) ** 2).sum(axis=1) > (0.35 * radius) ** 2
            fit = fit_sphere(grid, start[k], radius, noise, rho)
            if fit is None:
                continue
            free &= ((start - fit.centre) ** 2).sum(axis=1) > radius**2
            rival = next((f for f in found if np.linalg.norm(fit.centre - f.centre) < 0.8 * radius), None)
            if rival is None:
                found.append(fit)
            elif abs(fit.free_radius - radius) / fit.free_radius_sigma < abs(rival.free_radius - rival.radius) / rival.free_radius_sigma:
                found = [fit if f is rival else f for f in found]  # two radii fit: the nearer one
    return sorted(found, key=lambda f: -f.points)
