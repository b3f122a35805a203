"""What speaks for and against a placement of two scans (see the tolerance profile for what is made of it)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, fields
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..kernels import objects
from .contradiction import contradiction, structure_limit
from .fine import Fine
from .matches import Matches, hits, match
from .prepared import Prepared

Array = NDArray[np.float64]


AGREE, BEHIND = 0.05, 0.07  # metres along the ray: a surface agrees, and is seen through from so much beyond that
UPRIGHT = 0.7  # |z| of the normal below which a surface is no ground, floor or ceiling
GRAZING = 0.1  # cosine between ray and normal below which a surface has no say


@dataclass(frozen=True)
class Dense:
    """The dense see-through test: square metres (across the rays) that agree and that were seen through, and shares."""

    agree_m2: float
    violated_m2: float
    see_through: float  # violated / (violated + agreeing), the worse direction
    overlap: float  # share of both scans' surfaces that the other confirms
    upright_m2: float = 0.0  # of what agrees: no ground, floor or ceiling
    distinct_m2: float = 0.0  # of what agrees: more than bare walls, floors and ceilings

    @property
    def clean(self) -> bool:
        return self.see_through < 0.012


SCHEMA = 3  # of evidence as it is kept; a field that comes later is missing in what was kept before


@dataclass(frozen=True)
class Evidence:
    """missing: fields that what was kept lacks; they read as nothing (0, no bins), and the judge says so."""

    fit_median: float  # metres, absolute plane-to-plane distances at reciprocal matches
    fit_rms: float
    fit_p90: float
    histogram: tuple[int, ...]  # 24 bins of 0.5 mm
    overlap: float
    see_through: float
    violated_m2: float
    patch_share: float  # share of 0.5 m patches whose mean distance exceeds 5 mm
    patches: int
    weak_sigma: float
    weak_direction: tuple[float, ...]
    smallest: float
    offset_sigma: float
    contradicted_m2: float  # of structure that one saw where the other looked freely
    allowed_m2: float  # of that, what moves on the site and millimetres of misfit explain
    distinct_m2: float  # what both saw and is more than bare walls, floors and ceilings
    rival: float  # 1 when a station of the link fits as well in another place
    missing: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, object]:
        kept = asdict(self)
        del kept["missing"]
        return {"schema": SCHEMA, **kept}

    @classmethod
    def of(cls, kept: Mapping[str, Any]) -> Evidence:
        """Evidence as any version kept it. Fields of later versions are left aside, those that are not there are named."""
        names = [f.name for f in fields(cls) if f.name != "missing"]
        nothing: dict[str, Any] = dict.fromkeys(names, 0.0) | {"histogram": (), "weak_direction": (0.0, 0.0, 0.0), "patches": 0}
        missing = tuple(n for n in names if n not in kept)
        return cls(**{n: kept.get(n, nothing[n]) for n in names}, missing=missing)


def verdicts(a: Prepared, b: Prepared, T_a_b: Array, most: int, agree: float = AGREE, behind: float = BEHIND) -> NDArray[np.int8]:
    """What a's rays say of the first ``most`` raw points of b (they lie in random order): 0 nothing, 1 agrees, 2 seen through."""
    g, points, normals = a.grid, b.raw.points[:most], b.raw.normals[:most]
    return np.asarray(objects.say(g.ring, g.geo, g.wrap, T_a_b, points, normals, agree, behind, GRAZING))


def dense(a: Prepared, b: Prepared, T_a_b: Array, most: int = 1_000_000) -> Dense:
    """Both scans' raw points (at most ``most`` of each) against the other's rays."""
    ab, ba = verdicts(a, b, T_a_b, most), verdicts(b, a, frames.inverse(T_a_b), most)
    worst, agree, violated, seen, upright, distinct = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    for verdict, own in ((ab, b), (ba, a)):
        area = own.raw_area * len(own.raw) / max(len(verdict), 1)
        yes, no = float((verdict == 1).sum()), float((verdict == 2).sum())
        worst = max(worst, no / max(yes + no, 1.0))
        agree, violated = agree + yes * area, violated + no * area
        seen += len(verdict) * area
        upright += float(((verdict == 1) & (np.abs(own.raw.normals[: len(verdict), 2]) < UPRIGHT)).sum()) * area
        distinct += float(((verdict == 1) & own.particular[: len(verdict)]).sum()) * area
    return Dense(agree, violated, worst, agree / max(seen, 1e-9), upright, distinct)


def patches(m: Matches, size: float = 0.5) -> tuple[float, int]:
    """(share of patches whose mean distance exceeds 5 mm, number of patches with at least 4 matches)."""
    key = np.floor(m.place / size).astype(np.int64)
    _, label = np.unique(key @ np.array([1, 4001, 16008001]), return_inverse=True)
    count = np.bincount(label)
    mean = np.bincount(label, m.distance) / np.maximum(count, 1)
    enough = count >= 4
    return (float((np.abs(mean[enough]) > 0.005).mean()) if enough.any() else 1.0), int(enough.sum())


def evidence(a: Prepared, b: Prepared, result: Fine, seen: Dense | None = None, restless: float = 0.0) -> Evidence:
    """All evidence of a pair at its fine alignment. restless: share of contradicted objects that right pairs of the site have.
    What may have moved says nothing of a link by itself."""
    seen = seen or dense(a, b, result.T_a_b)
    wide = match(hits(a, b), result.T_a_b, 0.05, 2, 0.85)
    d = np.abs(wide.distance)
    share, count = patches(wide)
    c = contradiction(a.speakers, a.grid, b.speakers, b.grid, result.T_a_b)
    bins = np.histogram(d, bins=24, range=(0, 0.012))[0]
    return Evidence(
        float(np.median(d)),
        float(np.sqrt(np.mean(d**2))),
        float(np.percentile(d, 90)),
        tuple(int(v) for v in bins),
        seen.overlap,
        seen.see_through,
        seen.violated_m2,
        share,
        count,
        result.weak_sigma,
        tuple(float(v) for v in result.weak_direction),
        result.smallest,
        result.offset_sigma,
        c.structure,
        structure_limit(c, restless),
        c.distinct,
        0.0,
    )
