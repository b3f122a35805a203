"""The adjustment against truth, Monte Carlo, and its own properties."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.errors import NotEnough
from taut_lantern.core.network.adjust import adjust
from taut_lantern.core.network.observations import ControlObservation, LevelObservation, LinkObservation, SightingObservation
from taut_lantern.core.network.parts import connected_parts
from taut_lantern.core.network.predicted import errors, form
from taut_lantern.core.network.predicted import errors as expected_errors
from taut_lantern.core.network.reliability import snoop
from taut_lantern.core.network.solution import Solution

SIGMA = np.diag([1e-4, 1e-4, 1e-4, 1e-3, 1e-3, 1e-3]) ** 2


def small_motion(d: np.ndarray) -> np.ndarray:
    t = np.eye(4)
    t[:3, :3], t[:3, 3] = frames.rotation(d[:3]), d[3:]
    return t


def network(
    n: int, seed: int, origin: tuple[float, float, float] = (0, 0, 0), reach: int = 3
) -> tuple[dict[str, np.ndarray], list[LinkObservation]]:
    """True poses along a loop, and links to the next ``reach`` stations with noise drawn from SIGMA."""
    rng = np.random.default_rng(seed)
    true = {}
    for k in range(n):
        angle = 2 * np.pi * k / n
        t = frames.pose(float(rng.uniform(-3, 3)), (30 * np.cos(angle), 20 * np.sin(angle), float(rng.normal())))
        t[:3, 3] += origin
        true[f"S{k:02d}"] = t
    names = list(true)
    links = []
    for k in range(n):
        for d in range(1, reach + 1):
            a, b = names[k], names[(k + d) % n]
            if (k + d) % n == k or (n <= 2 * reach and (k + d) >= n):
                continue
            exact = frames.inverse(true[a]) @ true[b]
            noise = small_motion(rng.multivariate_normal(np.zeros(6), SIGMA))
            links.append(LinkObservation(f"{a}-{b}", a, b, noise @ exact, SIGMA))
    return true, links


def error(solution: Solution, true: dict[str, np.ndarray], name: str) -> np.ndarray:
    """Small motion of a pose against truth, both in the frame of the datum."""
    datum = solution.parts[0][0]
    found = frames.inverse(solution.poses[datum]) @ solution.poses[name]
    expected = frames.inverse(true[datum]) @ true[name]
    e = found @ frames.inverse(expected)
    return np.concatenate([frames.rotation_vector(e[:3, :3]), found[:3, 3] - expected[:3, 3]])


@pytest.mark.parametrize("origin", [(0, 0, 0), (437_000.0, 5_812_000.0, 46.0)])
def test_poses_are_found_within_their_deviations(origin: tuple[float, float, float]) -> None:
    true, links = network(40, 1, origin)
    start = {"S00": true["S00"]}
    s = adjust(list(true), links, datum=start)
    assert s.converged and s.passed and 0.8 < s.sigma0 < 1.2
    np.testing.assert_array_equal(s.poses["S00"], true["S00"])
    for name in true:
        assert np.linalg.norm(error(s, true, name)[3:]) < 5 * max(np.linalg.norm(s.sigma_position[name]), 1e-9) + 1e-6


def test_deviations_agree_with_a_monte_carlo_run() -> None:
    runs = [(true, adjust(list(true), links, robust=False)) for true, links in (network(8, seed) for seed in range(150))]
    for name in ("S03", "S06"):
        spread = np.sqrt(np.mean([error(s, true, name)[3:] ** 2 for true, s in runs], axis=0))
        claimed = np.mean([s.sigma_position[name] / max(s.sigma0, 1.0) for _, s in runs], axis=0)
        assert abs(np.log(np.linalg.norm(spread) / np.linalg.norm(claimed))) < np.log(1.2)


def test_the_order_of_links_and_stations_changes_nothing() -> None:
    true, links = network(12, 3)
    one = adjust(list(true), links)
    other = adjust(list(true), links[::-1])
    for name in true:
        np.testing.assert_allclose(one.poses[name], other.poses[name], atol=1e-9)


def test_stations_without_links_make_parts_of_their_own() -> None:
    true, links = network(6, 4)
    s = adjust([*true, "X1", "X2"], links)
    assert [len(p) for p in s.parts] == [6, 1, 1]
    assert connected_parts(["a", "b", "c", "d"], [("c", "d")]) == [["c", "d"], ["a"], ["b"]]
    with pytest.raises(NotEnough, match="no station"):
        adjust([], [])


def test_one_link_alone_is_taken_as_it_is_and_proves_nothing() -> None:
    true, links = network(2, 5, reach=1)
    s = adjust(list(true), links[:1])
    found = frames.inverse(s.poses[links[0].a]) @ s.poses[links[0].b]
    np.testing.assert_allclose(found, links[0].T_a_b, atol=1e-12)
    assert s.degrees_of_freedom == 0 and s.links[links[0].key].redundancy < 1e-6


@pytest.mark.parametrize("blunder", [0.02, 0.3])
def test_a_blunder_is_left_out_and_the_rest_is_right(blunder: float) -> None:
    true, links = network(10, 6)
    bad = links[7]
    links[7] = LinkObservation(bad.key, bad.a, bad.b, small_motion(np.array([0, 0, 0, blunder, 0, 0])) @ bad.T_a_b, SIGMA)
    solution, left_out = snoop(list(true), links)
    assert left_out == [bad.key]
    assert all(np.linalg.norm(error(solution, true, n)[3:]) < 0.006 for n in true)


def test_targets_seen_twice_hold_stations_that_no_link_holds_well() -> None:
    true, links = network(4, 7, reach=1)
    loose = np.diag([1e-4, 1e-4, 1e-4, 5e-2, 1e-3, 1e-3]) ** 2
    links = [LinkObservation(k.key, k.a, k.b, k.T_a_b, loose) for k in links]
    spots = np.random.default_rng(8).normal(size=(5, 3)) * 10
    sightings = [
        SightingObservation(n, f"T{k}", frames.apply(frames.inverse(t), p[None])[0], np.eye(3) * 1e-6)
        for n, t in true.items()
        for k, p in enumerate(spots)
    ]
    without, with_ = adjust(list(true), links), adjust(list(true), links, sightings)
    assert np.linalg.norm(with_.sigma_position["S02"]) < 0.1 * np.linalg.norm(without.sigma_position["S02"])
    assert np.linalg.norm(error(with_, true, "S02")[3:]) < 0.004
    assert {t.target for t in with_.targets} == {f"T{k}" for k in range(5)}


def test_the_datum_that_is_asked_for_stands_where_it_stood_and_the_rest_about_it() -> None:
    true, links = network(12, 9)
    free = adjust(list(true), links)
    for name in ("S05", "S11"):
        kept = frames.pose(0.4, (4e5, 5e6, 30.0)) @ true[name]
        held = adjust(list(true), links, datum={name: kept})
        assert held.datum == [name]
        np.testing.assert_array_equal(held.poses[name], kept)
        for other in true:
            np.testing.assert_allclose(
                frames.inverse(held.poses[name]) @ held.poses[other], frames.inverse(free.poses[name]) @ free.poses[other], atol=1e-6
            )


def test_a_held_body_keeps_its_shape_to_the_last_digit_and_is_one_unknown() -> None:
    true, links = network(10, 12)
    inside = {n: true[n] for n in ("S02", "S03", "S04")}
    free, held = adjust(list(true), links), adjust(list(true), links, bodies=[inside])
    for a in inside:
        for b in inside:
            np.testing.assert_allclose(frames.inverse(held.poses[a]) @ held.poses[b], frames.inverse(true[a]) @ true[b], atol=1e-10)
    assert held.converged and held.degrees_of_freedom == free.degrees_of_freedom + 12
    assert all(np.linalg.norm(error(held, true, n)[3:]) < 0.005 for n in true)
    pose = frames.pose(0.2, (40.0, 0, 0))
    alone = adjust([*inside, "far"], [LinkObservation("x", "S02", "far", pose, SIGMA)], bodies=[inside])
    assert [len(p) for p in alone.parts] == [4]  # the body connects its stations without a link


def test_targets_alone_tie_stations_that_no_link_connects() -> None:
    true, _ = network(4, 13)
    spots = np.random.default_rng(14).normal(size=(6, 3)) * 8
    rng = np.random.default_rng(15)
    sightings = [
        SightingObservation(n, f"T{k}", frames.apply(frames.inverse(t), p[None])[0] + rng.normal(0, 0.001, 3), np.eye(3) * 1e-6)
        for n, t in true.items()
        for k, p in enumerate(spots)
    ]
    s = adjust(list(true), [], sightings)
    assert [len(p) for p in s.parts] == [4] and s.converged and s.passed
    assert all(np.linalg.norm(error(s, true, n)[3:]) < 0.006 for n in true)


def test_an_adjustment_that_does_not_converge_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    true, links = network(12, 3)
    monkeypatch.setattr("taut_lantern.core.network.adjust.STEPS", 2)
    s = adjust(list(true), links)
    assert not s.converged and [(f.code, f.severity) for f in s.findings] == [("not_converged", "fault")]


def corridor(seed: int, n: int = 12) -> tuple[dict[str, np.ndarray], list[LinkObservation]]:
    """A chain of stations 8 m apart that no loop controls, its links turning by 0.2 mrad."""
    rng, covariance = np.random.default_rng(seed), np.diag([2e-4, 2e-4, 2e-4, 1e-3, 1e-3, 1e-3]) ** 2
    true = {f"S{k:02d}": frames.pose(float(rng.uniform(-3, 3)), (8.0 * k, 0.0, 0.0)) for k in range(n)}
    names, links = list(true), []
    for a, b in zip(names[:-1], names[1:], strict=True):
        noise = small_motion(rng.multivariate_normal(np.zeros(6), covariance))
        links.append(LinkObservation(f"{a}-{b}", a, b, noise @ frames.inverse(true[a]) @ true[b], covariance))
    return true, links


@pytest.mark.parametrize("lean", [0.0, 0.12])
def test_levels_hold_the_height_of_a_chain_and_claim_what_they_err(lean: float) -> None:
    """The part's own z need not be up: what counts is that all levels point one way. 60 draws."""
    sigma, levelled, bare, claims = 5e-5, [], [], []
    for seed in range(60):
        true, links = corridor(seed)
        rng = np.random.default_rng(1000 + seed)
        ups = (t[:3, :3].T @ frames.rotation(np.array([*rng.normal(0, sigma, 2), 0.0])) @ [0, 0, 1.0] for t in true.values())
        levels = [LevelObservation(name, sigma, tuple(up)) for name, up in zip(true, ups, strict=True)]
        start = {"S00": frames.pose(0.3) @ small_motion(np.array([lean, 0, 0, 0, 0, 0]))}
        for given, kept in ((levels, levelled), ((), bare)):
            s = adjust(list(true), links, datum=start, levels=given)
            assert s.converged
            e = error(s, true, "S11")
            kept.append(e)
            if given:
                back = s.poses["S00"][:3, :3].T
                j = np.hstack([-frames.skew(back @ (s.poses["S11"][:3, 3] - s.poses["S00"][:3, 3])), np.eye(3)]) @ np.kron(np.eye(2), back)
                claims.append(e[3:] @ np.linalg.inv(j @ s.covariance["S11"] @ j.T) @ e[3:] / 3)
                np.testing.assert_allclose(s.up[0], s.poses["S00"][:3, :3] @ true["S00"][:3, :3].T @ [0, 0, 1], atol=5 * sigma)
    height = [float(np.sqrt(np.mean(np.array(x)[:, 5] ** 2))) for x in (levelled, bare)]
    assert height[0] < 0.5 * height[1]
    assert 0.6 < np.mean(claims) < 1.5


