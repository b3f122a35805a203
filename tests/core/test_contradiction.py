"""Contradicted objects: whole things count, points at edges and people do not, and a copied room shows itself by its furniture."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.align.contradiction import Contradiction, clusters, contradiction, limits
from taut_lantern.core.align.prepared import Prepared, prepare
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import Scene, Vec

SPOTS = ((2.0, 2.2, 1.6), (4.4, 2.6, 1.65))
Box = tuple[Vec, Vec]


def seen(spot: int, *boxes: Box) -> tuple[Prepared, np.ndarray]:
    """A room of 6.5 x 5 m with these boxes in it, from a spot: (prepared scan, true pose)."""
    s, grey = Scene(), (0.6, 0.6, 0.6)
    s.box((0, 0, -0.2), (6.5, 5, 0), grey, 0.4)
    s.box((0, 0, 2.7), (6.5, 5, 2.9), grey, 0.4)
    for axis, at, span in ((0, -0.1, (0, 5)), (0, 6.5, (0, 5)), (1, -0.1, (0, 6.5)), (1, 5.0, (0, 6.5))):
        s.wall(axis, at, 0.1, span, (0, 2.7), [], grey, 0.5)
    for low, high in boxes:
        s.box(low, high, grey, 0.5)
    cloud, pose = scan(s, SPOTS[spot], 0.4 + spot, 10 + spot, Scanner(points=150_000))
    return prepare(cloud, whole=False), pose


def between(a: tuple[Prepared, np.ndarray], b: tuple[Prepared, np.ndarray]) -> Contradiction:
    t = frames.inverse(a[1]) @ b[1]
    return contradiction(a[0].speakers, a[0].grid, b[0].speakers, b[0].grid, t)


TABLE: Box = ((3.0, 3.6, 0.0), (4.4, 4.3, 0.75))
MOVED: Box = ((3.4, 3.6, 0.0), (4.8, 4.3, 0.75))
CABINET: Box = ((0.0, 3.2, 0.0), (0.6, 4.2, 1.9))
PERSON: Box = ((3.0, 1.2, 0.0), (3.5, 1.6, 1.75))


@pytest.fixture(scope="module")
def bare() -> tuple[Prepared, np.ndarray]:
    return seen(0, TABLE)


def test_the_same_room_contradicts_nothing(bare: tuple[Prepared, np.ndarray]) -> None:
    c = between(bare, seen(1, TABLE))
    assert c.agree > 50 and c.structure == 0 and c.movers == 0


def test_a_table_that_stands_elsewhere_contradicts_by_its_size(bare: tuple[Prepared, np.ndarray]) -> None:
    c = between(bare, seen(1, MOVED))
    assert c.movers > 0.1 and 0.3 < c.structure + c.movers < 1.5  # two ends of 0.4 m, 0.75 m high, each seen by one scan
    assert limits(c, 0.0)[0] > limits(c, 0.0)[1]  # too much where nothing moves
    assert limits(c, 0.01)[0] < limits(c, 0.01)[1]  # and explained where much does


def test_a_cabinet_on_a_wall_is_structure_and_stands_where_it_is_told(bare: tuple[Prepared, np.ndarray]) -> None:
    c = between(bare, seen(1, TABLE, CABINET))
    assert c.structure > 0.5 and c.movers == 0
    place = frames.apply(bare[1], c.places[:1])[0]
    assert -0.1 < place[0] < 0.7 and 3.1 < place[1] < 4.3


def test_somebody_who_stood_there_says_nothing(bare: tuple[Prepared, np.ndarray]) -> None:
    c = between(bare, seen(1, TABLE, PERSON))
    assert c.structure == 0 and c.movers == 0


def test_clusters_touch_by_side_edge_or_corner_and_not_across_a_gap() -> None:
    points = np.array([[0, 0, 0], [0.11, 0.11, 0.11], [0.5, 0, 0], [0.61, 0, 0], [-3, 4, 9.0]]) + 0.005
    label, count = clusters(points, 0.1)
    assert count == 3 and label[0] == label[1] != label[2] == label[3] != label[4]
    assert clusters(points[:1], 0.1)[1] == 1
