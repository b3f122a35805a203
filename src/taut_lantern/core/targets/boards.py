"""Find black and white quadrant boards of known size in a scan, with centre and standard deviation.

Terms: half: of a board's edge; the rays are met with the plane of the board, so that places in it carry no range noise; turn: of
the pattern in its plane; blur: deviation of the beam where it meets the board. The centre is the mean over all places and turns of
the pattern, each by how well it explains the intensities, cross and outer edges together: the cross alone tells it in steps as
wide as the rays lie apart.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from ..kernels.boards import board_costs, board_gate, densities, patched, rough_place
from ..scan.grid import Grid
from .spheres import OFFSET, range_noise

Array = NDArray[np.float64]
FEWEST, CONFIRMED = 18, 36  # points on a board: to be named, and to take part
GLANCING = 0.34  # cosine: boards seen at more than 70 degrees
CLOSER_LOOK = 250  # places that are fitted, the most telling first
PLACES, TURNS = 9, 5  # of the lattice that the mean is taken over
BLURS = (0.03, 0.1, 0.25, 0.55)  # of the distance between rays
ABOUT_AS_WELL = 4.0  # of log-likelihood: widths of the beam that much worse than the best are not thought of


@dataclass(frozen=True)
class BoardSighting:
    """centre (3,) metres station frame; covariance (3, 3) m^2; size: edge, metres; rms of the plane, m; points on it; normal (3,)
    towards the scanner; explained: share of the change of intensity that the pattern explains; remark for people."""

    centre: Array
    size: float
    covariance: Array
    rms: float
    points: int
    normal: Array
    explained: float
    remark: str

    @property
    def confirmed(self) -> bool:
        """Whether enough points lie on it to take nothing else for one."""
        return self.points >= CONFIRMED


@dataclass
class _Seen:
    """Rays round a candidate where they meet its plane. rows: (n, 4) as for the cost; flat: those whose points lie in it."""

    rows: Array
    flat: NDArray[np.bool_]
    at: Array
    e1: Array
    e2: Array
    normal: Array
    rms: float
    spacing: float


def intensities(grid: Grid, intensity: NDArray[np.float32]) -> NDArray[np.float32]:
    """(rows, columns) of the grid, -1 where nothing came back."""
    return np.where(grid.index >= 0, intensity[np.maximum(grid.index, 0)], np.float32(-1)).astype(np.float32)


def find_boards(grid: Grid, intensity: NDArray[np.float32] | None, sizes: list[float]) -> list[BoardSighting]:
    """All boards with edges of these lengths (metres) in a scan; none where no intensity was measured."""
    if intensity is None:
        return []
    value = intensities(grid, intensity)
    noise = range_noise(grid)
    image, whole = patched(grid.image, value)
    busy = (whole >= 0) & (ndimage.maximum_filter(whole, 5) > 1.4 * np.maximum(ndimage.minimum_filter(whole, 5), 0))
    found: list[BoardSighting] = []
    for size in sorted(sizes, reverse=True):
        gate = np.full(value.shape, -1, np.float32)
        if not board_gate(image, whole, busy, grid.geo, grid.wrap, size / 2, gate):
            continue
        rc = np.argwhere(gate >= 0)
        rc = rc[np.argsort(-gate[rc[:, 0], rc[:, 1]], kind="stable")]
        at = image[rc[:, 0], rc[:, 1]].astype(float)
        free, looked = np.ones(len(at), bool), 0
        for k in range(len(at)):
            if not free[k] or looked >= CLOSER_LOOK:
                continue
            looked += 1
            free &= ((at - at[k]) ** 2).sum(axis=1) > (0.3 * size) ** 2
            board = fit_board(grid, value, at[k], size, noise)
            if isinstance(board, str):
                continue
            rival = next((f for f in found if np.linalg.norm(f.centre - board.centre) < 0.5 * max(size, f.size)), None)
            if rival is None:
                found.append(board)
            elif board.explained > rival.explained + 0.03:  # what is smaller fits into the middle of a larger one as well
                found = [board if f is rival else f for f in found]
    return sorted(found, key=lambda f: -f.points)


def fit_board(grid: Grid, value: NDArray[np.float32], start: Array, size: float, noise: float) -> BoardSighting | str:
    """The board of this size near ``start`` (3,), or why there is none."""
    half = size / 2
    seen = _around(grid, value, start, half, noise)
    if isinstance(seen, str):
        return seen
    place = _rough(seen, half)
    if place is None:
        return "no pattern"
    for _ in range(2):
        told = _levels(seen, place, half)
        if told is None or _explained(seen, place, half, told[0]) < 0.3:
            return "no pattern"
        if _goes_on(seen, place, half) > 0.8 * (told[0][1] - told[0][0]):
            return "the pattern goes on"
        levels, spreads = told
        place = _best(seen, half, max(0.3 * seen.spacing, 1e-4), levels, spreads, place, (0.12 * half, 0.06))
    told = _levels(seen, place, half)
    if told is None or _explained(seen, place, half, told[0]) < 0.6:
        return "no pattern"
    blurs, place = _blurred(seen, half, *told, place)
    place, spread = _mean(seen, half, blurs, *told, place, (1.0 * seen.spacing, 1.0 * seen.spacing / half))
    if (told := _levels(seen, place, half)) is None:
        return "no pattern"
    reach = (3.2 * math.sqrt(max(spread[0, 0], spread[1, 1])), 3.2 * math.sqrt(spread[2, 2]))
    place, spread = _mean(seen, half, blurs, *told, place, reach)
    return _judged(grid, seen, place, spread, told[0], size)


def _around(grid: Grid, value: NDArray[np.float32], start: Array, half: float, noise: float) -> _Seen | str:
    rho = float(np.linalg.norm(start))
    lean = max(math.hypot(start[0], start[1]) / rho, 0.1)
    el, az = math.asin(start[2] / rho), math.atan2(start[1], start[0])
    reach = 2.2 * half / rho
    rows, columns = grid.image.shape[:2]
    r0, c0 = (el - grid.geo[2]) / grid.geo[3], ((az - grid.geo[0]) % (2 * math.pi)) / grid.geo[1]
    high, wide = int(reach / grid.geo[3]) + 1, min(int(reach / (grid.geo[1] * lean)) + 1, columns // 2 - 1)
    rr = np.arange(max(0, int(r0) - high), min(rows, int(r0) + high + 2))
    cc = np.arange(int(c0) - wide, int(c0) + wide + 2)
    cc = cc % columns if grid.wrap else cc[(cc >= 0) & (cc < columns)]
    thin = max(1, int(math.sqrt(len(rr) * len(cc) / 1500)))  # a board of thousands of points needs no more of them
    block = np.ix_(rr[::thin], cc[::thin])
    p, v = grid.image[block].reshape(-1, 3).astype(float), value[block].ravel().astype(float)
    p, v = p[v >= 0], v[v >= 0]
    near = np.linalg.norm(p - start, axis=1) < 0.95 * half
    if near.sum() < 9:
        return "few points"
    own, limit = p[near], 0.03
    for _ in range(4):  # trimmed: a bracket or a finger before the board is not of its plane
        middle = own.mean(axis=0)
        normal = np.linalg.svd(own - middle, full_matrices=False)[2][2]
        off = (p[near] - middle) @ normal
        rms = float(np.sqrt(np.mean(off[np.abs(off) < limit] ** 2))) if (np.abs(off) < limit).any() else limit
        limit = max(2.8 * rms, 2 * noise)
        if (np.abs(off) < limit).sum() < 9:
            return "not flat"
        own = p[near][np.abs(off) < limit]
    if len(own) < 0.7 * near.sum() or rms > 2 * noise + 0.002:
        return "not flat"
    normal = -normal if normal @ middle > 0 else normal
    side = float(-normal @ middle / np.linalg.norm(middle))
    if side < GLANCING - 0.04:
        return "glancing"
    e1 = np.cross([0, 0, 1.0], normal) if abs(normal[2]) < 0.9 else np.cross([1.0, 0, 0], normal)
    e1 /= np.linalg.norm(e1)
    e2 = np.cross(normal, e1)
    u = p / np.linalg.norm(p, axis=1, keepdims=True)
    facing = u @ normal
    t = (middle @ normal) / np.where(np.abs(facing) < 1e-6, 1e-6, facing)
    met = u * t[:, None] - middle
    x, y = met @ e1, met @ e2
    off = (p - middle) @ normal
    keep = (t > 0) & (np.hypot(x, y) < 2.1 * half) & (off < max(0.02, 4 * rms))  # what stands before it says nothing
    flat = np.abs(off) < max(4 * rms, 3 * noise, 0.006)
    spacing = rho * thin * math.sqrt(grid.geo[1] * grid.geo[3] * lean / side)
    rows_ = np.column_stack([x, y, v, ~flat])[keep]
    return _Seen(np.ascontiguousarray(rows_), flat[keep], middle, e1, e2, normal, rms, spacing)


def _rough(seen: _Seen, half: float) -> tuple[float, float, float] | None:
    """Where the pattern lies to a few tenths of a half, and how it is turned."""
    out = np.zeros(3)
    if rough_place(np.ascontiguousarray(seen.rows[seen.flat, :3]), half, out) <= 0:
        return None
    return float(out[0]), float(out[1]), float(out[2])


def _turned(seen: _Seen, place: tuple[float, float, float]) -> tuple[Array, Array]:
    x, y = seen.rows[:, 0] - place[0], seen.rows[:, 1] - place[1]
    c, s = math.cos(place[2]), math.sin(place[2])
    return c * x + s * y, c * y - s * x


def _levels(seen: _Seen, place: tuple[float, float, float], half: float) -> tuple[Array, Array] | None:
    """(levels (6,), deviations (3,)) of dark, pale, and what lies beyond the sides; None when pale is not the brighter."""
    u, v = _turned(seen, place)
    au, av, value = np.abs(u), np.abs(v), seen.rows[:, 2]
    edge = min(0.5 * seen.spacing, 0.2 * half)
    core = seen.flat & (np.minimum(au, av) > edge) & (np.maximum(au, av) < half - edge)
    levels, spreads = np.zeros(6), np.zeros(3)
    for k, own in enumerate((core & (u * v < 0), core & (u * v > 0))):
        if own.sum() < 3:
            return None
        levels[k] = np.median(value[own])
        spreads[k] = 1.4826 * np.median(np.abs(value[own] - levels[k]))
    if levels[1] <= 1.15 * levels[0]:
        return None
    beyond = seen.flat & (np.maximum(au, av) > half + edge) & (np.maximum(au, av) < 1.6 * half)
    rest = []
    for k, own in enumerate(
        (beyond & (au > av) & (u > 0), beyond & (au > av) & (u < 0), beyond & (av > au) & (v > 0), beyond & (av > au) & (v < 0))
    ):
        levels[2 + k] = np.median(value[own]) if own.sum() >= 3 else levels.mean()
        rest.append(value[own] - levels[2 + k] if own.sum() >= 3 else np.zeros(0))
    others = np.concatenate(rest)
    contrast = levels[1] - levels[0]
    spreads[2] = 1.4826 * np.median(np.abs(others)) if len(others) >= 8 else contrast
    return levels, np.maximum(spreads, [0.02 * contrast, 0.02 * contrast, 0.1 * contrast]) + 1e-9


def _lattice(
    seen: _Seen,
    half: float,
    blurs: list[float],
    levels: Array,
    spreads: Array,
    place: tuple[float, float, float],
    reach: tuple[float, float],
) -> tuple[Array, Array, Array, Array]:
    """Places, turns, and minus the log-likelihood there, over all widths of the beam."""
    xs, ys = (place[k] + np.linspace(-1, 1, PLACES) * reach[0] for k in range(2))
    turns = place[2] + np.linspace(-1, 1, TURNS) * reach[1]
    u, v = (np.abs(x) for x in _turned(seen, place))
    most = math.sqrt(2) * (reach[0] + half * reach[1]) + 2.5 * BLURS[-1] * seen.spacing  # beyond, a ray is of one field anyhow
    edge = (np.minimum(u, v) < most) | (np.abs(u - half) < most) | (np.abs(v - half) < most)
    rows = seen.rows[edge & (np.maximum(u, v) < half + most)]
    own = np.empty((len(rows), 6))
    densities(rows, levels, spreads, own)
    costs = np.empty((len(blurs), PLACES, PLACES, TURNS))
    for cost, blur in zip(costs, blurs, strict=True):
        board_costs(rows, own, half, blur, levels, xs, ys, turns, cost)
    least = costs.min(axis=0)
    return xs, ys, turns, least - np.log(np.exp(least - costs).sum(axis=0))


def _best(
    seen: _Seen, half: float, blur: float, levels: Array, spreads: Array, place: tuple[float, float, float], reach: tuple[float, float]
) -> tuple[float, float, float]:
    xs, ys, turns, cost = _lattice(seen, half, [blur], levels, spreads, place, reach)
    return _least(xs, ys, turns, cost)


def _least(xs: Array, ys: Array, turns: Array, cost: Array) -> tuple[float, float, float]:
    """Where on a lattice the cost is least."""
    i, j, k = np.unravel_index(int(np.argmin(cost)), cost.shape)
    return float(xs[i]), float(ys[j]), float(turns[k])


def _blurred(
    seen: _Seen, half: float, levels: Array, spreads: Array, place: tuple[float, float, float]
) -> tuple[list[float], tuple[float, float, float]]:
    """(how wide the beam may be there, the best place): those widths that explain the intensities about as well as the best."""
    found = []
    for share in BLURS:
        blur, reach = share * seen.spacing, (0.8 * seen.spacing, 0.8 * seen.spacing / half)
        xs, ys, turns, cost = _lattice(seen, half, [blur], levels, spreads, place, reach)
        evidence = float(cost.min() - math.log(np.exp(-(cost - cost.min())).sum()))
        found.append((evidence, blur, _least(xs, ys, turns, cost)))
    least, _, best = min(found)
    return [blur for evidence, blur, _ in found if evidence < least + ABOUT_AS_WELL], best


def _mean(
    seen: _Seen,
    half: float,
    blurs: list[float],
    levels: Array,
    spreads: Array,
    place: tuple[float, float, float],
    reach: tuple[float, float],
) -> tuple[tuple[float, float, float], Array]:
    """Mean and covariance (3, 3) of place and turn over all that explain the intensities."""
    covariance = np.eye(3)
    for _ in range(2):
        xs, ys, turns, cost = _lattice(seen, half, blurs, levels, spreads, place, reach)
        weight = np.exp(-(cost - cost.min()))
        weight /= weight.sum()
        grid = np.stack(np.meshgrid(xs, ys, turns, indexing="ij"), axis=-1).reshape(-1, 3)
        mean = weight.ravel() @ grid
        d = grid - mean
        covariance = (d * weight.ravel()[:, None]).T @ d
        cell = np.array([xs[1] - xs[0], ys[1] - ys[0], turns[1] - turns[0]])
        covariance += np.diag(cell**2) / 12
        place = float(mean[0]), float(mean[1]), float(mean[2])
        sigma = np.sqrt(np.diag(covariance))
        reach = (3.2 * float(max(sigma[0], sigma[1])), 3.2 * float(sigma[2]))
    return place, covariance


def _explained(seen: _Seen, place: tuple[float, float, float], half: float, levels: Array) -> float:
    """Share of the change of intensity on the board that the pattern explains."""
    u, v = _turned(seen, place)
    own = (
        seen.flat
        & (np.maximum(np.abs(u), np.abs(v)) < half - 0.3 * min(seen.spacing, half))
        & (np.minimum(np.abs(u), np.abs(v)) > 0.25 * min(seen.spacing, half))
    )
    if own.sum() < 8:
        return 0.0
    value = seen.rows[own, 2]
    expected = np.where(u[own] * v[own] > 0, levels[1], levels[0])
    return 1.0 - float(np.sum((value - expected) ** 2) / max(np.sum((value - value.mean()) ** 2), 1e-12))


def _goes_on(seen: _Seen, place: tuple[float, float, float], half: float) -> float:
    """How much brighter or darker it is beside the pale fields than beside the dark ones: as where a pattern goes on."""
    u, v = _turned(seen, place)
    far, near = np.maximum(np.abs(u), np.abs(v)), np.minimum(np.abs(u), np.abs(v))
    beyond = seen.flat & (far > half + 0.35 * seen.spacing) & (far < 1.45 * half + 0.3 * seen.spacing) & (near < half)
    by_pale, by_dark = beyond & (u * v > 0), beyond & (u * v < 0)
    if by_pale.sum() < 4 or by_dark.sum() < 4:
        return 0.0
    return abs(float(np.median(seen.rows[by_pale, 2]) - np.median(seen.rows[by_dark, 2])))


def _judged(grid: Grid, seen: _Seen, place: tuple[float, float, float], spread: Array, levels: Array, size: float) -> BoardSighting | str:
    half = size / 2
    u, v = _turned(seen, place)
    far = np.maximum(np.abs(u), np.abs(v))
    contrast = levels[1] - levels[0]
    explained = _explained(seen, place, half, levels)
    if explained < 0.7:
        return "no pattern"
    own = seen.flat & (far < half)
    at = seen.at + place[0] * seen.e1 + place[1] * seen.e2
    rho = float(np.linalg.norm(at))
    side = float(-seen.normal @ at / rho)
    lean = max(math.hypot(at[0], at[1]) / rho, 0.1)
    each = (rho**2 * grid.geo[1] * grid.geo[3] * lean) / side  # m2 of the plane between rays
    thin = max(1.0, seen.spacing**2 / each)
    points, expected = round(float(own.sum() * thin)), size**2 / each
    if points < FEWEST or points < 0.55 * expected:
        return "few points"
    behind = (seen.rows[:, 3] > 0.5) & (far < half - 0.5 * seen.spacing)
    if behind.sum() > 0.12 * max(own.sum(), 1):
        return "holes"
    quadrant = [own & (u > 0) & (v > 0), own & (u < 0) & (v > 0), own & (u < 0) & (v < 0), own & (u > 0) & (v < 0)]
    if min(q.sum() for q in quadrant) < 2:
        return "a quadrant is hidden"
    means = [float(np.median(seen.rows[q, 2])) for q in quadrant]
    pale, dark = means[0::2], means[1::2]
    if min(pale) - max(dark) < 0.45 * contrast or max(max(pale) - min(pale), max(dark) - min(dark)) > 0.35 * contrast:
        return "no pattern"
    if _goes_on(seen, place, half) > 0.6 * contrast:
        return "the pattern goes on"
    axes = np.column_stack([seen.e1, seen.e2])
    covariance = axes @ (spread[:2, :2] + (0.02 * seen.spacing) ** 2 * np.eye(2)) @ axes.T
    beam = at / rho
    # a plane that is off along its normal moves the place along the ray that meets it
    level = seen.rms**2 / max(int(own.sum()) - 3, 1) * (1 + 2 * (place[0] ** 2 + place[1] ** 2) / half**2)
    covariance += np.outer(beam, beam) * (level / side**2 + OFFSET**2)
    remark = ""
    if points < CONFIRMED:
        remark = "few points"
    elif side < GLANCING:
        remark = "seen at a glancing angle"
    elif points < 0.75 * expected:
        remark = "part of it is hidden"
    return BoardSighting(at, size, covariance, seen.rms, points, seen.normal, explained, remark)
