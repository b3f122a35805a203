"""Steel columns in a plan, held to the sections that were put up, beside rectangular ones, furniture and walls."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.draw.faces import Around
from taut_lantern.core.draw.steel import standing
from taut_lantern.core.draw.walls import find
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import Scene
from tests.core.test_solids import bar

GREY = (0.5, 0.5, 0.5)


@pytest.mark.parametrize(("seed", "turned"), [(3, 0.0), (4, 0.35)])
def test_columns_of_rolled_steel_are_told_from_those_of_concrete_and_from_chests(seed: int, turned: float) -> None:
    rng = np.random.default_rng(seed)
    s = Scene()
    s.box((-7, -5, -0.2), (7, 5, 0), GREY)
    for low, high in (
        ((-7.2, -5, 0), (-7, 5, 3.5)),
        ((7, -5, 0), (7.2, 5, 3.5)),
        ((-7, -5.2, 0), (7, -5, 3.5)),
        ((-7, 5, 0), (7, 5.2, 3.5)),
    ):
        s.box(low, high, GREY)
    names = list(rng.choice(["HE 200 A", "HE 180 B", "IPE 270", "HE 240 A", "UPE 220", "IPE 200"], 4, replace=False))
    places = [(-4.0, 2.0), (-1.3, 2.2), (1.5, 2.1), (4.2, 1.9)]
    for name, (x, y) in zip(names, places, strict=True):
        bar(s, str(name), frames.pose(turned + np.pi / 2 * rng.integers(0, 4), (x, y, 0.0)), 3.4)
    s.box((-3.0, -2.6, 0), (-2.7, -2.3, 3.4), GREY)  # a concrete column, and a chest
    s.box((2.0, -2.8, 0), (2.5, -2.4, 1.5), GREY)
    clouds, stands, which = [], [], []
    for k, (x, y) in enumerate(((-3.0, -0.4), (2.9, -0.3), (0.1, 4.0))):
        cloud, pose = scan(s, (x, y, 1.7), 0.2 * k, 80 + k, Scanner(points=2_000_000))
        p = frames.apply(pose, cloud.xyz) - [0, 0, 1.2]
        p = p[(p[:, 2] > -1.0) & (p[:, 2] < 1.45)]
        clouds.append(p)
        which.append(np.full(len(p), k))
        stands.append([x, y, 0.5])
    points, at = np.concatenate(clouds), np.array(stands)
    slab = points[np.abs(points[:, 2]) < 0.05]
    faces = find(slab, Around(points, np.concatenate(which), at), True).faces
    found = standing(slab[:, :2], [(np.array(f.a), np.array(f.b)) for f in faces], at[:, :2])
    told = {min(range(4), key=lambda k: float(np.linalg.norm(np.subtract(f.middle, places[k])))): f for f, _ in found}
    assert len(told) == len(found) >= 3  # none of the concrete, and no column twice
    for k, f in told.items():
        assert f.profile.name == names[k], (f.profile.name, names[k])
        assert np.linalg.norm(np.subtract(f.middle, places[k])) < 0.002 and f.rms < 0.002
