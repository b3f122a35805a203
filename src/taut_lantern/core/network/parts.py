"""Which stations share coordinates, and where they stand at first.

Links and bodies connect the stations they name. Two connected groups that share at least three targets with spread are
connected too, when the targets agree; fewer leave a rotation free, and then the groups stay parts of their own.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy.sparse as sp
from scipy.sparse.csgraph import connected_components

from .. import frames
from ..errors import Finding
from ..targets.match import rigid
from .observations import Array, Body, LinkObservation, SightingObservation

SPREAD = 0.3  # metres that shared targets must lie aside of their best line: below, the turn about it is free
AGREE = 0.05  # metres RMS within which shared targets must agree to connect: above, one of them is another target


@dataclass(frozen=True)
class Part:
    """stations in the order they were given; datum: the one that is held; poses: T_part_station to begin with."""

    stations: list[str]
    datum: str
    poses: dict[str, Array]


def connected_parts(stations: Sequence[str], pairs: Sequence[tuple[str, str]]) -> list[list[str]]:
    """Connected parts in the order of ``stations``, the largest first."""
    number = {s: k for k, s in enumerate(stations)}
    ends = np.array([(number[a], number[b]) for a, b in pairs], int).reshape(-1, 2)
    graph = sp.coo_matrix((np.ones(len(ends)), (ends[:, 0], ends[:, 1])), shape=(len(stations), len(stations)))
    parts: dict[int, list[str]] = {}
    for station, label in zip(stations, connected_components(graph, directed=False)[1], strict=True):
        parts.setdefault(int(label), []).append(station)
    return sorted(parts.values(), key=lambda p: -len(p))


def assemble(
    stations: Sequence[str],
    links: Sequence[LinkObservation],
    sightings: Sequence[SightingObservation] = (),
    bodies: Sequence[Body] = (),
    datum: Mapping[str, Array] | None = None,
) -> tuple[list[Part], list[Finding]]:
    """The parts of a network, the largest first, each with poses along a tree from its datum; and what does not connect.

    datum : poses T_part_station of stations that may hold a part, those preferred first; a part without one is held at its
    first station, at the origin.
    """
    steps = _steps(links)
    tied = [(a, b) for a in steps for b, _ in steps[a]] + [(first, s) for first, *rest in bodies for s in rest]
    groups = [_tree(group[0], steps, {s: b for b in bodies for s in b}) for group in connected_parts(stations, tied)]
    groups, findings = _joined_by_targets(groups, sightings)
    place = {s: k for k, s in enumerate(stations)}
    parts = []
    for group in sorted(groups, key=lambda g: (-len(g), min(place[s] for s in g))):
        inside = sorted(group, key=place.__getitem__)
        held = next((s for s in datum or {} if s in group), inside[0])
        at = (datum or {}).get(held, np.eye(4))
        back = frames.inverse(group[held])
        parts.append(Part(inside, held, {s: at if s == held else at @ back @ group[s] for s in inside}))
    return parts, findings


def _steps(links: Sequence[LinkObservation]) -> dict[str, list[tuple[str, Array]]]:
    """Of each station, the stations that links reach from it, with T_here_there."""
    steps: dict[str, list[tuple[str, Array]]] = {}
    for link in links:
        steps.setdefault(link.a, []).append((link.b, link.T_a_b))
        steps.setdefault(link.b, []).append((link.a, frames.inverse(link.T_a_b)))
    return steps


def _tree(root: str, steps: Mapping[str, list[tuple[str, Array]]], body_of: Mapping[str, Body]) -> dict[str, Array]:
    """Poses of all that is connected with ``root``, along a breadth-first tree; root at the origin. Who is reached brings its
    whole body along."""
    poses: dict[str, Array] = {}
    ready: deque[str] = deque()

    def put(station: str, pose: Array) -> None:
        body = body_of.get(station, {station: np.eye(4)})
        T_part_body = pose @ frames.inverse(body[station])
        for s, T_body_s in body.items():
            poses[s] = pose if s == station else T_part_body @ T_body_s
            ready.append(s)

    put(root, np.eye(4))
    while ready:
        here = ready.popleft()
        for there, t in steps.get(here, ()):
            if there not in poses:
                put(there, poses[here] @ t)
    return poses


def _joined_by_targets(
    groups: list[dict[str, Array]], sightings: Sequence[SightingObservation]
) -> tuple[list[dict[str, Array]], list[Finding]]:
    """Groups that share enough targets put together, one pair after another until nothing joins."""
    findings: list[Finding] = []
    joined = True
    while joined:
        joined = False
        spots = [_spots(g, sightings) for g in groups]
        for i in range(len(groups)):
            for k in range(i + 1, len(groups)):
                common = sorted(spots[i].keys() & spots[k].keys())
                if joined or len(common) < 3:
                    continue
                one, other = (np.array([spots[g][t] for t in common]) for g in (i, k))
                if np.linalg.svd(one - one.mean(axis=0), compute_uv=False)[1] < SPREAD:
                    continue
                t = rigid(other, one)
                off = float(np.sqrt(((frames.apply(t, other) - one) ** 2).sum(axis=1).mean()))
                if off > AGREE:
                    message = f"{len(common)} targets are named alike in two parts, but their distances differ by {1000 * off:.0f} mm"
                    findings.append(Finding("targets_disagree", common[0], message, "fault"))
                    continue
                groups[i] |= {s: t @ pose for s, pose in groups.pop(k).items()}
                joined = True
    return groups, findings[-1:]


def _spots(group: Mapping[str, Array], sightings: Sequence[SightingObservation]) -> dict[str, Array]:
    """Mean position of each target that a group sees, in its coordinates."""
    seen: dict[str, list[Array]] = {}
    for x in sightings:
        if x.station in group:
            seen.setdefault(x.target, []).append(frames.apply(group[x.station], x.centre[None])[0])
    return {t: np.mean(p, axis=0) for t, p in seen.items()}


def carry(old: Sequence[Array], new: Sequence[Array]) -> Array:
    """T_new_old: the motion that brings the same stations from their old poses to their new ones, all alike.

    Mean rotation by the polar factor of the sum of R_new R_old^T (Moakher 2002, eq. 3.6), and the shift of the mean position.
    """
    turn = sum((n[:3, :3] @ o[:3, :3].T for o, n in zip(old, new, strict=True)), np.zeros((3, 3)))
    out = np.eye(4)
    out[:3, :3] = turn
    out = frames.orthonormal(out)
    mean_old, mean_new = (np.mean([t[:3, 3] for t in poses], axis=0) for poses in (old, new))
    out[:3, 3] = mean_new - out[:3, :3] @ mean_old
    return out
