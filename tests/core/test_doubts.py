"""A scan that speaks against itself."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from taut_lantern.core.scan.doubts import floor_below, remarks, seam
from taut_lantern.core.scan.scan import Scan
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import ottermere
from taut_lantern.standins.site import simulate, station_pose


@pytest.mark.parametrize("station", ["ST-01", "ST-03", "ST-06", "ST-09", "ST-11"])
def test_a_scan_that_nobody_moved_meets_itself(station: str) -> None:
    cloud, _ = simulate(station, Scanner(points=400_000), 5)
    found = seam(cloud)
    assert found is not None and not found.bumped, found
    assert remarks(cloud) == []


@pytest.mark.parametrize("station", ["ST-01", "ST-03", "ST-06", "ST-09"])
@pytest.mark.parametrize(("shift", "turn"), [((0.009, -0.007, 0.004), 0.0), ((0.002, 0.0, -0.008), 0.0012)])
def test_an_instrument_that_was_bumped_is_named(station: str, shift: tuple[float, float, float], turn: float) -> None:
    """Bumped by a centimetre after two thirds of its turn: the late columns are those of a scan from where it stood then."""
    where, yaw = station_pose(station)
    scene, scanner = ottermere(5, []), Scanner(points=400_000)
    first = scan(scene, where, yaw, 7, scanner)[0]
    then = scan(scene, (where[0] + shift[0], where[1] + shift[1], where[2] + shift[2]), yaw + turn, 7, scanner)[0]
    assert first.column is not None and then.column is not None and first.row is not None and then.row is not None
    bump = int(0.66 * first.column.max())
    early, late = first.take(first.column <= bump), then.take(then.column > bump)
    assert early.column is not None and late.column is not None and early.row is not None and late.row is not None
    whole = Scan(
        np.concatenate([early.xyz, late.xyz]),
        row=np.concatenate([early.row, late.row]),
        column=np.concatenate([early.column, late.column]),
    )
    found = seam(whole)
    assert found is not None and found.bumped, found
    assert "moved while it scanned" in remarks(whole)[0]


def test_without_a_grid_or_a_whole_turn_nothing_is_said() -> None:
    cloud, _ = simulate("ST-01", Scanner(points=100_000), 5)
    assert cloud.column is not None
    assert seam(replace(cloud, row=None, column=None)) is None
    assert seam(cloud.take(cloud.column < 0.6 * cloud.column.max())) is None


def test_feet_taken_for_metres_are_asked_about() -> None:
    cloud, _ = simulate("ST-02", Scanner(points=100_000), 5)
    below = floor_below(cloud)
    assert below is not None and 1.2 < below < 2.2
    (said,) = remarks(replace(cloud, row=None, column=None, xyz=(cloud.xyz / 0.3048).astype(np.float32)))
    assert "feet" in said
