"""Find spheres of known radius in a scan, with centre, fit and standard deviation.

Terms: r known radius; u unit ray; c centre in the station's frame; b = u.c; the range to the near face is
b - sqrt(b^2 - |c|^2 + r^2). The fit minimises range residuals, because the range carries the noise.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..kernels.targets import sphere_gate
from ..scan.grid import Grid

Array = NDArray[np.float64]


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


def range_noise(grid: Grid) -> float:
    """Single-point range noise (metres) from second differences along rows, median of the quiet half."""
    rho = np.linalg.norm(grid.image[::3].astype(float), axis=2)
    d2 = rho[:, 2:] - 2 * rho[:, 1:-1] + rho[:, :-2]
    ok = (rho[:, 2:] > 0) & (rho[:, 1:-1] > 0) & (rho[:, :-2] > 0) & (np.abs(d2) < 0.02)
    return float(np.clip(np.median(np.abs(d2[ok])) / 0.6745 / math.sqrt(6), 3e-4, 0.005)) if ok.any() else 0.001


def _pixels(grid: Grid, centre: Array, radius: float, share: float) -> tuple[Array, Array]:
    """(unit rays (n, 3), ranges (n,)) of pixels within ``share`` of the silhouette."""
    distance = float(np.linalg.norm(centre))
    alpha = math.asin(min(0.99, radius / distance))
    az, el = math.atan2(centre[1], centre[0]), math.asin(centre[2] / distance)
    rows, columns = grid.image.shape[:2]
    r0, c0 = (el - grid.geo[2]) / grid.geo[3], ((az - grid.geo[0]) % (2 * math.pi)) / grid.geo[1]
    dr = int(alpha / grid.geo[3]) + 2
    dc = int(alpha / (grid.geo[1] * max(math.cos(el), 0.1))) + 2
    rr = np.arange(max(0, int(r0) - dr), min(rows, int(r0) + dr + 1))
    cc = np.arange(int(c0) - dc, int(c0) + dc + 1)
    cc = cc % columns if grid.wrap else cc[(cc >= 0) & (cc < columns)]
    p = grid.image[np.ix_(rr, cc)].reshape(-1, 3).astype(float)
    rho = np.linalg.norm(p, axis=1)
    p, rho = p[rho > 0], rho[rho > 0]
    u = p / rho[:, None]
    inside = np.arccos(np.clip(u @ centre / distance, -1, 1)) < share * alpha
    return u[inside], rho[inside]


def _model(u: Array, centre: Array, radius: float) -> tuple[Array, Array, Array]:
    """Predicted ranges, their gradient by centre (n, 3), and by radius (n,)."""
    b = u @ centre
    root = np.sqrt(np.maximum(b**2 - centre @ centre + radius**2, 1e-12))
    return b - root, u - (b[:, None] * u - centre) / root[:, None], -radius / root


def fit_sphere(grid: Grid, start: Array, radius: float, noise: float) -> SphereSighting | None:
    """Fit from a start within about half a radius; None when what is there is no such sphere."""
    centre, clip = start.copy(), max(0.5 * radius, 0.02)
    inliers = np.zeros(0)
    for k in range(14):
        u, rho = _pixels(grid, centre, radius, 0.93)
        if len(rho) < 9:
            return None
        model, jac, _ = _model(u, centre, radius)
        residual = rho - model
        inside = np.abs(residual) < clip
        if inside.sum() < 9:
            return None
        step = np.linalg.lstsq(jac[inside], residual[inside], rcond=None)[0]
        centre = centre + np.clip(step, -0.5 * radius, 0.5 * radius)
        inliers = residual[inside]
        clip = max(4 * noise, 0.6 * clip, 3 * float(np.sqrt(np.mean(inliers**2))) if k > 8 else 0)
        if k > 8 and np.linalg.norm(step) < 1e-6:
            break
    u, rho = _pixels(grid, centre, radius, 0.93)
    model, jac, jac_r = _model(u, centre, radius)
    inside = np.abs(rho - model) < max(4 * noise, 0.004)
    n = int(inside.sum())
    if n < 12 or n < 0.6 * len(rho):
        return None
    rms = float(np.sqrt(np.mean((rho - model)[inside] ** 2)))
    distance = float(np.linalg.norm(centre))
    el = math.asin(np.clip(centre[2] / distance, -1, 1))
    face = math.pi * (0.93 * math.asin(radius / distance)) ** 2 / (grid.geo[1] * grid.geo[3] * max(math.cos(el), 0.1))
    sigma = max(noise, rms)
    if n < 0.5 * face or rms > 1.5 * noise + 0.0004:
        return None
    full = np.concatenate([jac[inside], jac_r[inside, None]], axis=1)
    free = np.linalg.lstsq(full, (rho - model)[inside], rcond=None)[0]
    spread = sigma * np.sqrt(np.diag(np.linalg.pinv(full.T @ full)))
    if abs(free[3]) > 3.5 * spread[3] + 0.001 or spread[3] > 0.25 * radius:
        return None
    if not _round(u[inside], rho[inside], centre, radius, sigma):
        return None
    cov = sigma**2 * np.linalg.inv(jac[inside].T @ jac[inside]) + np.eye(3) * 0.0003**2
    remark = "radius not confirmed" if n < 25 or spread[3] > 0.1 * radius else ""
    return SphereSighting(centre, radius, cov, rms, n, radius + float(free[3]), float(spread[3]), remark)


def _round(u: Array, rho: Array, centre: Array, radius: float, sigma: float) -> bool:
    """Curved in both directions: a pipe of the same radius is not."""
    view = centre / np.linalg.norm(centre)
    p = u * rho[:, None] - centre
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
    noise = range_noise(grid)
    found: list[SphereSighting] = []
    for radius in radii:
        gate = np.full(grid.image.shape[:2], -1, np.float32)
        if not sphere_gate(grid.image, grid.geo, grid.wrap, radius, gate):
            continue
        rc = np.argwhere(gate >= 0)
        order = np.argsort(gate[rc[:, 0], rc[:, 1]], kind="stable")
        taken: list[Array] = []
        for r, c in rc[order][:4000]:
            p = grid.image[r, c].astype(float)
            start = p * (1 + radius / np.linalg.norm(p))
            if any(np.linalg.norm(start - t) < 0.5 * radius for t in taken):
                continue
            taken.append(start)
            fit = fit_sphere(grid, start, radius, noise)
            if fit is not None and all(np.linalg.norm(fit.centre - f.centre) > 0.8 * radius for f in found):
                found.append(fit)
    return sorted(found, key=lambda f: -f.points)
