"""Levels, tapes and plumb walls in the network: what they add is true, what contradicts is named, what is claimed holds."""

import numpy as np

from taut_lantern.core import frames
from taut_lantern.core.network.adjust import adjust
from taut_lantern.core.network.observations import (
    ControlObservation,
    DistanceObservation,
    LevelObservation,
    LinkObservation,
    PlumbObservation,
    SightingObservation,
)
from taut_lantern.core.network.upright import adjust_upright

from .test_network import corridor, error, network

UP = np.array([0.0, 0.0, 1.0])
SIGMA = 1e-4


def levels_of(true: dict[str, np.ndarray], rng: np.random.Generator, off: dict[str, float] | None = None) -> list[LevelObservation]:
    out = []
    for name, t in true.items():
        turn = frames.rotation(np.array([(off or {}).get(name, 0.0) + rng.normal(0, SIGMA), rng.normal(0, SIGMA), 0.0]))
        out.append(LevelObservation(name, SIGMA, tuple(t[:3, :3].T @ turn @ UP)))
    return out


def test_a_scanner_that_was_kicked_is_named_and_no_other() -> None:
    """2 mrad, and 3 degrees, in 40 networks each; no level is left out of 40 sound ones."""
    for off in (0.002, 0.05):
        named = []
        for seed in range(40):
            true, links = network(10, seed)
            s, left = adjust_upright(list(true), links, [], {}, levels=levels_of(true, np.random.default_rng(seed), {"S04": off}))
            named.append(list(left) == ["S04"])
            assert s.converged and abs(left.get("S04", off) - off) < 0.5 * off
        assert sum(named) >= 39
    for seed in range(40):
        true, links = network(10, seed)
        assert adjust_upright(list(true), links, [], {}, levels=levels_of(true, np.random.default_rng(seed)))[1] == {}


def test_levels_that_are_wrong_as_a_whole_do_not_bend_the_network() -> None:
    true, links = network(10, 3)
    rng = np.random.default_rng(5)
    wrong = {name: float(rng.uniform(0.003, 0.1)) for name in true}
    s, left = adjust_upright(list(true), links, [], {}, levels=levels_of(true, rng, wrong))
    free = adjust(list(true), links)
    assert left.keys() == true.keys() and s.up == {}
    assert all(np.allclose(s.poses[x], free.poses[x], atol=1e-12) for x in true)


def test_a_tape_holds_what_a_link_leaves_free_and_names_a_wrong_one() -> None:
    """Two stations that slide along a gallery by 30 mm; a target seen from each, 12 m apart by tape. 60 draws."""
    true = {"A": np.eye(4), "B": frames.pose(1.2, (10.0, 0.3, 0.1))}
    loose = np.diag([1e-4, 1e-4, 1e-4, 0.03, 1e-3, 1e-3]) ** 2
    spots = {"T1": ("A", np.array([-1.0, 1, 0])), "T2": ("B", np.array([11.0, 1.0, 0.2]))}
    metres = float(np.linalg.norm(spots["T1"][1] - spots["T2"][1]))
    with_tape, without, claims = [], [], []
    for seed in range(60):
        rng = np.random.default_rng(seed)
        noise = np.eye(4)
        d = rng.multivariate_normal(np.zeros(6), loose)
        noise[:3, :3], noise[:3, 3] = frames.rotation(d[:3]), d[3:]
        links = [LinkObservation("A-B", "A", "B", noise @ true["B"], loose)]
        seen = [
            SightingObservation(s, t, frames.apply(frames.inverse(true[s]), at[None])[0] + rng.normal(0, 5e-4, 3), 25e-8 * np.eye(3))
            for t, (s, at) in spots.items()
        ]
        tape = DistanceObservation("tape", "T1", "T2", metres + rng.normal(0, 0.002), 0.002)
        for tapes, kept in (([tape], with_tape), ([], without)):
            s = adjust(list(true), links, seen, tapes=tapes)
            kept.append(np.linalg.norm(error(s, true, "B")[3:]))
            if tapes:
                claims.append((error(s, true, "B")[3] / s.sigma_position["B"][0]) ** 2)
    assert np.sqrt(np.mean(np.square(with_tape))) < 0.2 * np.sqrt(np.mean(np.square(without)))
    assert 0.7 < np.mean(claims) < 1.4
    wrong = DistanceObservation("wrong", "T1", "T2", metres + 0.1, 0.002)
    s = adjust(list(true), links, seen, tapes=[tape, tape, wrong])
    assert s.others[("tape", "wrong")].normalized > 10 and s.others[("tape", "wrong")].off > 0.05
    assert adjust(list(true), links, seen, tapes=[DistanceObservation("none", "T1", "T9", 5.0, 0.01)]).others == {}


def test_plumb_walls_hold_a_chain_upright() -> None:
    """Two walls that face apart at every station, known to be plumb within 0.1 mrad, beside a chain that none of them controls."""
    held, bare = [], []
    for seed in range(40):
        true, links = corridor(seed)
        rng = np.random.default_rng(seed)
        walls = [
            PlumbObservation(f"{s}-{k}", s, tuple(t[:3, :3].T @ frames.rotation(rng.normal(0, 5e-5, 3)) @ normal), 1e-4)
            for s, t in true.items()
            for k, normal in enumerate(([1.0, 0, 0], [0.0, 1, 0]))
        ]
        for own, kept in ((walls, held), ([], bare)):
            s = adjust(list(true), links, datum={"S00": true["S00"]}, walls=own)
            kept.append(error(s, true, "S11")[5])
            assert len(s.others) == len(own)
    assert np.std(held) < 0.5 * np.std(bare)
    alone = adjust(list(true), links, walls=walls[:1])
    assert alone.others == {} and alone.up == {}  # one wall says nothing of what is up


def test_two_control_points_place_a_levelled_network_as_well_as_they_claim() -> None:
    """And one line of three: nothing tips. 60 draws of a loop of ten stations."""
    placing = frames.pose(0.7, (437_215.0, 5_812_904.0, 46.0))
    spots = np.array([[28.0, 2, 0.5], [-28.0, -2, 1.0], [0.0, 0.0, 0.75]])
    for count in (2, 3):
        ratio = []
        for seed in range(60):
            true, links = network(10, seed)
            rng = np.random.default_rng(seed)
            seen = [
                SightingObservation(
                    s, f"T{k}", frames.apply(frames.inverse(true[s]), at[None])[0] + rng.normal(0, 5e-4, 3), 25e-8 * np.eye(3)
                )
                for k, at in enumerate(spots[:count])
                for s in ("S00", "S05")
            ]
            control = [
                ControlObservation(f"T{k}", frames.apply(placing, at[None])[0] + rng.normal(0, 1e-3, 3), 1e-6 * np.eye(3))
                for k, at in enumerate(spots[:count])
            ]
            own = levels_of(true, rng)
            datum = {"S00": true["S00"]}
            assert adjust(list(true), links, seen, datum, control=control).placings == []  # not without levels
            s = adjust(list(true), links, seen, datum, levels=own, control=control)
            (placed,) = s.placings
            at = placed.T_control_part @ s.poses["S02"]
            off = (at - placing @ true["S02"])[:3, 3]
            ratio.append(off @ np.linalg.inv(placed.position("S02", at)) @ off / 3)
        assert 0.6 < np.mean(ratio) < 1.5, (count, np.mean(ratio))
