"""Rolled steel sections: which of the standard series the points of a cut lie on, and where. Metres, plane of the cut.

Dimensions as EN 10365 has them (IPE, HE A, HE B, UPE) and EN 10210 (square hollow sections); roundings between web and flange are left out.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy import fft, ndimage
from scipy.optimize import least_squares
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from ..errors import NotEnough

Array = NDArray[np.float64]
CELL = 0.002  # metres of the raster that sections are laid on
ON = 0.004  # metres off its outline within which a point is of a section
ROOM = 0.025  # metres round a section in which points speak against it
OFF, UNSEEN = 0.5, 0.6  # what a cell that is off the outline, and one of it that should be seen and is not, count against one that is on it
ALIKE = 0.05  # of the score that another section may lack to be as good
MOSTLY = 0.7  # of the points in its round that have to be on a section
SHORTER, HIDDEN = 0.03, 0.12  # metres that a section may be smaller than what was seen of it, and larger
NEAREST = 12  # sections that are looked at again once the axis is known better
BIGGEST = 320  # cells of a section with its room
LEAST = 0.35  # of what should be seen of the outline that has to be

I_SHAPES = {  # height, width, web, flange; millimetres
    "IPE 80": (80, 46, 3.8, 5.2), "IPE 100": (100, 55, 4.1, 5.7), "IPE 120": (120, 64, 4.4, 6.3), "IPE 140": (140, 73, 4.7, 6.9),
    "IPE 160": (160, 82, 5.0, 7.4), "IPE 180": (180, 91, 5.3, 8.0), "IPE 200": (200, 100, 5.6, 8.5), "IPE 220": (220, 110, 5.9, 9.2),
    "IPE 240": (240, 120, 6.2, 9.8), "IPE 270": (270, 135, 6.6, 10.2), "IPE 300": (300, 150, 7.1, 10.7), "IPE 330": (330, 160, 7.5, 11.5),
    "IPE 360": (360, 170, 8.0, 12.7), "IPE 400": (400, 180, 8.6, 13.5), "IPE 450": (450, 190, 9.4, 14.6), "IPE 500": (500, 200, 10.2, 16.0),
    "HE 100 A": (96, 100, 5.0, 8.0), "HE 120 A": (114, 120, 5.0, 8.0), "HE 140 A": (133, 140, 5.5, 8.5), "HE 160 A": (152, 160, 6.0, 9.0),
    "HE 180 A": (171, 180, 6.0, 9.5), "HE 200 A": (190, 200, 6.5, 10.0), "HE 220 A": (210, 220, 7.0, 11.0), "HE 240 A": (230, 240, 7.5, 12.0),
    "HE 260 A": (250, 260, 7.5, 12.5), "HE 280 A": (270, 280, 8.0, 13.0), "HE 300 A": (290, 300, 8.5, 14.0), "HE 320 A": (310, 300, 9.0, 15.5),
    "HE 340 A": (330, 300, 9.5, 16.5), "HE 360 A": (350, 300, 10.0, 17.5), "HE 400 A": (390, 300, 11.0, 19.0),
    "HE 100 B": (100, 100, 6.0, 10.0), "HE 120 B": (120, 120, 6.5, 11.0), "HE 140 B": (140, 140, 7.0, 12.0), "HE 160 B": (160, 160, 8.0, 13.0),
    "HE 180 B": (180, 180, 8.5, 14.0), "HE 200 B": (200, 200, 9.0, 15.0), "HE 220 B": (220, 220, 9.5, 16.0), "HE 240 B": (240, 240, 10.0, 17.0),
    "HE 260 B": (260, 260, 10.0, 17.5), "HE 280 B": (280, 280, 10.5, 18.0), "HE 300 B": (300, 300, 11.0, 19.0), "HE 320 B": (320, 300, 11.5, 20.5),
    "HE 340 B": (340, 300, 12.0, 21.5), "HE 360 B": (360, 300, 12.5, 22.5), "HE 400 B": (400, 300, 13.5, 24.0),
}  # fmt: skip
U_SHAPES = {
    "UPE 80": (80, 50, 4.0, 7.0), "UPE 100": (100, 55, 4.5, 7.5), "UPE 120": (120, 60, 5.0, 8.0), "UPE 140": (140, 65, 5.0, 9.0),
    "UPE 160": (160, 70, 5.5, 9.5), "UPE 180": (180, 75, 5.5, 10.5), "UPE 200": (200, 80, 6.0, 11.0), "UPE 220": (220, 85, 6.5, 12.0),
    "UPE 240": (240, 90, 7.0, 12.5), "UPE 270": (270, 95, 7.5, 13.5), "UPE 300": (300, 100, 9.5, 15.0),
}  # fmt: skip
SQUARES = (40, 50, 60, 70, 80, 90, 100, 120, 140, 150, 160, 180, 200, 220, 250, 260, 300)  # of hollow sections, whose walls nobody sees


@dataclass(frozen=True, eq=False)
class Profile:
    """kind: I, U or box; outline (k, 2) metres about its middle, against the clock, its height along y; turns: quarter turns that differ."""

    name: str
    kind: str
    height: float
    width: float
    outline: Array
    turns: int


@lru_cache
def series() -> tuple[Profile, ...]:
    out = []
    for kind, rows in (("I", I_SHAPES), ("U", U_SHAPES)):
        for name, (h, b, w, f) in rows.items():
            y, x, web, inner = h / 2000, b / 2000, w / 2000, h / 2000 - f / 1000
            if kind == "I":
                half = [(x, -y), (x, -inner), (web, -inner), (web, inner), (x, inner), (x, y)]
                outline = np.array([*half, *((-p, -q) for p, q in half)])
            else:
                outline = np.array(
                    [(-x, -y), (x, -y), (x, -inner), (w / 1000 - x, -inner), (w / 1000 - x, inner), (x, inner), (x, y), (-x, y)]
                )
            out.append(Profile(name, kind, h / 1000, b / 1000, outline, 2 if kind == "I" else 4))
    for a in SQUARES:
        x = a / 2000
        out.append(Profile(f"SHS {a}", "box", a / 1000, a / 1000, np.array([(-x, -x), (x, -x), (x, x), (-x, x)]), 1))
    return tuple(out)


@dataclass(frozen=True)
class Found:
    """A section where it lies: middle (2,), turn of its own x from that of the cut (radians), root mean square of its points (m), how many, the
    share of what should be seen of its outline that was; alike: other sections that would do as well."""

    profile: Profile
    middle: tuple[float, float]
    turn: float
    rms: float
    points: int
    seen: float
    alike: tuple[str, ...]
    tried: tuple[str, ...] = ()  # those that came nearest

    @property
    def corners(self) -> Array:
        return np.asarray(self.profile.outline @ _turned(self.turn).T + self.middle)


def _turned(angle: float) -> Array:
    c, s = math.cos(angle), math.sin(angle)
    return np.array([[c, -s], [s, c]])


def _along(outline: Array, step: float) -> tuple[Array, Array]:
    """Places along a closed outline and the outward normals there."""
    at, normals = [], []
    for a, b in zip(outline, np.roll(outline, -1, axis=0), strict=True):
        long = float(np.linalg.norm(b - a))
        t = (np.arange(max(1, round(long / step))) + 0.5) / max(1, round(long / step))
        at.append(a + t[:, None] * (b - a))
        normals.append(np.tile([(b - a)[1] / long, -(b - a)[0] / long], (len(t), 1)))
    return np.concatenate(at), np.concatenate(normals)


def _seen_from(outline: Array, at: Array, normals: Array, ways: Array) -> NDArray[np.bool_]:
    """Which places of an outline are seen from far away in one of the directions (n, 2), nothing of it standing before them."""
    out = np.zeros(len(at), bool)
    a, b = outline, np.roll(outline, -1, axis=0)
    for way in ways:
        faces = normals @ way > 0.08
        p = at + 1e-6 * normals
        edge = b - a
        cross = way[0] * edge[:, 1] - way[1] * edge[:, 0]
        with np.errstate(divide="ignore", invalid="ignore"):
            d = a[None] - p[:, None]
            t = (d[..., 0] * edge[:, 1] - d[..., 1] * edge[:, 0]) / cross
            u = (d[..., 0] * way[1] - d[..., 1] * way[0]) / cross
        hit = ((t > 1e-9) & (u >= 0) & (u <= 1) & (np.abs(cross) > 1e-12)).any(axis=1)
        out |= faces & ~hit
    return out


def distances(outline: Array, p: Array) -> Array:
    """(n,) of points (n, 2) from a closed outline."""
    best = np.full(len(p), np.inf)
    for a, b in zip(outline, np.roll(outline, -1, axis=0), strict=True):
        e = b - a
        t = np.clip((p - a) @ e / float(e @ e), 0, 1)
        best = np.minimum(best, np.linalg.norm(p - a - t[:, None] * e, axis=1))
    return best


def fitted(
    points: Array,
    stands: Array,
    angle: float | None = None,
    through: Array | None = None,
    among: tuple[str, ...] = (),
    spans: Array | None = None,
) -> Found:
    """The section that points (n, 2) of a cut lie on. stands (m, 2): where instruments stood; angle: the way one of its sides goes, found from
    the points when not given; through (2,): a place that lies on it; among: sections to choose from; spans (2,): how far the
    points go along its sides, which a section may go beyond where it was not seen. NotEnough when none fits."""
    p = points[np.unique(np.floor(points / CELL).astype(np.int64), axis=0, return_index=True)[1]]
    if len(p) < 40:
        raise NotEnough("too few points lie here", subject="profile", remedy="pick where more of it was seen")
    angle = _sides(p) if angle is None else angle
    q = p @ _turned(angle)
    low = q.min(axis=0) - 0.1
    shape = np.ceil((q.max(axis=0) + 0.1 - low) / CELL).astype(int) + 1
    cells = np.zeros(shape, np.float32)
    at = np.floor((q - low) / CELL).astype(int)
    cells[at[:, 0], at[:, 1]] = 1
    wide = ndimage.binary_dilation(cells > 0, iterations=2).astype(np.float32)
    middle = q.mean(axis=0)
    seen_from = (stands @ _turned(angle) - middle) if len(stands) else np.array([[1.0, 0.0]])
    ways = seen_from / np.maximum(np.linalg.norm(seen_from, axis=1, keepdims=True), 1e-9)
    tried: list[tuple[float, Profile, int, Array, float]] = []
    size = [fft.next_fast_len(int(n) + BIGGEST, real=True) for n in shape]
    own, round_ = fft.rfft2(cells, size), fft.rfft2(wide, size)
    for profile in (p for p in series() if not among or p.name in among):
        for k in range(profile.turns):
            outline = profile.outline @ _turned(k * math.pi / 2).T
            if spans is not None and ((np.ptp(outline, axis=0) < spans - SHORTER) | (np.ptp(outline, axis=0) > spans + HIDDEN)).any():
                continue
            edge, normals = _along(outline, CELL)
            visible = _seen_from(outline, edge, normals, ways)
            template, corner = _template(profile, k)
            if not visible.any() or max(template.shape) > BIGGEST:
                continue
            shown = np.zeros(template.shape, np.float32)
            at = np.floor((edge[visible] - corner) / CELL).astype(int)
            shown[at[:, 0], at[:, 1]] = 1
            count = float(shown.sum())
            both = own * fft.rfft2(template[::-1, ::-1], size) + round_ * fft.rfft2(UNSEEN * shown[::-1, ::-1], size)
            total = fft.irfft2(both, size)[: shape[0] + template.shape[0] - 1, : shape[1] + template.shape[1] - 1] - UNSEEN * count
            if through is not None:  # the place that was picked lies on it
                total = np.where(_on(total.shape, template.shape, low, corner, edge, through @ _turned(angle)), total, -np.inf)
            i, j = np.unravel_index(int(np.argmax(total)), total.shape)
            shift = np.array([i, j]) - np.array(template.shape) + 1
            inside = at + shift
            inside = inside[((inside >= 0) & (inside < shape)).all(axis=1)]
            covered = float(np.unique(inside[wide[inside[:, 0], inside[:, 1]] > 0], axis=0).shape[0]) if len(inside) else 0.0
            tried.append((float(total[i, j]), profile, k, low + shift * CELL - corner, covered / count))
    tried.sort(key=lambda x: -x[0])
    if not tried or tried[0][0] <= 0 or tried[0][4] < LEAST:
        raise NotEnough(
            "no steel section of the standard series lies here",
            subject="profile",
            remedy="pick a face of one where more of its round was seen",
        )
    return _settled(p, angle, tried)


def _on(total: tuple[int, ...], template: tuple[int, ...], low: Array, corner: Array, edge: Array, pick: Array) -> NDArray[np.bool_]:
    """Which shifts lay an outline through a place, within 8 mm."""
    ok = np.zeros(total, bool)
    want = np.rint((pick - edge - low + corner) / CELL).astype(int) + np.array(template) - 1
    inside = ((want >= 0) & (want < np.array(total))).all(axis=1)
    ok[want[inside, 0], want[inside, 1]] = True
    return np.asarray(ndimage.binary_dilation(ok, iterations=4))


@lru_cache(maxsize=512)
def _template(profile: Profile, quarter: int) -> tuple[NDArray[np.float32], Array]:
    """What a cell of a point says of a section there, turned by so many quarters: on its outline, against it in it and round it; and where its
    corner lies from its middle."""
    outline = profile.outline @ _turned(quarter * math.pi / 2).T
    corner = outline.min(axis=0) - ROOM
    n = np.ceil((outline.max(axis=0) + ROOM - corner) / CELL).astype(int) + 1
    x, y = np.meshgrid(*(np.arange(k) * CELL + CELL / 2 for k in n), indexing="ij")
    d = distances(outline, np.column_stack([x.ravel(), y.ravel()]) + corner).reshape(n)
    return np.where(d <= ON, 1.0, np.where(d <= 2 * ON, 0.0, -OFF)).astype(np.float32), corner


def _settled(p: Array, angle: float, tried: list[tuple[float, Profile, int, Array, float]]) -> Found:
    """The best few refined on their points; the one that most lie on, and those that do as well."""
    best = tried[0][0]
    found: list[tuple[float, Found]] = []
    for score, profile, k, place, seen in tried[:6]:
        if score < (1 - 3 * ALIKE) * best:
            break
        start = np.array([*(_turned(angle) @ place), angle + k * math.pi / 2])

        def placed(x: Array, outline: Array = profile.outline) -> Array:
            return np.asarray(outline @ _turned(float(x[2])).T + x[:2])

        own = p[distances(placed(start), p) < 2 * ON]
        near = (np.abs((p - start[:2]) @ _turned(float(start[2]))) < np.abs(profile.outline).max(axis=0) + ON).all(axis=1)
        if len(own) < max(20.0, MOSTLY * int(near.sum())):
            continue  # something else that stands within its round

        def off(x: Array, own: Array = own, outline: Array = profile.outline) -> Array:
            return distances(np.asarray(outline @ _turned(float(x[2])).T + x[:2]), own)

        x = least_squares(off, start, loss="soft_l1", f_scale=0.002, x_scale=[1, 1, 10]).x
        d = distances(placed(x), p)
        on = d < 2 * ON
        rms = float(np.sqrt(np.mean(d[on] ** 2)))
        turn = float((x[2] + math.pi) % math.tau - math.pi)
        found.append(
            (
                score * math.exp(-((rms / 0.004) ** 2)),
                Found(profile, (float(x[0]), float(x[1])), turn, rms, int(on.sum()), min(seen, 1.0), ()),
            )
        )
    if not found:
        raise NotEnough(
            "no steel section of the standard series lies here",
            subject="profile",
            remedy="pick a face of one where more of its round was seen",
        )
    found.sort(key=lambda x: -x[0])
    top, one = found[0]
    alike = tuple(dict.fromkeys(f.profile.name for s, f in found[1:] if s > (1 - ALIKE) * top and f.profile.name != one.profile.name))
    names = tuple(dict.fromkeys(x[1].name for x in tried))[:NEAREST]
    return replace(one, alike=alike, tried=names)


def _sides(p: Array) -> float:
    """The direction, within a quarter turn, that both coordinates of points gather most in."""

    def gathered(angle: float) -> float:
        q = p @ _turned(angle)
        return float(sum((np.bincount(np.floor((q[:, k] - q[:, k].min()) / 0.003).astype(int)) ** 2.0).sum() for k in (0, 1)))

    rough = np.radians(np.arange(0, 90, 1.0))
    best = float(rough[int(np.argmax([gathered(a) for a in rough]))])
    fine = best + np.radians(np.arange(-1, 1.01, 0.1))
    return float(fine[int(np.argmax([gathered(float(a)) for a in fine]))])


SIDE = 0.45  # metres that a section is at most, both ways
FAR = 0.06  # metres from what else stands there, and between points that hang together
FEW = 40  # cells of a section that were seen at least


def standing(points: Array, faces: list[tuple[Array, Array]], stands: Array) -> list[tuple[Found, set[int]]]:
    """Sections that a plan cuts across: (section, the numbers of the faces that are its sides). points (n, 2) of the cut, faces their ends (2,)
    each, stands (m, 2). Only what stands alone, is no rectangle, and is told from all others is one."""
    p = points[np.unique(np.floor(points / (2 * CELL)).astype(np.int64), axis=0, return_index=True)[1]]
    for a, b in faces:
        long = float(np.linalg.norm(b - a))
        if long > SIDE:
            e = (b - a) / long
            t = np.clip((p - a) @ e, 0, long)
            p = p[np.linalg.norm(p - a - t[:, None] * e, axis=1) > FAR]
    if len(p) < FEW:
        return []
    pairs, n = cKDTree(p).query_pairs(FAR, output_type="ndarray"), len(p)
    count, group = connected_components(csr_matrix((np.ones(len(pairs), bool), (pairs[:, 0], pairs[:, 1])), shape=(n, n)), directed=False)
    tree, out = cKDTree(points), []
    for g in np.nonzero(np.bincount(group, minlength=count) >= FEW)[0]:
        own = p[group == g]
        if np.ptp(own, axis=0).max() > math.sqrt(2) * SIDE:
            continue
        angle = _sides(own)
        spans = np.ptp(own @ _turned(angle), axis=0)
        if spans.max() > SIDE or spans.min() < 0.03:
            continue
        middle = (own.max(axis=0) + own.min(axis=0)) / 2
        near = points[tree.query_ball_point(middle, float(np.linalg.norm(own - middle, axis=1).max()) + 0.01)]
        try:
            found = fitted(near, stands, angle, spans=spans)
        except NotEnough:
            continue
        if found.profile.kind != "box" and not found.alike and found.rms < ON / 2:
            out.append((found, {k for k, (a, b) in enumerate(faces) if distances(found.corners, (a + b)[None] / 2)[0] < 2 * ON}))
    return out
