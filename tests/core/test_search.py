"""Who is looked for in whom; a field sketch; groups that are held; scans that lean."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.align.believe import tie
from taut_lantern.core.align.level import straightened, upright_of
from taut_lantern.core.align.mirror import fits_mirrored, mirrored
from taut_lantern.core.align.prepared import prepare
from taut_lantern.core.align.search import Search, in_body, laid_on, read_spots
from taut_lantern.core.errors import BadInput
from taut_lantern.standins.scanner import Scanner
from taut_lantern.standins.site import simulate

SPOTS = {"A": (0.0, 0.0), "B": (10.0, 0.0), "C": (5.0, 8.0), "D": (60.0, 0.0)}
TURN = frames.pose(0.7, (1000.0, -300.0, 2.0))  # a sketch has neither the turn nor the origin of the part


def stands(x: float, y: float) -> np.ndarray:
    return TURN @ frames.pose(0.3, (x, y, 0.0))


@pytest.mark.parametrize(
    ("name", "at", "beside", "expected"),
    [
        ("B", (9.0, 1.5), "A", False),  # as far as drawn, within what a hand can draw
        ("B", (16.0, 0.0), "A", True),  # the next room
        ("C", (5.5, 7.0), "AB", False),
        ("C", (5.0, -8.0), "AB", True),  # as far from both, on the wrong side of them
        ("E", (90.0, 0.0), "AB", False),  # not on the sketch: it may stand anywhere
    ],
)
def test_a_sketch_rules_out_what_it_has_elsewhere(name: str, at: tuple[float, float], beside: str, expected: bool) -> None:
    placed = {n: stands(*SPOTS[n]) for n in beside}
    assert Search(spots=SPOTS).contradicts(name, stands(*at), placed) is expected


def test_who_is_looked_for_in_whom() -> None:
    order = {n: k for k, n in enumerate("ABCDEFGH")}
    assert Search().may("A", "H", order)
    assert Search(in_order=True).may("A", "C", order) and not Search(in_order=True).may("A", "H", order)
    assert Search(spots=SPOTS, reach=20).may("A", "C", order) and not Search(spots=SPOTS, reach=20).may("A", "D", order)
    held = Search(bodies=[{"A": np.eye(4), "B": stands(1, 2)}])
    assert not held.may("A", "B", order) and held.may("A", "C", order)


def test_a_body_is_placed_as_one() -> None:
    body = {"A": stands(0, 0), "B": stands(3, 4)}
    at = frames.pose(-1.2, (7, 8, 9))
    placed = in_body(body, "B", at)
    np.testing.assert_allclose(placed["B"], at, atol=1e-12)
    np.testing.assert_allclose(frames.inverse(placed["A"]) @ placed["B"], frames.inverse(body["A"]) @ body["B"], atol=1e-9)


def test_a_sketch_lies_on_the_plan_where_its_stations_stand() -> None:
    """Turned and moved as a whole; a spot that was drawn a metre off pulls it by its share alone; not scaled, not mirrored."""
    placed = {n: stands(*SPOTS[n]) for n in "ABC"}
    t = laid_on({**SPOTS, "E": (9.0, 9.0)}, placed)
    assert t is not None
    np.testing.assert_allclose(t @ [60.0, 0.0, 1.0], stands(60.0, 0.0)[:2, 3], atol=1e-9)
    off = laid_on({**SPOTS, "C": (6.0, 8.0)}, placed)
    assert off is not None
    assert np.linalg.norm(off @ [5.0, 8.0, 1.0] - placed["C"][:2, 3]) < 1.0 and abs(np.linalg.det(off[:, :2]) - 1) < 1e-12
    assert laid_on(SPOTS, {"A": placed["A"]}) is None and laid_on({"A": (1, 1), "B": (1, 1)}, placed) is None


@pytest.mark.parametrize("between", [", ", ";", "\t", "  "])
def test_a_sketch_is_read_as_people_write_it(between: str) -> None:
    text = f"# paced\nST 01{between}12.5{between}-3\n\nST-02{between}0{between}4.25 # by the door\n"
    assert read_spots(text) == {"ST 01": (12.5, -3.0), "ST-02": (0.0, 4.25)}


def test_names_with_a_comma_and_decimal_commas_go_with_semicolons() -> None:
    assert read_spots("Boiler, east; 1,25; -3") == {"Boiler, east": (1.25, -3.0)}


@pytest.mark.parametrize("line", ["ST-02, 3", "ST-02, 3, north", "ST-02, nan, 2", ", 1, 2", "ST-01, 5, 6"])
def test_a_line_that_is_no_place_is_named(line: str) -> None:
    with pytest.raises(BadInput, match="line 2"):
        read_spots(f"ST-01, 0, 0\n{line}\n")


@pytest.mark.parametrize("degrees", [0.0, 3.0, 14.0])
@pytest.mark.parametrize("station", ["ST-02", "ST-09"])
def test_a_scan_that_leans_is_stood_upright(degrees: float, station: str) -> None:
    cloud, pose = simulate(station, Scanner(points=120_000, lean=np.radians(degrees)), 3)
    upright = upright_of(cloud)
    up = upright @ pose[:3, :3].T @ [0, 0, 1]  # where the site's upright lies once it is straightened
    assert np.degrees(np.arccos(min(1.0, up[2]))) < 0.1
    turned = straightened(cloud, upright)
    np.testing.assert_allclose(np.linalg.norm(turned.xyz, axis=1), np.linalg.norm(cloud.xyz, axis=1), atol=1e-4)
    assert len(turned) == len(cloud) and turned.row is None


def test_too_little_to_say_what_is_upright_leaves_a_scan_as_it_is() -> None:
    from taut_lantern.core.scan.scan import Scan

    points = np.random.default_rng(4).normal(size=(3000, 3)).astype(np.float32)
    np.testing.assert_array_equal(upright_of(Scan(points)), np.eye(3))


def test_a_scan_that_fits_nowhere_is_known_as_a_mirror_image() -> None:
    scans = {n: simulate(n, Scanner(points=120_000), 3)[0] for n in ("ST-01", "ST-02", "ST-04")}
    ready = {n: prepare(s) for n, s in scans.items()}
    wrong = mirrored(scans["ST-02"])
    others = [(n, ready[n]) for n in ("ST-04", "ST-01")]
    assert fits_mirrored(wrong, prepare(wrong), others) in ready
    assert fits_mirrored(scans["ST-02"], ready["ST-02"], others) is None
    left = tie({**ready, "ST-02": prepare(wrong)}).parts
    assert [len(p) for p in left if "ST-02" in p] == [1]  # it is laid on nothing