def test_places_in_control_err_as_claimed_however_far_the_datum_is() -> None:
    """The datum at one end, control at the other: what turns about the datum is taken back by placing. 80 draws."""
    placing = frames.pose(0.7, (437_215.0, 5_812_904.0, 46.0))
    spots = np.array([[70.0, 4, 0], [90, -4, 1], [84, 5, -1], [76, -5, 0.5]])
    ratios, apart, points = [], [], []
    for seed in range(80):
        true, links = corridor(seed)
        rng = np.random.default_rng(2000 + seed)
        seen = [
            SightingObservation(s, f"T{k}", frames.apply(frames.inverse(true[s]), at[None])[0] + rng.normal(0, 5e-4, 3), 25e-8 * np.eye(3))
            for k, at in enumerate(spots)
            for s in ("S09", "S10", "S11")
        ]
        control = [
            ControlObservation(f"T{k}", frames.apply(placing, at[None])[0] + rng.normal(0, 1e-3, 3), 1e-6 * np.eye(3))
            for k, at in enumerate(spots)
        ]
        s = adjust(list(true), links, seen, datum={"S00": true["S00"]}, control=control)
        (placed,) = s.placings
        assert s.converged and set(placed.residuals) == {"T0", "T1", "T2", "T3"}
        for name in ("S10", "S00"):
            stands = placed.T_control_part @ s.poses[name]
            off = (stands - placing @ true[name])[:3, 3]
            ratios.append(off @ np.linalg.inv(placed.position(name, stands)) @ off / 3)
            beside = np.array([[6.0, 5.0, -1.5]])  # a place that the station saw
            there = frames.apply(stands, beside) - frames.apply(placing @ true[name], beside)
            points.append(np.linalg.norm(there) / errors(form(placed.motions[name], stands, placed.centre), beside)[0])
        claimed = placed.position("S10", placed.T_control_part @ s.poses["S10"])
        apart.append(np.sqrt(np.trace(s.covariance["S10"][3:, 3:]) / np.trace(claimed)))
        if seed == 0:
            free = adjust(list(true), links, seen, datum={"S00": true["S00"]}, control=control[:2])  # two hold no turn: nothing is placed
            assert free.placings == [] and all(np.allclose(free.poses[k], s.poses[k], atol=0.02) for k in true)
    assert 0.7 < np.mean(ratios) < 1.4
    assert 0.7 < np.mean(np.square(points)) < 1.4
    assert np.median(apart) > 3  # what the network alone would say of a station far from its datum


@pytest.mark.parametrize("seed", [1, 2])
def test_what_a_point_is_expected_to_be_off_by_is_what_it_is_off_by(seed: int) -> None:
    """The form of a station's covariance against small motions that are drawn from it (Monte Carlo), far from the datum."""
    rng = np.random.default_rng(seed)
    root = rng.normal(size=(6, 6)) * np.array([1e-5] * 3 + [2e-4] * 3)[:, None]
    covariance, pose, datum = root @ root.T, frames.pose(0.8, (40.0, -25.0, 3.0)), np.array([5e6, 2e6, 10.0])
    pose[:3, 3] += datum
    points = rng.uniform(-30, 30, (5, 3))
    motions = rng.multivariate_normal(np.zeros(6), covariance, 40_000)
    at = frames.apply(pose, points) - datum
    moved = motions[:, None, 3:] + np.cross(motions[:, None, :3], at[None])
    seen = np.sqrt((moved**2).sum(axis=2).mean(axis=0))
    np.testing.assert_allclose(expected_errors(form(covariance, pose, datum), points), seen, rtol=0.02)
