"""Truth on four layouts that nothing was set on, with level and with leaning scanners."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from measures.sites import yard
from taut_lantern.core import frames
from taut_lantern.core.align.believe import tie
from taut_lantern.core.align.evidence import evidence
from taut_lantern.core.align.fine import fine
from taut_lantern.core.align.level import leaned, straightened, upright_of
from taut_lantern.core.align.prepared import prepare
from taut_lantern.core.align.questions import answers_of
from taut_lantern.core.align.search import Search
from taut_lantern.core.network.judge import Profile, judge
from taut_lantern.core.network.observations import LinkObservation
from taut_lantern.core.network.reliability import snoop
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import Scene
from tests.truth.layouts import LAYOUTS, PLANT, TERRACE, TWINS, YARD, Layout

ROUGH = frames.pose(0.01, (0.08, -0.06, 0.02))  # a start as a hand puts it
WRONG = 0.020  # metres off: a pipe spool no longer fits


@pytest.fixture(scope="module", params=LAYOUTS, ids=lambda x: x.name)
def linked(request: Any) -> list[tuple[dict[str, np.ndarray], list[tuple[str, str, Any, Any]]]]:
    """Of two draws of a layout, by a level and by a leaning scanner: (true poses, [(a, b, fine alignment, evidence)] of the pairs that share
    enough, from a rough start)."""
    layout, out = request.param, []
    for seed, lean in ((7, 0.0), (8, 0.12)):
        made = layout.scans(Scanner(points=300_000, lean=lean), seed)
        ready = {n: prepare(cloud) for n, (cloud, _) in made.items()}
        truth = {n: pose for n, (_, pose) in made.items()}
        links = []
        for a, b in layout.pairs:
            result = fine(ready[a], ready[b], ROUGH @ frames.inverse(truth[a]) @ truth[b])
            if result is not None:
                links.append((a, b, result, evidence(ready[a], ready[b], result)))
        assert len(links) >= len(layout.pairs) - 1
        out.append((truth, links))
    return out


def error(result: Any, true: np.ndarray) -> np.ndarray:
    """(6,) left motion from truth: radians, metres."""
    e = result.T_a_b @ frames.inverse(true)
    return np.concatenate([frames.rotation_vector(e[:3, :3]), e[:3, 3]])


def test_links_claim_what_they_err_and_none_that_is_far_off_is_taut(linked: Any) -> None:
    level = []
    for truth, a, b, result, found in ((truth, *link) for truth, links in linked for link in links):
        v = error(result, frames.inverse(truth[a]) @ truth[b])
        level.append(float(v @ np.linalg.solve(result.covariance, v)) / 6)
        word = judge(found, Profile(), 0.0, 0.0, f"{a} · {b}").status
        assert np.linalg.norm(v[3:]) < WRONG or word != "taut", (a, b, np.round(1000 * v[3:], 1))
    assert 0.3 < np.median(level) < 3.5, np.round(level, 1)  # chi-square per unknown; 1 is honest


def test_stations_that_a_taut_link_holds_err_no_more_than_they_claim(linked: Any) -> None:
    """What hangs on slack links alone is called slack: in the yard cars that drove on pull one link by 20 mm."""
    for truth, links in linked:
        s, _ = snoop(list(truth), [LinkObservation(f"{a}{b}", a, b, r.T_a_b, r.covariance) for a, b, r, _ in links])
        assert s.converged
        taut = {x for a, b, r, e in links for x in (a, b) if judge(e, Profile(), 0.0, 0.0, f"{a} · {b}").status == "taut"}
        assert len(taut) >= 2 or "Y1" in truth  # trees and cars leave every link of the yard slack in some draws
        for part, datum in zip(s.parts, s.datum, strict=True):
            for name in part:
                off = (frames.inverse(s.poses[datum]) @ s.poses[name])[:3, 3] - (frames.inverse(truth[datum]) @ truth[name])[:3, 3]
                assert name not in taut or np.linalg.norm(off) < 6 * np.linalg.norm(s.sigma_position[name]) + 1e-4, (name, 1000 * off)


@pytest.mark.parametrize("seed", [8, 9])
def test_two_rooms_that_nothing_tells_apart_are_never_one_and_all_is_right_once_it_is_answered(seed: int) -> None:
    made = TWINS.scans(Scanner(points=150_000), seed)
    ready, truth = {n: prepare(cloud) for n, (cloud, _) in made.items()}, {n: pose for n, (_, pose) in made.items()}
    kept: dict[str, Any] = {}
    answers: list[Any] = []
    for _ in range(4):
        found = tie(ready, load=kept.get, keep=kept.__setitem__, answers=answers)
        for p in found.pairs:
            off, _ = frames.difference(p.result.T_a_b, frames.inverse(truth[p.a]) @ truth[p.b])
            assert off < WRONG, (p.a, p.b, off)
        if not found.questions:
            break
        for q in found.questions:
            true = {r.word: frames.inverse(truth[r.partner]) @ truth[q.station] for r in q.readings if r.T_partner_station is not None}
            right = [r.word for r in q.readings if r.word in true and max(frames.difference(true[r.word], r.T_partner_station)) < 0.1]
            answers += answers_of(q, right[0] if right else "two" if q.kind == "alike" else "none")
    assert answers and [len(part) for part in found.parts] == [4]


def test_the_ends_of_a_bare_passage_are_no_proof() -> None:
    """Two stations of a passage with nothing in it: what they share is walls, so their link is not taut, and it is asked."""
    s = Scene()
    s.box((0, -1.1, -0.25), (30, 1.1, 0), (0.5, 0.5, 0.5), 0.4)
    s.box((0, -1.1, 2.6), (30, 1.1, 2.8), (0.8, 0.8, 0.8), 0.6)
    for y in (-1.2, 1.1):
        s.wall(1, y, 0.1, (0, 30), (0, 2.6), [], (0.8, 0.8, 0.8))
    for x in (-0.1, 30.0):
        s.wall(0, x, 0.1, (-1.1, 1.1), (0, 2.6), [], (0.8, 0.8, 0.8))
    scans = {n: scan(s, (x, 0.1, 1.6), 0.4, k, Scanner(points=150_000)) for k, (n, x) in enumerate((("W", 4.0), ("M", 9.0), ("E", 26.0)))}
    ready = {n: prepare(cloud) for n, (cloud, _) in scans.items()}
    true = frames.inverse(scans["W"][1]) @ scans["M"][1]
    result = fine(ready["W"], ready["M"], true)
    assert result is not None
    found = evidence(ready["W"], ready["M"], result)
    assert "bare" in {r.code for r in judge(found, Profile(), 0.0, 0.0, "W · M").reasons}
    tied = tie(ready)
    assert tied.questions and all(judge(p.evidence, Profile(), 0.0, 0.0, "").status != "taut" for p in tied.pairs)


@pytest.mark.parametrize("layout", [YARD, PLANT, TERRACE], ids=lambda x: x.name)
def test_what_is_tied_without_a_start_is_right_or_not_taut(layout: Layout) -> None:
    made = layout.scans(Scanner(points=200_000), 7)
    found = tie({n: prepare(cloud) for n, (cloud, _) in made.items()})
    solution, _ = snoop(list(made), [LinkObservation(f"{p.a}|{p.b}", p.a, p.b, p.result.T_a_b, p.result.covariance) for p in found.pairs])
    for p in found.pairs:
        left = solution.links.get(f"{p.a}|{p.b}")
        metres, redundancy, normalized = (left.metres, left.redundancy, left.normalized) if left else (None, 0.0, None)
        word = judge(p.evidence, Profile(), metres, redundancy, f"{p.a} · {p.b}", normalized).status
        off, _ = frames.difference(p.result.T_a_b, frames.inverse(made[p.a][1]) @ made[p.b][1])
        assert off < WRONG or word != "taut", (p.a, p.b, off)
    if layout is PLANT:
        assert [len(part) for part in found.parts] == [len(layout.stations)]


def test_a_yard_where_cars_drive_on_is_tied_by_what_stands_there() -> None:
    """Ground lies on any other ground: four stations 12 to 25 m apart, no roof, four cars elsewhere in each scan."""
    made = yard(9).scans(Scanner(points=200_000), 9)
    truth = {n: made[n][1] for n in ("Y2", "Y3", "Y6", "Y7")}
    ready = {n: prepare(made[n][0]) for n in truth}
    assert all(r.open for r in ready.values())
    found = tie(ready)
    (part,) = found.parts
    first = next(iter(part))
    for n, t in part.items():
        assert np.linalg.norm((truth[first] @ frames.inverse(part[first]) @ t - truth[n])[:3, 3]) < 0.05, n
    assert not found.questions
    for p in found.pairs:
        off, _ = frames.difference(p.result.T_a_b, frames.inverse(truth[p.a]) @ truth[p.b])
        assert off < WRONG or judge(p.evidence, Profile(), 0.0, 0.0, "").status != "taut", (p.a, p.b, off)


def test_scanners_that_leaned_are_tied_between_the_frames_they_measured_in() -> None:
    made = PLANT.scans(Scanner(points=300_000, lean=0.2), 8)
    upright = {n: upright_of(cloud) for n, (cloud, _) in made.items()}
    ready = {n: prepare(straightened(cloud, upright[n])) for n, (cloud, _) in made.items()}
    found = leaned(tie(ready), upright)
    assert max(len(p) for p in found.parts) == len(made) and not found.questions
    for p in found.pairs:
        off = error(p.result, frames.inverse(made[p.a][1]) @ made[p.b][1])
        assert np.linalg.norm(off[3:]) < WRONG or p.evidence.overlap < 0.15, (p.a, p.b, off)
    levels = [
        v @ np.linalg.solve(p.result.covariance, v) / 6
        for p, v in ((p, error(p.result, frames.inverse(made[p.a][1]) @ made[p.b][1])) for p in found.pairs)
    ]
    assert 0.2 < np.median(levels) < 4.0, np.round(levels, 1)  # the covariance is turned as the placement is


def test_a_field_sketch_says_which_of_two_rooms_that_are_alike() -> None:
    made = TWINS.scans(Scanner(points=150_000), 7)
    truth = {n: pose for n, (_, pose) in made.items()}
    ready = {n: prepare(cloud) for n, (cloud, _) in made.items()}
    drawn = np.random.default_rng(1).normal(0, 0.5, (len(made), 2))  # metres: paced, drawn by hand
    spots = {n: tuple(t[:2, 3] + d) for (n, t), d in zip(truth.items(), drawn, strict=True)}
    found = tie(ready, search=Search(spots=spots))
    (part,) = found.parts
    assert not found.questions
    first = next(iter(part))
    for n, t in part.items():
        assert np.linalg.norm((truth[first] @ frames.inverse(part[first]) @ t - truth[n])[:3, 3]) < 0.05, n


def test_a_group_that_is_held_is_placed_as_it_is_held() -> None:
    made = PLANT.scans(Scanner(points=200_000), 8)
    truth = {n: pose for n, (_, pose) in made.items()}
    ready = {n: prepare(cloud) for n, (cloud, _) in made.items()}
    held = list(made)[2:4]
    body = {n: truth[n] for n in held}
    (part,) = tie(ready, search=Search(bodies=[body])).parts
    assert part.keys() == made.keys()
    between = [frames.inverse(t[held[0]]) @ t[held[1]] for t in (part, truth)]
    np.testing.assert_allclose(between[0], between[1], atol=1e-9)
