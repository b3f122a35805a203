"""Patches of two scans that lie on each other: found by projection into the partner's range image, both ways.

Terms: residual r = n . (T_a_b p_b - q_a), metres; everything is expressed in a's frame.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..kernels import fit as kernels
from ..kernels import rays
from .prepared import Prepared, Samples

Array = NDArray[np.float64]
NOISE_FLOOR = 0.0002  # metres: no scanner measures better


@dataclass(frozen=True)
class Matches:
    """One row per matched pair of patches: place and normal in a's frame, signed distance, cosines of both rays."""

    place: Array  # (m, 3)
    normal: Array  # (m, 3)
    distance: Array  # (m,) metres
    cos_a: Array
    cos_b: Array


class Hits:
    """Samples of one scan in the other's image, and the planes fitted where they fell, kept between steps."""

    def __init__(self, image_of: Prepared, samples: Samples, coarse: bool = False) -> None:
        self.grid, self.samples = image_of.grid, samples
        self.coarse = image_of.coarse if coarse else None
        self.plane = np.empty((len(samples), 8))
        self.hit = np.full((len(samples), 2), -1, np.int32)

    def find(self, t: Array, gate: float, stride: int, min_cos: float) -> NDArray[np.bool_]:
        """Which samples, placed by t into the image's frame, lie on a plane there; it is then in ``plane``."""
        g, s = self.grid, self.samples
        if self.coarse is not None:
            points, known, geo = self.coarse
            found = rays.associate_known(points, known, geo, True, t, s.points, s.normals, gate, min_cos, stride, self.plane)
            return np.asarray(found)
        return np.asarray(rays.associate(g.image, g.geo, g.wrap, t, s.points, s.normals, gate, min_cos, stride, self.hit, self.plane))


def hits(a: Prepared, b: Prepared, sa: Samples | None = None, sb: Samples | None = None, coarse: bool = False) -> tuple[Hits, Hits]:
    """(samples of b in a's image, samples of a in b's image); coarse: in images of a degree whose planes are known."""
    return Hits(a, sb or b.fine, coarse), Hits(b, sa or a.fine, coarse)


def match(both: tuple[Hits, Hits], t: Array, gate: float, stride: int, min_cos: float) -> Matches:
    """Patches of b found in a's image and patches of a found in b's, all expressed in a's frame."""
    found = [(side, side.find(t if k == 0 else frames.inverse(t), gate, stride, min_cos)) for k, side in enumerate(both)]
    n, at = sum(int(ok.sum()) for _, ok in found), 0
    out = Matches(np.empty((n, 3)), np.empty((n, 3)), np.empty(n), np.empty(n), np.empty(n))
    rest = (out.place, out.normal, out.distance, out.cos_a, out.cos_b)
    for k, (side, ok) in enumerate(found):
        at = kernels.rows(ok, side.plane, side.samples.points, side.samples.normals, t, k == 0, at, *rest)
    return out


def tukey(residual: Array, gate: float) -> Array:
    """Tukey's biweight of residuals, zero at the gate."""
    return np.clip(1 - (residual / gate) ** 2, 0, None) ** 2


def noise_of(m: Matches) -> float:
    """Standard deviation of the distances, metres, from their median size: what is far off has no say."""
    return max(1.4826 * float(np.median(np.abs(m.distance))), NOISE_FLOOR)


def systems(m: Matches, weight: Array, label: NDArray[np.int64], count: int, centre: Array, lever: float) -> Array:
    """(count, 9, 9) weighted square sums of each label's rows: six of the motion about ``centre`` with rotations scaled by
    ``lever``, the two scans' offsets along their rays, the distance."""
    return np.asarray(kernels.systems(m.place, m.normal, m.distance, m.cos_a, m.cos_b, weight, label, count, centre, lever))
