"""What an adjusted network says: covariances propagated to what people ask for, in the coordinates of its parts."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray

from .. import frames
from ..errors import Finding
from .normal import Inverse, covariance
from .observations import Array
from .reliability import Checked, checked, global_test, link_residuals
from .solution import Placing, Solution, TargetPoint
from .terms import State

if TYPE_CHECKING:
    from .adjust import Network


def described(
    network: Network,
    x: State,
    normal: sp.csc_matrix | None,
    iterations: int,
    converged: bool,
    findings: tuple[Finding, ...],
    confidence: float,
) -> Solution:
    """Covariances, residuals and the global test of an adjusted network, back in the coordinates of its parts."""
    known = None if normal is None else covariance(normal, network.design(x), network.to.border)
    term, column = network.link_term, network.to.station
    v, j = term.plain(x.pose), term.jacobians(x.pose)
    links = link_residuals(
        network.links, v, j, term.covariance, term.root, _among(known, np.stack([column[term.a], column[term.b]], axis=1))
    )
    others = _others(network, x, known)
    total = float((network.residuals(x) ** 2).sum())
    test = global_test(total, network.observations - network.to.size, confidence)
    if known is not None:
        known.scale = max(test.sigma0, 1.0) ** 2
    of_stations = _among(known, column[:, None])
    poses, own, position, turn = {}, {}, {}, {}
    for k, s in enumerate(network.stations):
        own[s] = of_stations[k]
        about_itself = np.eye(6)
        about_itself[3:, :3] = -frames.skew(x.pose[k, :3, 3])
        deviation = np.sqrt(np.clip(np.diag(about_itself @ own[s] @ about_itself.T), 0, None))
        turn[s], position[s] = deviation[:3], deviation[3:]
        poses[s] = x.pose[k].copy()
        poses[s][:3, 3] += network.origin[network.part_of[k]]
    return Solution(
        poses,
        position,
        turn,
        own,
        links,
        _targets(network, x, poses, own, known),
        {int(part): x.up[part] for part in np.nonzero(network.to.up >= 0)[0]},
        [_placing(network, x, int(part), known) for part in np.nonzero(network.to.placing >= 0)[0] if known is not None],
        [part.stations for part in network.parts],
        [part.datum for part in network.parts],
        test,
        iterations,
        converged,
        findings,
        known,
        {s: int(column[k]) for k, s in enumerate(network.stations)},
        others,
        _up_deviation(network, known),
    )


def _among(known: Inverse | None, first: NDArray[np.int_], wide: int = 6) -> Array:
    """(n, k wide, k wide) covariance of the unknowns that begin at columns (n, k); -1 is held."""
    n, k = first.shape
    if known is None or not n:
        return np.zeros((n, k * wide, k * wide))
    at = np.where(first[:, :, None] >= 0, first[:, :, None] + np.arange(wide), -1)
    return known.among(at.reshape(n, k * wide))


def _placing(network: Network, x: State, part: int, known: Inverse) -> Placing:
    """A part on control; what is uncertain in its placing and in its network goes together."""
    own = np.nonzero(network.control_term.part == part)[0]
    off = network.control_term.plain(x)
    t, first = x.placing[part], int(network.to.placing[part])
    shift = t.copy()
    shift[:3, 3] += network.middle - t[:3, :3] @ network.origin[part]
    carried = np.zeros((6, 6))  # a motion in the part as one in control, about the middle there
    carried[:3, :3] = carried[3:, 3:] = t[:3, :3]
    carried[3:, :3] = frames.skew(t[:3, 3]) @ t[:3, :3]
    of_all = known.columns(np.arange(first, first + 6))
    members = np.nonzero(network.part_of == part)[0]
    motions = {}
    for k, inside in zip(members, _among(known, network.to.station[members][:, None]), strict=True):
        c = int(network.to.station[k])
        mixed = carried @ of_all[c : c + 6] if c >= 0 else np.zeros((6, 6))
        motions[network.stations[k]] = of_all[first : first + 6] + carried @ inside @ carried.T + mixed + mixed.T
    return Placing(part, shift, {network.controlled[k][0]: off[k] for k in own}, motions, network.middle)


def _by_motion(p: Array) -> Array:
    """(3, 6) how a point moves with a left motion of its frame."""
    return np.hstack([-frames.skew(p), np.eye(3)])


def _targets(network: Network, x: State, poses: dict[str, Array], own: dict[str, Array], known: Inverse | None) -> list[TargetPoint]:
    """Where each part sees each of its targets; one seen once stands where that station sees it."""
    out = []
    adjusted = {key: k for k, key in enumerate(network.targets)}
    of_targets = _among(known, network.to.target[:, None], 3)
    for (target, part), seen in network.sightings_of.items():
        at = np.array([frames.apply(poses[s.station], s.centre[None])[0] for s in seen])
        if (k := adjusted.get((target, part))) is not None:
            position, spread = x.point[k] + network.origin[part], of_targets[k]
        else:
            position, turn = at[0], poses[seen[0].station][:3, :3]
            j = _by_motion(position - network.origin[part])
            spread = turn @ seen[0].covariance @ turn.T + j @ own[seen[0].station] @ j.T
        off = float(np.linalg.norm(at - position, axis=1).max()) if len(at) > 1 else 0.0
        out.append(TargetPoint(target, part, position, spread, len(seen), off))
    return out


def _others(network: Network, x: State, known: Inverse | None) -> dict[tuple[str, str], Checked]:
    """What is left at sightings, tapes and plumb walls (by key) and levels (by station)."""
    kinds = [
        (network.spot_term, 3, [("sighting", s.key) for s in network.spots], [_typical(s.covariance) for s in network.spots]),
        (network.level_term, 2, [("level", s) for s in network.levelled], network.level_sigma),
        (network.tape_term, 1, [("tape", t.key) for t in network.tapes], [t.sigma for t in network.tapes]),
        (network.plumb_term, 1, [("plumb", w.key) for w in network.walls], [w.sigma for w in network.walls]),
    ]
    if known is None or not any(names for _, _, names, _ in kinds):
        return {}
    design, v = network.design(x), network.residuals(x)
    out, first = {}, dict(zip(map(id, network.terms), np.cumsum([0, *(t.rows for t in network.terms)]).tolist(), strict=False))
    for term, wide, names, sigma in kinds:
        for k, (name, deviation) in enumerate(zip(names, sigma, strict=True)):
            if not name[1]:
                continue
            at = first[id(term)] + wide * k
            rows = design[at : at + wide]
            own = np.unique(rows.indices).astype(np.int_)
            inside = known.among(own[None])[0] if len(own) else np.zeros((0, 0))
            out[name] = checked(v[at : at + wide], rows[:, own].toarray(), inside, deviation)
    return out


def _typical(covariance: Array) -> float:
    return float(np.sqrt(np.trace(covariance) / 3))


def _up_deviation(network: Network, known: Inverse | None) -> dict[int, float]:
    """Radians, by part: what its direction up is off by about its worst axis."""
    if known is None:
        return {}
    held = np.nonzero(network.to.up >= 0)[0]
    own = known.among(np.stack([network.to.up[held], network.to.up[held] + 1], axis=1)) if len(held) else np.zeros((0, 2, 2))
    return {int(k): float(np.sqrt(max(np.linalg.eigvalsh(c)[-1], 0.0))) for k, c in zip(held, own, strict=True)}
