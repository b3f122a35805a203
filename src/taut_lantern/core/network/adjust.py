"""Adjustment of the network: least squares over poses, target points, directions up and placings on control.

Gauss-Markov model with a priori covariances (Teunissen, *Adjustment Theory*, ch. 2 and 4). One station of each part is
held: its datum; a body moves as one: a left motion of it moves each of its stations by the same, so that it takes the columns of
one station. What each kind of observation explains stands in terms.py.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import scipy.sparse as sp

from .. import frames
from ..errors import Finding, NotEnough
from ..targets.match import rigid
from .describe import described
from .normal import Band
from .observations import (
    Array,
    Body,
    ControlObservation,
    DistanceObservation,
    LevelObservation,
    LinkObservation,
    PlumbObservation,
    SightingObservation,
)
from .parts import SPREAD, Part, assemble
from .solution import Solution
from .terms import (
    Blocks,
    Columns,
    ControlTerm,
    DistanceTerm,
    LevelTerm,
    LinkTerm,
    PlumbTerm,
    SightingTerm,
    State,
    Term,
    UprightTerm,
    moved,
)

STEPS = 30  # of Gauss-Newton; good networks take 4 to 6
STILL = 1e-8  # radians and metres: a step below this is the end
COARSE = 1e-4  # the same while blunders are still being weighed down
HUBER = 3.0  # times the common level of the links, from which on one counts less


def adjust(
    stations: Sequence[str],
    links: Sequence[LinkObservation],
    sightings: Sequence[SightingObservation] | None = None,
    datum: Mapping[str, Array] | None = None,
    bodies: Sequence[Body] = (),
    levels: Sequence[LevelObservation] = (),
    control: Sequence[ControlObservation] = (),
    tapes: Sequence[DistanceObservation] = (),
    walls: Sequence[PlumbObservation] = (),
    robust: bool = True,
    confidence: float = 0.99,
) -> Solution:
    """Adjust the whole network. NotEnough when there is no station.

    datum : poses of stations that hold their part, those preferred first (see :func:`assemble`). robust : two rounds in
    which links far beyond the common level count less (Huber), then strict least squares. control : counts in parts that see
    at least three of its points with spread (two that lie apart in plan where levels say what is up); there it bends the network by
    its weight. tapes: distances between targets of one part; walls: known to be plumb. What cannot be used is left out.
    """
    if not stations:
        raise NotEnough("there is no station to adjust", remedy="bring in at least one scan")
    known = set(stations)
    links = [k for k in links if k.a in known and k.b in known]
    sightings = [s for s in sightings or () if s.station in known]
    bodies = [inside for b in bodies if len(inside := {s: t for s, t in b.items() if s in known}) > 1]
    parts, findings = assemble(stations, links, sightings, bodies, datum)
    own = [v for v in levels if v.station in known]
    network = Network(parts, links, sightings, bodies, own, control, tapes, [w for w in walls if w.station in known])
    state, normal, iterations, converged = network.solve(network.start(), robust)
    if not converged:
        message = "the adjustment did not converge: its figures are not to be relied on; links contradict each other too much"
        findings.append(Finding("not_converged", "network", message, "fault"))
    return described(network, state, normal, iterations, converged, tuple(findings), confidence)


class Network:
    """Observations by kind, and where each unknown stands in the system."""

    def __init__(
        self,
        parts: list[Part],
        links: Sequence[LinkObservation],
        sightings: Sequence[SightingObservation],
        bodies: Sequence[Body],
        levels: Sequence[LevelObservation],
        control: Sequence[ControlObservation],
        tapes: Sequence[DistanceObservation] = (),
        walls: Sequence[PlumbObservation] = (),
    ) -> None:
        self.parts, self.links = parts, list(links)
        self.stations = [s for part in parts for s in part.stations]
        number = {s: k for k, s in enumerate(self.stations)}
        self.part_of = np.array([k for k, part in enumerate(parts) for _ in part.stations], int)
        self.origin = np.array([part.poses[part.datum][:3, 3] for part in parts]).reshape(-1, 3)
        self.sightings_of = _by_target(sightings, {s: int(self.part_of[k]) for s, k in number.items()})
        self.level_term = LevelTerm(levels, number, self.part_of)
        self.levelled, self.level_sigma = [v.station for v in levels], [v.sigma for v in levels]
        self.walls = _standing(walls, set(self.level_term.part.tolist()), {s: int(self.part_of[k]) for s, k in number.items()}, parts)
        self.plumb_term = PlumbTerm(self.walls, number, self.part_of)
        given = self._given(control)
        measured = {(t.a, k): (t.b, k) for t in tapes for k in range(len(parts)) if {(t.a, k), (t.b, k)} <= self.sightings_of.keys()}
        named = {*given, *measured, *measured.values()}
        # one sighting alone ties nothing, but it is a place that control, or a tape, can name
        self.targets = [key for key, seen in self.sightings_of.items() if len(seen) > 1 or key in named]
        self.controlled = [key for key in self.targets if key in given]
        self.middle = np.mean([given[key].position for key in self.controlled] or [np.zeros(3)], axis=0)
        spots = [(s, t) for t, key in enumerate(self.targets) for s in self.sightings_of[key]]
        self.link_term = LinkTerm(self.links, number)
        self.spots = [s for s, _ in spots]
        self.spot_term = SightingTerm(self.spots, np.array([t for _, t in spots], int), number)
        of = np.array([self.targets.index(key) for key in self.controlled], int)
        part = np.array([key[1] for key in self.controlled], int)
        self.control_term = ControlTerm([given[key] for key in self.controlled], of, part, self.middle)
        place = {key: k for k, key in enumerate(self.targets)}
        both = [(t, place[t.a, k], place[t.b, k]) for t in tapes for k in range(len(parts)) if {(t.a, k), (t.b, k)} <= place.keys()]
        self.tapes = [t for t, _, _ in both]
        self.tape_term = DistanceTerm(self.tapes, np.array([a for _, a, _ in both], int), np.array([b for _, _, b in both], int))
        held = {int(k) for k in (*self.level_term.part, *self.plumb_term.part)}
        self.upright_term = UprightTerm(np.array(sorted(held & {key[1] for key in self.controlled}), int))
        self.terms: list[Term] = [self.link_term, self.spot_term, self.level_term, self.control_term]
        self.terms += [self.tape_term, self.plumb_term, self.upright_term]
        self.observations = sum(term.rows for term in self.terms)
        self.to = self._columns(bodies)

    def _given(self, control: Sequence[ControlObservation]) -> dict[tuple[str, int], ControlObservation]:
        """Control by target and part, of the parts that it places: three points that hold every turn; or two that hold the heading,
        where levels hold the rest."""
        found: dict[tuple[str, int], ControlObservation] = {}
        by_target = {c.target: c for c in control}
        for k, part in enumerate(self.parts):
            keys = [key for key in self.sightings_of if key[1] == k and key[0] in by_target]
            at = np.array([frames.apply(part.poses[(s := self.sightings_of[key][0]).station], s.centre[None])[0] for key in keys])
            wide = np.linalg.svd(at - at.mean(axis=0), compute_uv=False) if len(keys) > 1 else np.zeros(2)
            plan = np.linalg.norm((at - at.mean(axis=0))[:, :2], axis=1).max(initial=0.0) if len(keys) > 1 else 0.0
            stands = k in self.level_term.part or k in self.plumb_term.part
            if (len(keys) >= 3 and wide[1] >= SPREAD) or (stands and plan >= SPREAD):
                found |= {key: by_target[key[0]] for key in keys}
        return found

    def _columns(self, bodies: Sequence[Body]) -> Columns:
        body_of = {s: f"body of {next(iter(b))}" for b in bodies for s in b}
        unit = [body_of.get(s, s) for s in self.stations]
        held = {body_of.get(part.datum, part.datum) for part in self.parts}
        column = {u: 6 * k for k, u in enumerate(dict.fromkeys(u for u in unit if u not in held))}
        size = 6 * len(column)
        target = size + 3 * np.arange(len(self.targets))
        size += 3 * len(self.targets)
        placing, up = np.full(len(self.parts), -1), np.full(len(self.parts), -1)
        for part in sorted({key[1] for key in self.controlled}):
            placing[part], size = size, size + 6
        for part in np.unique(np.concatenate([self.level_term.part, self.plumb_term.part])):
            up[part], size = size, size + 2
        return Columns(np.array([column.get(u, -1) for u in unit], int), target, placing, up, size)

    def start(self) -> State:
        pose = np.array([part.poses[s] for part in self.parts for s in part.stations])
        pose[:, :3, 3] -= self.origin[self.part_of]
        point = np.zeros((len(self.targets), 3))
        np.add.at(point, self.spot_term.of, self.spot_term.placed(pose))
        point /= np.maximum(np.bincount(self.spot_term.of, minlength=len(self.targets)), 1)[:, None]
        up, placing = np.zeros((len(self.parts), 3)), np.tile(np.eye(4), (len(self.parts), 1, 1))
        np.add.at(up, self.level_term.part, np.einsum("nij,nj->ni", pose[self.level_term.at, :3, :3], self.level_term.up))
        up[np.linalg.norm(up, axis=1) < 1e-9] = (0.0, 0.0, 1.0)
        up /= np.linalg.norm(up, axis=1, keepdims=True)
        for part in np.unique(self.control_term.part):
            own = self.control_term.part == part
            at, given = point[self.control_term.of[own]], self.control_term.given[own]
            if part in self.upright_term.part:
                stand = frames.upright(up[part])
                placing[part] = rigid(frames.apply(stand, at), given, level=True) @ stand
            else:
                placing[part] = rigid(at, given)
        return State(pose, point, placing, up)

    def residuals(self, x: State) -> Array:
        """(observations,) weighted."""
        return np.concatenate([term.residuals(x) for term in self.terms])

    def design(self, x: State) -> sp.csr_matrix:
        """(observations, unknowns) derivatives of the weighted residuals."""
        blocks, at = Blocks(), 0
        for term in self.terms:
            term.derive(x, self.to, at, blocks)
            at += term.rows
        return blocks.matrix(self.observations, self.to.size)

    def solve(self, x: State, robust: bool) -> tuple[State, sp.csc_matrix | None, int, bool]:
        """Gauss-Newton from a state: (state, normal matrix, iterations, converged)."""
        if self.to.size == 0 or self.observations == 0:
            return x, None, 0, True
        rounds, normal, band = 2 if robust and self.links else 0, None, Band(self.to.border)
        self.link_term.weight = np.ones(len(self.links))
        for iteration in range(1, STEPS + 1):
            design = self.design(x)
            normal = (design.T @ design).tocsc()
            step = band.solve(normal, -design.T @ self.residuals(x))
            length = float(np.abs(step).max())
            if not np.isfinite(length):
                break
            x = moved(x, step, self.to)
            if rounds == 0 and length < STILL:
                return x, normal, iteration, True
            if rounds and length < COARSE:
                rounds -= 1
                self.link_term.weight = np.ones(len(self.links)) if rounds == 0 else self.huber(x)
        return x, normal, STEPS, False

    def huber(self, x: State) -> Array:
        """(links,) weights: 1 up to HUBER times the common level of the links' weighted residuals, then falling."""
        level = self.link_term.level(x)
        limit = HUBER * max(float(np.median(level)), np.sqrt(6.0))
        return np.asarray(np.minimum(1, limit / np.maximum(level, 1e-12)) ** 2)


def _by_target(sightings: Sequence[SightingObservation], part_of: Mapping[str, int]) -> dict[tuple[str, int], list[SightingObservation]]:
    """Sightings by target and part."""
    found: dict[tuple[str, int], list[SightingObservation]] = {}
    for s in sightings:
        found.setdefault((s.target, part_of[s.station]), []).append(s)
    return dict(sorted(found.items()))


FACING = 0.2  # sine of the angle by which two plumb walls face apart at least, to hold the direction up by themselves


def _standing(
    walls: Sequence[PlumbObservation], levelled: set[int], part_of: Mapping[str, int], parts: Sequence[Part]
) -> list[PlumbObservation]:
    """The walls of parts whose direction up is held: by levels, or by walls that face apart."""
    of = {k: [w for w in walls if part_of[w.station] == k] for k in {part_of[w.station] for w in walls}}
    held = []
    for k, own in of.items():
        normal = np.array([parts[k].poses[w.station][:3, :3] @ np.array(w.normal) for w in own])
        if k in levelled or (len(own) > 1 and np.linalg.svd(normal, compute_uv=False)[1] > FACING):
            held += own
    return held
