"""Which of the two carries a link: what the clouds say, or the targets that both stations saw."""

from __future__ import annotations

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...site.common import Array, matrix
from ...store.models import Link, Sighting

ALIKE = 1.5  # times: closer than that, both carry it


def carried(s: Session, link: Link) -> str:
    """In words; "" when no target is seen from both. Compared is how well each holds the far station, as they claim."""
    q = select(Sighting).where(Sighting.project_id == link.project_id, Sighting.station_id.in_((link.a, link.b)), Sighting.used)
    seen: dict[str, dict[str, Sighting]] = {}
    for g in s.scalars(q):
        if g.target_id:
            seen.setdefault(g.target_id, {})[g.station_id] = g
    both = [v for v in seen.values() if len(v) == 2]
    if not both:
        return ""
    count = f"{len(both)} target{'s are' if len(both) > 1 else ' is'} seen from both stations"
    T = matrix(link.T_a_b)
    information = np.zeros((6, 6))
    for v in both:
        j = _by_motion(np.array(v[link.a].centre))
        spread = np.array(v[link.a].covariance).reshape(3, 3) + T[:3, :3] @ np.array(v[link.b].covariance).reshape(3, 3) @ T[:3, :3].T
        information += j.T @ np.linalg.inv(spread) @ j
    cloud = np.array(link.covariance).reshape(6, 6)
    by_cloud = _held(cloud, T[:3, 3])
    if len(both) < 3 or np.linalg.cond(information) > 1e14:
        return f"{count}: too few to hold it alone, so the clouds carry it (±{1000 * by_cloud:.1f} mm)."
    by_targets = _held(np.asarray(np.linalg.inv(information), float), T[:3, 3])
    figures = f"targets alone would hold it to ±{1000 * by_targets:.1f} mm, the clouds alone to ±{1000 * by_cloud:.1f} mm"
    if not link.used:
        return f"{count}, and carry it: {figures}, which are switched off."
    carry = "both carry it" if max(by_targets, by_cloud) < ALIKE * min(by_targets, by_cloud) else ""
    return f"{count}; {carry or ('the targets carry it' if by_targets < by_cloud else 'the clouds carry it')}: {figures}."


def _by_motion(p: Array) -> Array:
    return np.hstack([-frames.skew(p), np.eye(3)])


def _held(covariance: Array, at: Array) -> float:
    """Metres: root of the summed variances of a place (3,) in the frame of the motion."""
    j = _by_motion(at)
    return float(np.sqrt(np.trace(j @ covariance @ j.T)))
