"""E57 in and out, and every broken file a technician has ever been handed."""

from __future__ import annotations

import zipfile
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pye57
import pytest
from pye57 import libe57

from taut_lantern.core import frames
from taut_lantern.core.errors import BadInput
from taut_lantern.core.scan.scan import Scan
from taut_lantern.formats import e57
from taut_lantern.site.common import Progress
from taut_lantern.steps.bring_in.stations import Wanted, read_scan
from tests.support import room, write_scan


def test_what_is_written_is_read_again(tmp_path: Path) -> None:
    scan = room(5000)
    grid = Scan(scan.xyz, scan.intensity, scan.rgb, np.arange(5000, dtype=np.int32) // 100, np.arange(5000, dtype=np.int32) % 100)
    pose = frames.pose(0.6, (437_215.482, 5_812_904.317, 46.25))
    path = write_scan(tmp_path / "a.e57", grid, "Hall, north", pose)
    (head,) = e57.headers(path)
    assert (head.name, head.points, head.rows, head.columns) == ("Hall, north", 5000, 50, 100)
    np.testing.assert_allclose(head.pose, pose, atol=1e-9)
    block, counts = e57.points(path, 0)
    np.testing.assert_allclose(block.xyz, grid.xyz, atol=1e-6)
    np.testing.assert_allclose(block.intensity, grid.intensity, atol=1e-4)
    np.testing.assert_array_equal(block.rgb, grid.rgb)
    np.testing.assert_array_equal(block.row, grid.row)
    assert counts == {"read": 5000, "kept": 5000, "invalid": 0, "not_finite": 0, "too_near": 0, "too_far": 0}


def test_several_scans_in_one_file_keep_their_names_and_bare_ones_get_some(tmp_path: Path) -> None:
    bare = Scan(room(50).xyz, None, None, None, None)
    e57.write(tmp_path / "two.e57", [e57.Outgoing("A", room(40)), e57.Outgoing("B/ö\U0001f3ee", bare)])
    assert [(h.name, h.points) for h in e57.headers(tmp_path / "two.e57")] == [("A", 40), ("B/ö\U0001f3ee", 50)]
    block, _ = e57.points(tmp_path / "two.e57", 1)
    assert block.intensity is None and block.rgb is None and len(block.xyz) == 50


class Careless(np.ndarray):
    """Passes over what is not a number when asked for its limits, as careless writers do."""

    def min(self, *a: object, **k: object) -> object:  # type: ignore[override]
        return float(np.nanmin(np.asarray(self)))

    def max(self, *a: object, **k: object) -> object:  # type: ignore[override]
        return float(np.nanmax(np.asarray(self)))


def write_odd(path: Path) -> Path:
    """Every third point not a number, one light years away, every fourth marked invalid: as careless writers do."""
    n = 120
    xyz = room(n).xyz.astype(float)
    xyz[::3, 1], xyz[1, 0] = np.nan, 1e30
    data = {f"cartesian{a}": xyz[:, k].view(Careless) for k, a in enumerate("XYZ")} | {
        "cartesianInvalidState": (np.arange(n) % 4 == 0).astype(np.int8)
    }
    bounds = SimpleNamespace(xMinimum=-9.0, yMinimum=-9.0, zMinimum=-9.0, xMaximum=9.0, yMaximum=9.0, zMaximum=9.0)
    with pye57.E57(str(path), mode="w") as f:
        f.write_scan_raw(data, name=path.stem, scan_header=bounds)
    return path


def test_what_is_no_point_is_told_apart(tmp_path: Path) -> None:
    scan, counts = read_scan(Wanted(write_odd(tmp_path / "odd.e57"), 0, "odd.e57", 0.1, 50.0), Progress())
    assert counts == {"read": 120, "invalid": 30, "not_finite": 30, "too_near": 0, "too_far": 1, "kept": 59}
    assert len(scan) == 59 and np.isfinite(scan.xyz).all()
    with pytest.raises(BadInput, match="none of 120 points") as caught:
        read_scan(Wanted(tmp_path / "odd.e57", 0, "odd.e57", 60.0, 90.0), Progress())
    assert caught.value.code == "no_points"


def write_spherical(
    path: Path, columns: dict[str, np.ndarray], limits: dict[str, tuple[float, float]], bounds: dict[str, tuple[int, int]] | None = None
) -> None:
    """A scan as some scanners write it: range and angles, colour in two bytes, intensity in counts. bounds: in the
    description of the points, where they are not the limits of the header."""
    with pye57.E57(str(path), mode="w") as f:
        im = f.image_file
        node, prototype = libe57.StructureNode(im), libe57.StructureNode(im)
        node.set("guid", libe57.StringNode(im, "{1}"))
        for group, fields in (("intensityLimits", ("intensity",)), ("colorLimits", ("colorRed", "colorGreen", "colorBlue"))):
            if fields[0] not in limits:
                continue
            box = libe57.StructureNode(im)
            for name in fields:
                kind = libe57.FloatNode if name == "intensity" else libe57.IntegerNode
                for end, value in zip(("Minimum", "Maximum"), limits[name], strict=True):
                    box.set(name + end, kind(im, value))
            node.set(group, box)
        buffers = libe57.VectorSourceDestBuffer()
        for name, values in columns.items():
            whole = values.dtype.kind in "iu"
            low, high = (bounds or {}).get(name, limits.get(name, (-100, 100)))
            prototype.set(
                name, libe57.IntegerNode(im, 0, int(low), int(high)) if whole else libe57.FloatNode(im, 0.0, libe57.E57_DOUBLE, -1e9, 1e9)
            )
            buffers.append(libe57.SourceDestBuffer(im, name, values, len(values), True, True))
        points = libe57.CompressedVectorNode(im, prototype, libe57.VectorNode(im, True))
        node.set("points", points)
        f.data3d.append(node)
        writer = points.writer(buffers)
        writer.write(len(columns["sphericalRange"]))
        writer.close()


def test_spherical_coordinates_and_other_scales_of_colour_are_understood(tmp_path: Path) -> None:
    r, az, el = np.array([2.0, 3.0, 5.0, 4.0]), np.array([0.0, np.pi / 2, 1.0, 0.0]), np.array([0.0, 0.0, np.pi / 6, 0.0])
    columns = {"sphericalRange": r, "sphericalAzimuth": az, "sphericalElevation": el}
    columns |= {"sphericalInvalidState": np.array([0, 0, 0, 2], np.int8), "intensity": np.array([100.0, 600.0, 1100.0, 100.0])}
    columns |= {f"color{c}": np.array([0, 65535, 32768, 7], np.uint16) for c in ("Red", "Green", "Blue")}
    columns |= {"rowIndex": np.array([0, 70_000, 5, 6], "q"), "columnIndex": np.array([1, 2, 90_000, 4], "q")}
    limits = dict.fromkeys(("colorRed", "colorGreen", "colorBlue"), (0, 65535)) | {"intensity": (100.0, 1100.0)}
    limits |= dict.fromkeys(("rowIndex", "columnIndex"), (0, 100_000)) | {"sphericalInvalidState": (0, 2)}
    write_spherical(tmp_path / "s.e57", columns, limits)
    scan, counts = e57.points(tmp_path / "s.e57", 0)
    assert (counts["kept"], counts["invalid"]) == (3, 1)
    half = 5 * np.cos(np.pi / 6)
    np.testing.assert_allclose(scan.xyz, [[2, 0, 0], [0, 3, 0], [half * np.cos(1), half * np.sin(1), 2.5]], atol=1e-6)
    np.testing.assert_allclose(scan.intensity, [0.0, 0.5, 1.0], atol=1e-6)
    np.testing.assert_array_equal(scan.rgb[:, 1], [0, 255, 127])
    assert scan.row.tolist() == [0, 70_000, 5] and scan.column.tolist() == [1, 2, 90_000]


def bright(
    path: Path, values: np.ndarray, header: tuple[float, float] | None, bounds: tuple[int, int] | None = None
) -> tuple[Scan, list[str]]:
    """A scan of such intensities and colours, read back: limits in the header, bounds in the description of the points."""
    n = len(values)
    columns = {"sphericalRange": np.full(n, 3.0), "sphericalAzimuth": np.linspace(0, 1, n), "sphericalElevation": np.zeros(n)}
    columns["intensity"] = values
    limits: dict[str, tuple[float, float]] = {} if header is None else {"intensity": header}
    write_spherical(path, columns, limits, {} if bounds is None else {"intensity": bounds})
    scan, counts = e57.points(path, 0)
    return scan, counts.get("remarks", [])


COUNTS = np.linspace(150, 3800, 400)


@pytest.mark.parametrize(
    ("values", "header", "bounds", "expected", "wrong"),
    [
        (COUNTS, (0.0, 4000.0), None, COUNTS / 4000, ""),
        (COUNTS, None, None, (COUNTS - 150) / 3650, ""),  # floats without bounds: the data's own
        (COUNTS.astype(np.uint16), None, (0, 4095), COUNTS.astype(np.uint16) / 4095, ""),  # bounds of the points' description
        (COUNTS, (0.0, 1.0), None, (COUNTS - 150) / 3650, "from 0 to 1, but its values go from 150 to 3800"),
        (COUNTS / 4000, (0.0, 65535.0), None, (COUNTS - 150) / 3650, "from 0 to 65535"),
        (np.full(400, 7.0), None, None, np.zeros(400), ""),
    ],
)
def test_intensity_is_never_saturated_in_silence(
    tmp_path: Path, values: np.ndarray, header: tuple[float, float] | None, bounds: tuple[int, int] | None, expected: np.ndarray, wrong: str
) -> None:
    scan, remarks = bright(tmp_path / "i.e57", values, header, bounds)
    np.testing.assert_allclose(scan.intensity, expected, atol=1e-5)
    assert (wrong in remarks[0]) if wrong else not remarks


def test_a_few_values_beyond_the_limits_stand_at_the_limit_and_are_told(tmp_path: Path) -> None:
    values = np.concatenate([np.linspace(0, 1, 5000), [9.0, -2.0]])
    scan, remarks = bright(tmp_path / "few.e57", values, (0.0, 1.0))
    np.testing.assert_allclose(scan.intensity, np.clip(values, 0, 1), atol=1e-6)
    assert remarks == ["2 points are brighter or darker than the limits of the file; they stand at the limit"]


@pytest.mark.parametrize(
    ("top", "header", "bounds", "expected", "remarks"),
    [
        (65535, None, (0, 65535), 255, 0),
        (65535, (0, 255), (0, 65535), 255, 1),
        (255, None, (0, 2**40), 255, 0),
        (60000, None, (0, 2**40), 233, 0),
    ],
)
def test_colours_of_one_and_two_bytes_are_told_apart_without_limits(
    tmp_path: Path, top: int, header: tuple[int, int] | None, bounds: tuple[int, int], expected: int, remarks: int
) -> None:
    columns = {f"spherical{a}": np.full(200, v) for a, v in (("Range", 2.0), ("Azimuth", 0.5), ("Elevation", 0.1))}
    colours = ("colorRed", "colorGreen", "colorBlue")
    columns |= {c: np.linspace(0, top, 200).astype("q") for c in colours}
    write_spherical(tmp_path / "c.e57", columns, {} if header is None else dict.fromkeys(colours, header), dict.fromkeys(colours, bounds))
    scan, counts = e57.points(tmp_path / "c.e57", 0)
    assert scan.rgb is not None and scan.rgb[-1].tolist() == [expected] * 3 and len(counts.get("remarks", [])) == remarks


def test_a_row_without_a_column_and_one_colour_of_three_are_passed_over(tmp_path: Path) -> None:
    columns = {f"spherical{a}": np.full(3, v) for a, v in (("Range", 2.0), ("Azimuth", 0.5), ("Elevation", 0.1))}
    torn = columns | {"rowIndex": np.array([4, 5, 6], "q"), "colorRed": np.array([7, 8, 9], np.uint16)}
    limits = dict.fromkeys(("colorRed", "colorGreen", "colorBlue"), (0, 255)) | {"intensity": (0.0, 1.0)}
    write_spherical(tmp_path / "torn.e57", torn, limits)
    scan, counts = e57.points(tmp_path / "torn.e57", 0)
    assert counts["kept"] == 3 and scan.row is None and scan.column is None and scan.rgb is None
    del columns["sphericalAzimuth"]
    write_spherical(tmp_path / "half.e57", columns, limits)
    with pytest.raises(BadInput, match="no whole set of coordinates"):
        e57.points(tmp_path / "half.e57", 0)


def truncated(p: Path) -> None:
    write_scan(p)
    p.write_bytes(p.read_bytes()[: p.stat().st_size * 2 // 3])


def zipped(p: Path) -> None:
    with zipfile.ZipFile(p, "w") as z:
        z.writestr("a.bin", np.random.default_rng(0).bytes(5000))


def scrambled(p: Path) -> None:
    write_scan(p)
    data = bytearray(p.read_bytes())
    data[60:4000] = np.random.default_rng(1).bytes(3940)
    data[-3000:] = np.random.default_rng(2).bytes(3000)
    p.write_bytes(data)


BROKEN = {
    "cut off": (truncated, "truncated"),
    "a text named e57": (lambda p: p.write_text("these are my points\n1 2 3\n"), "not_e57"),
    "a zip of junk": (zipped, "not_e57"),
    "nothing": (lambda p: p.write_bytes(b""), "empty_file"),
    "damaged inside": (scrambled, "unreadable"),
    "only a signature": (lambda p: p.write_bytes(b"ASTM-E57" + bytes(40)), "unreadable"),
}


@pytest.mark.parametrize("kind", BROKEN)
def test_a_broken_file_is_named_with_what_to_do(tmp_path: Path, kind: str) -> None:
    make, code = BROKEN[kind]
    path = tmp_path / "ST 'x' (1).e57"
    make(path)
    with pytest.raises(BadInput) as caught:
        e57.headers(path)
    assert caught.value.code == code and path.name in caught.value.message and caught.value.remedy


def test_writing_that_fails_leaves_no_file(tmp_path: Path) -> None:
    def scans() -> object:
        yield e57.Outgoing("A", room(100))
        raise OSError(28, "No space left on device")

    with pytest.raises(OSError, match="No space"):
        e57.write(tmp_path / "out.e57", scans())  # type: ignore[arg-type]
    assert list(tmp_path.iterdir()) == []
