"""Clouds, targets and control adjusted together against clouds alone and targets alone: true errors of stations and of what they saw.

Links are those of real alignments of simulated scans; sightings, levels and control are drawn with the deviations that they claim.
"""

from __future__ import annotations

import os

import numpy as np

from taut_lantern.core import frames
from taut_lantern.core.network.adjust import adjust
from taut_lantern.core.network.observations import ControlObservation, LevelObservation, LinkObservation, SightingObservation
from taut_lantern.core.network.reliability import snoop
from taut_lantern.core.network.solution import Solution
from taut_lantern.core.network.upright import adjust_upright
from taut_lantern.core.place.solve import solve
from tests.truth.layouts import LAYOUTS

from .honest import linked
from .sites import hall, stair, works
from .table import Row

SEEDS = [int(v) for v in os.environ.get("LANTERN_SEEDS", "91").split()]
DRAWS, TARGETS, SEES = 20, 8, 12.0  # surveys of each network; targets; metres within which a station sees one
CENTRE, CONTROL, LEVEL = 0.0006, 0.002, 5e-5  # deviations: metres of a centre, of control; radians of a level
BESIDE = np.array([[6.0, 0, 0], [-6, 0, 0], [0, 6, 0], [0, -6, 0], [0, 0, 2]])  # metres: what a station saw


def survey(truth: dict[str, np.ndarray], rng: np.random.Generator) -> tuple[list[SightingObservation], list[ControlObservation]]:
    """Targets spread over the site, each seen by the stations near it, and surveyed."""
    names, places = list(truth), np.array([t[:3, 3] for t in truth.values()])
    seen, given, spots = [], [], []
    while len(spots) < TARGETS:  # farthest of some drawn ones from those that stand: as one spreads targets
        some = places[rng.integers(len(places), size=12)] + rng.normal(0, 1, (12, 3)) * (2.5, 2.5, 0.8)
        gap = np.min([np.linalg.norm(some - s, axis=1) for s in spots] or [np.ones(12)], axis=0)
        spots.append(some[int(np.argmax(gap))])
    for k, at in enumerate(spots):
        for n in np.nonzero(np.linalg.norm(places - at, axis=1) < SEES)[0]:
            own = frames.apply(frames.inverse(truth[names[n]]), at[None])[0]
            seen.append(SightingObservation(names[n], f"T{k}", own + rng.normal(0, CENTRE, 3), CENTRE**2 * np.eye(3)))
        given.append(ControlObservation(f"T{k}", at + rng.normal(0, CONTROL, 3), CONTROL**2 * np.eye(3)))
    return seen, given


def levels_of(truth: dict[str, np.ndarray], rng: np.random.Generator) -> list[LevelObservation]:
    turns = {n: frames.rotation(np.array([*rng.normal(0, LEVEL, 2), 0.0])) for n in truth}
    return [LevelObservation(n, LEVEL, tuple(t[:3, :3].T @ turns[n] @ [0, 0, 1.0])) for n, t in truth.items()]


def errors(T: np.ndarray, poses: dict[str, np.ndarray], truth: dict[str, np.ndarray]) -> dict[str, float]:
    """Metres, by station: root mean square of what it saw, in control."""
    out = {}
    for n, pose in poses.items():
        off = frames.apply(T @ pose, BESIDE) - frames.apply(truth[n], BESIDE)
        out[n] = float(np.sqrt((off**2).sum(axis=1).mean()))
    return out


def placed(s: Solution, seen: list[SightingObservation], given: list[ControlObservation], truth: dict[str, np.ndarray]) -> dict[str, float]:
    """Its largest part on control afterwards, rigid, by where its stations see the targets."""
    part = set(s.parts[0])
    at: dict[str, list[np.ndarray]] = {}
    for x in seen:
        if x.station in part:
            at.setdefault(x.target, []).append(frames.apply(s.poses[x.station], x.centre[None])[0])
    used = [c for c in given if c.target in at]
    found = np.array([np.mean(at[c.target], axis=0) for c in used])
    placement = solve([c.target for c in used], ["control"] * len(used), found, np.array([c.position for c in used]), 0.02)
    return errors(placement.T_control_project, {n: s.poses[n] for n in part}, truth)


def run() -> list[Row]:
    rows, better = [], []
    for seed in SEEDS:
        for number, layout in enumerate((LAYOUTS[0], hall(seed), stair(seed), works(seed, 3))):
            truth, links = linked(layout, seed, 0.0004)
            clouds, out = snoop(list(truth), links)
            links = [k for k in links if k.key not in out]
            truth = {n: truth[n] for n in clouds.parts[0]}
            rng = np.random.default_rng([seed, number])
            kinds: dict[str, list[float]] = {"clouds": [], "targets": [], "both": []}
            alone: list[float] = []
            reached = 0
            for _ in range(DRAWS):
                seen, given = survey(truth, rng)
                by = _three(truth, links, seen, given, levels_of(truth, rng))
                if by is None:
                    continue
                kinds["clouds"] += by[0].values()
                kinds["both"] += by[2].values()
                kinds["targets"] += by[1].values()
                alone += [by[2][n] for n in by[1]]
                reached += len(by[1])
            rms = {k: 1000 * float(np.sqrt(np.mean(np.square(v)))) if v else np.nan for k, v in kinds.items()}
            same = 1000 * float(np.sqrt(np.mean(np.square(alone)))) if alone else np.nan
            share = reached / max(len(kinds["both"]), 1)
            wins = rms["both"] <= rms["clouds"] and (not alone or same <= rms["targets"])
            better.append(wins)
            words = f"clouds {rms['clouds']:.2f}, targets {rms['targets']:.2f} ({share:.0%} of the stations; jointly {same:.2f} there)"
            rows.append(
                Row(
                    f"True error in control of what stations saw, {layout.name} {seed}, {len(links)} links, {DRAWS} surveys, RMS",
                    f"{rms['both']:.2f} mm",
                    words,
                    "below both",
                    bool(wins),
                )
            )
    return rows


def _three(
    truth: dict[str, np.ndarray],
    links: list[LinkObservation],
    seen: list[SightingObservation],
    given: list[ControlObservation],
    levels: list[LevelObservation],
) -> tuple[dict[str, float], dict[str, float], dict[str, float]] | None:
    """Errors by station: clouds alone, targets alone, everything together. None when control does not hold the site."""
    names = list(truth)
    both, _ = adjust_upright(names, links, seen, {}, (), levels, control=given)
    if not both.placings or not both.converged:
        return None
    joint = errors(both.placings[0].T_control_part, {n: both.poses[n] for n in both.parts[0]}, truth)
    clouds = placed(adjust(names, links), seen, given, truth)
    targets = adjust(names, [], seen)
    by_targets = placed(targets, seen, given, truth) if len(targets.parts[0]) > 1 else {}
    return clouds, by_targets, joint
