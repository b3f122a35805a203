"""What a link or a set-up would bring, against the adjustment of the network that has it; and what is seen from where."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.network.adjust import adjust
from taut_lantern.core.network.advice import Held
from taut_lantern.core.network.observations import LinkObservation
from taut_lantern.core.network.sight import Sight

TURN, SHIFT = 2e-5, 5e-4


def network(seed: int, far: float = 0.0) -> tuple[dict[str, np.ndarray], list[LinkObservation]]:
    """Eight stations in a row, each tied to the next; exact measures, so that only their precision speaks."""
    rng = np.random.default_rng(seed)
    poses = {f"S{k}": frames.pose(rng.uniform(-3, 3), (far + 9.0 * k, 4.0 * rng.random(), rng.random())) for k in range(8)}
    return poses, [link(poses, f"S{k}", f"S{k + 1}") for k in range(7)]


def link(poses: dict[str, np.ndarray], a: str, b: str) -> LinkObservation:
    """As precise as others in the middle between its stations."""
    t = frames.inverse(poses[a]) @ poses[b]
    about = np.eye(6)
    about[3:, :3] = frames.skew(t[:3, 3] / 2)
    return LinkObservation(f"{a}{b}", a, b, t, about @ np.diag([TURN**2] * 3 + [SHIFT**2] * 3) @ about.T)


def deviations(found: object) -> dict[str, float]:
    return {x: float(np.linalg.norm(v)) for x, v in found.sigma_position.items()}  # type: ignore[attr-defined]


@pytest.mark.parametrize(("seed", "far"), [(1, 0.0), (2, 5e6), (3, 40.0)])
def test_what_a_link_is_said_to_bring_is_what_adjusting_with_it_brings(seed: int, far: float) -> None:
    poses, links = network(seed, far)
    before = adjust(list(poses), links, datum={"S0": poses["S0"]})
    held = Held(list(poses), before.poses, "S0", before.joint(list(poses)))
    for a, b in (("S0", "S7"), ("S1", "S6"), ("S7", "S2")):
        after = deviations(adjust(list(poses), [*links, link(poses, a, b)], datum={"S0": poses["S0"]}))
        gain = held.link(a, b, (TURN, SHIFT))
        assert gain is not None and gain.before == pytest.approx(deviations(before)[gain.station], rel=1e-4)
        assert gain.after == pytest.approx(after[gain.station], rel=1e-3)
        fall = {x: deviations(before)[x] - after[x] for x in poses}
        assert gain.station == max(fall, key=lambda x: fall[x])


def test_what_a_set_up_is_said_to_bring_is_what_adjusting_with_it_brings() -> None:
    poses, links = network(4)
    before = adjust(list(poses), links, datum={"S0": poses["S0"]})
    held = Held(list(poses), before.poses, "S0", before.joint(list(poses)))
    place, members = np.array([31.0, -6.0, 0.5]), ("S1", "S3", "S6")
    new = dict(poses, new=np.eye(4))
    new["new"][:3, 3] = place
    extra = []
    for x in members:  # as precise as said where the new station stands
        k = link(new, "new", x)
        extra.append(LinkObservation(k.key, k.a, k.b, k.T_a_b, np.diag([TURN**2] * 3 + [SHIFT**2] * 3)))
    after = deviations(adjust(list(new), [*links, *extra], datum={"S0": poses["S0"]}))
    gain = held.set_up(place - poses["S0"][:3, 3], members, (TURN, SHIFT))
    assert gain is not None and gain.after == pytest.approx(after[gain.station], rel=1e-3)
    assert gain.station == "S7" or gain.after < gain.before


def wall(low: tuple[float, float, float], high: tuple[float, float, float]) -> np.ndarray:
    """Points 10 cm apart on a flat box."""
    axes = [np.arange(a, b + 0.05, 0.1) if b > a else np.array([a]) for a, b in zip(low, high, strict=True)]
    return np.stack(np.meshgrid(*axes), axis=-1).reshape(-1, 3)


def test_a_wall_hides_and_a_door_shows() -> None:
    """Two rooms with a door between: who stands before it sees both."""
    floor, back = wall((0, 0, 0), (12, 6, 0)), wall((0, 6, 0), (12, 6, 3))
    between = np.concatenate([wall((6, 0, 0), (6, 2.4, 3)), wall((6, 3.8, 0), (6, 6, 3))])
    ends = [wall((x, 0, 0), (x, 6, 3)) for x in (0, 12)]
    left = np.concatenate([p[p[:, 0] <= 6.01] for p in (floor, back, between, ends[0])])
    right = np.concatenate([p[p[:, 0] >= 5.99] for p in (floor, back, between, ends[1])])
    sight = Sight({"L": left, "R": right}, {"L": np.array([2.0, 1.0, 1.6]), "R": np.array([10.0, 1.0, 1.6])})
    assert sight.shared("L", "R") < 0.2
    seen = sight.free(np.array([2.0, 1.0, 1.6]), np.array([[10.0, 1.0, 1.6], [4.0, 5.0, 1.6], [10.0, 5.2, 1.6]]))
    assert seen.tolist() == [False, True, True]  # through the wall, in the room, through the door
    before = sight.look(np.array([5.0, 3.1, 1.6])).shares
    behind = sight.look(np.array([1.5, 5.0, 1.6])).shares
    assert before["R"] > behind["R"] + 0.1 and behind["L"] > 0.8, (before, behind)
    places = np.array([at for at, _ in sight.places()])
    assert len(places) and (np.abs(places[:, 2] - 1.6) < 0.01).all()
    assert ((places[:, 0] > 0.4) & (places[:, 0] < 11.6) & (places[:, 1] > 0.4) & (places[:, 1] < 5.6)).all()  # on a floor, off the walls
    assert (np.abs(places[:, :2] - [5.5, 3.1]).max(axis=1) < 1.6).any()  # by the door one sees both stations
