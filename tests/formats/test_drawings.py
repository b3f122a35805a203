"""What is drawn goes out where it is: read back by independent readers, audited, measured on paper."""

from __future__ import annotations

import math
import re
from pathlib import Path
from xml.etree import ElementTree

import ezdxf
import numpy as np
import pypdfium2
import pytest
import rasterio

from taut_lantern.core.draw.layers import BUILDING
from taut_lantern.core.draw.layout import laid_out
from taut_lantern.core.draw.raster import BAND, MODES, band, channels, full_ink, gathered, raster
from taut_lantern.core.draw.shapes import checked, length
from taut_lantern.core.errors import BadInput
from taut_lantern.formats import dxf, geotiff, sheet, svg
from taut_lantern.formats.drawn import Drawing, Drawn, Entity, Underlay

LAYERS = [vars(x) for x in BUILDING]
SHAPES = {
    "line": checked("line", [(0, 0), (4, 1)]),
    "polyline": checked("polyline", [(0, 0), (2, 0), (2, 1)], 0, {"closed": True, "bulges": [0, math.tan(math.pi / 8), 0]}),
    "arc": checked("arc", [(1, 1)], 0.7, {"start": 0.3, "end": 2.0}),
    "circle": checked("circle", [(3, 2)], 0.057),
    "ellipse": checked("ellipse", [(1, 1), (2, 1.5)], 0, {"ratio": 0.4}),
    "spline": checked("spline", [(0, 0), (1, 1), (2, 0), (3, 1.5)]),
    "point": checked("point", [(1, 2)]),
    "text": checked("text", [(1, 1)], 0, {"text": "Größe ½ Łódź", "height": 0.2, "turn": 0.5}),
    "hatch": checked("hatch", [(0, 0), (1, 0), (1, 1)], 0, {"pattern": "lines"}),
    "aligned": checked("dimension", [(0, 0), (4, 3), (1, 2)], 0, {"measure": "aligned"}),
    "linear": checked("dimension", [(0, 0), (4, 3), (2, 5)], 0, {"measure": "linear"}),
    "radius": checked("dimension", [(0, 0), (0.5, 0)], 0, {"measure": "radius"}),
    "angle": checked("dimension", [(0, 0), (1, 0), (0, 1), (0.5, 0.5)], 0, {"measure": "angle"}),
    "level": checked("dimension", [(0, 0), (1, 0)], 0, {"measure": "level"}),
}


def upright_far() -> np.ndarray:
    """An upright section in a grid of five million metres, turned and stretched a little."""
    c, s = math.cos(0.7), math.sin(0.7)
    t = np.eye(4)
    t[:3, :3] = 1.0004 * np.array([[c, 0, s], [s, 0, -c], [0, 1, 0]])
    t[:3, 3] = [5_432_109.8765, 4_987_654.3212, 123.4567]
    return t


def ends(entity: object) -> np.ndarray:
    return np.array([entity.dxf.start, entity.dxf.end])  # type: ignore[attr-defined]


@pytest.mark.parametrize("version", ["R2018", "R12"])
def test_every_kind_goes_out_and_no_reader_finds_an_error(tmp_path: Path, version: str) -> None:
    drawn = [
        Drawn(s, "Wände/außen" if k == "line" else "wall", upright_far(), k == "circle", "4.02" * (s.kind == "dimension"))
        for k, s in SHAPES.items()
    ]
    space = [Entity("polyline", "notes", ((0, 0, 0), (1, 1, 1))), Entity("text", "notes", ((0, 0, 0),), "M1")]
    dxf.write(tmp_path / "a.dxf", Drawing(drawn, space, LAYERS, [], "Ottermere"), "m", version)
    doc = ezdxf.readfile(tmp_path / "a.dxf")
    assert not doc.audit().errors and doc.layers.has_entry("Wände-außen") and doc.layers.has_entry("furniture")
    kinds = {e.dxftype() for e in doc.modelspace()}
    own = {"LINE", "CIRCLE", "ARC", "POINT", "TEXT", "DIMENSION"}
    assert kinds >= own | ({"LWPOLYLINE", "ELLIPSE", "SPLINE", "HATCH"} if version == "R2018" else {"POLYLINE"})
    assert doc.modelspace().query("CIRCLE")[0].dxf.linetype == "DASHED"
    for wrong in ({"unit": "cubit"}, {"version": "R13"}):
        with pytest.raises(BadInput):
            dxf.write(tmp_path / "b.dxf", Drawing(drawn, space, LAYERS), **wrong)
    assert not (tmp_path / "b.dxf").exists()


@pytest.mark.parametrize(("unit", "metre"), [("m", 1.0), ("mm", 0.001), ("us_ft", 1200 / 3937)])
def test_large_coordinates_keep_a_tenth_of_a_millimetre_in_every_unit(tmp_path: Path, unit: str, metre: float) -> None:
    t = upright_far()
    drawn = [Drawn(SHAPES[k], "wall", t) for k in ("line", "circle", "arc", "spline", "polyline")]
    dxf.write(tmp_path / "a.dxf", Drawing(drawn, [], LAYERS), unit)
    space = ezdxf.readfile(tmp_path / "a.dxf").modelspace()
    at = lambda x, y: t[:3, :3] @ [x, y, 0] + t[:3, 3]  # noqa: E731
    line = ends(space.query("LINE")[0]) * metre
    assert np.abs(line - [at(0, 0), at(4, 1)]).max() < 1e-4
    circle = space.query("CIRCLE")[0]
    centre = np.array(circle.ocs().to_wcs(circle.dxf.center)) * metre
    assert np.abs(centre - at(3, 2)).max() < 1e-4 and abs(circle.dxf.radius * metre - 0.057 * 1.0004) < 1e-6
    arc = space.query("ARC")[0]
    first = np.array(arc.start_point) * metre
    second = np.array(arc.end_point) * metre
    true = [at(1 + 0.7 * math.cos(a), 1 + 0.7 * math.sin(a)) for a in (0.3, 2.0)]
    assert (
        min(np.abs(first - true[0]).max() + np.abs(second - true[1]).max(), np.abs(first - true[1]).max() + np.abs(second - true[0]).max())
        < 2e-4
    )
    curve = np.array([tuple(p) for p in space.query("SPLINE")[0].construction_tool().approximate(20_000)]) * metre
    for x, y in SHAPES["spline"].points:
        assert np.linalg.norm(curve - at(x, y), axis=1).min() < 3e-4
    flat = np.array([tuple(p) for p in ezdxf.path.make_path(space.query("LWPOLYLINE")[0]).flattening(0.0005 / metre)]) * metre
    assert abs(np.linalg.norm(np.diff(flat, axis=0), axis=1).sum() - 1.0004 * length(SHAPES["polyline"])) < 2e-3


def test_what_a_dimension_says_is_what_lies_between_its_ends(tmp_path: Path) -> None:
    t = np.eye(4)
    t[:3, 3] = [1000, 2000, 5]
    drawn = [Drawn(SHAPES[k], "dimension", t, False, w) for k, w in (("aligned", "5.000"), ("linear", "4.000"), ("angle", "90.00°"))]
    dxf.write(tmp_path / "a.dxf", Drawing(drawn, [], LAYERS), "mm")
    found = sorted(
        (d.dxf.text, round(float(d.get_measurement()), 3)) for d in ezdxf.readfile(tmp_path / "a.dxf").modelspace().query("DIMENSION")
    )
    assert found == [("4.000", 4000.0), ("5.000", 5000.0), ("90.00°", 90.0)]


def test_layers_come_from_a_drawing_with_their_colours_and_locks(tmp_path: Path) -> None:
    doc = ezdxf.new("R2010", setup=True)
    doc.layers.add("A-Wände", color=1, linetype="DASHED", lineweight=50)
    doc.layers.add("B", true_color=ezdxf.rgb2int((10, 20, 200))).lock()
    doc.saveas(tmp_path / "l.dxf")
    rows = {r["name"]: r for r in dxf.layers_of(tmp_path / "l.dxf")}
    assert rows["A-Wände"] == {"name": "A-Wände", "colour": "#ff0000", "line_type": "dashed", "weight": 0.5, "locked": False, "shown": True}
    assert rows["B"]["colour"] == "#0a14c8" and rows["B"]["locked"]
    for broken in (b"", b"no drawing", (tmp_path / "l.dxf").read_bytes()[:300]):
        with pytest.raises(BadInput):
            dxf.layers_in(broken)


def spots(rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Points at known places, 3 m apart, and their colours."""
    p = np.array([(x, y, 0.01 * x) for x in range(0, 12, 3) for y in range(0, 9, 3)], float) + [0.0012, 0.0013, 0]
    return p, rng.integers(0, 200, (len(p), 3)).astype(np.uint8), rng.integers(0, 200, len(p)).astype(np.uint8)


@pytest.mark.parametrize("mode", MODES)
def test_a_picture_lies_over_its_drawing_within_a_millimetre(tmp_path: Path, mode: str) -> None:
    p, rgb, intensity = spots(np.random.default_rng(3))
    to = raster(np.array([-0.5, -0.5]), np.array([9.6, 6.6]), 0.002)
    t = upright_far()
    t[:3, :3] = [[0.8, -0.6, 0], [0.6, 0.8, 0], [0, 0, 1]]
    m = geotiff.affine(t, to.low, to.high, to.pixel)
    seen = gathered(to, p, rgb, intensity)
    rows = (band(to, k, seen, mode, (0.5, 0.5)) for k in range(to.bands))
    geotiff.write(tmp_path / "a.tif", rows, to.wide, to.tall, channels(mode), m, 1.0, "Plan A")
    (tmp_path / "b.tfw").write_text(geotiff.world(m))
    with rasterio.open(tmp_path / "a.tif") as file:
        image, found = file.read(), file.transform
        assert file.profile["tiled"] and (file.width, file.height) == (to.wide, to.tall)
    row, column = np.nonzero((image != 255).any(axis=0))
    assert len(row) == len(p)
    places = np.array([found @ (c + 0.5, r + 0.5) for r, c in zip(row, column, strict=True)])
    true = p @ t[:3, :3].T + t[:3, 3]
    nearest = [np.abs(places - q[:2]).sum(axis=1).argmin() for q in true]
    assert np.abs(places[nearest] - true[:, :2]).max() < 0.0015
    six = [float(v) for v in (tmp_path / "b.tfw").read_text().split()]  # a second way to the same places
    world = np.column_stack([six[0] * column + six[2] * row + six[4], six[1] * column + six[3] * row + six[5]])
    assert np.abs(world - places).max() < 1e-6
    if mode == "colour":
        assert (rgb == image[:, row[nearest], column[nearest]].T).all()
    if mode == "intensity":
        assert (image[0, row[nearest], column[nearest]] == intensity).all()
    if mode == "depth":  # what is nearer to whoever looks is darker
        assert np.corrcoef(image[0, row[nearest], column[nearest]].astype(float), p[:, 2])[0, 1] < -0.98


@pytest.mark.parametrize("mode", ["density", "x-ray", "relief"])
def test_bands_of_a_picture_look_alike(mode: str) -> None:
    """The same slope in all bands, and a heap of points in one of them: what is alike looks alike, on both sides of each edge of a band."""
    x, y = np.meshgrid(np.arange(8) + 0.5, np.arange(1500) + 0.5)
    even = np.column_stack([x.ravel(), y.ravel(), 0.2 * y.ravel()]) * 0.01
    heap = np.tile([0.025, 14.995, 0.2 * 14.995], (400, 1))
    to = raster(np.zeros(2), np.array([0.08, 15.0]), 0.01)
    p = np.concatenate([even, heap])
    seen = gathered(to, p, np.zeros((len(p), 3), np.uint8), np.zeros(len(p), np.uint8))
    bands = [seen[(seen["row"] >= k * BAND) & (seen["row"] <= (k + 1) * BAND)] for k in range(to.bands)]
    full = full_ink(to, [b[b["row"] < (k + 1) * BAND] for k, b in enumerate(bands)], mode)
    image = np.concatenate([band(to, k, b, mode, (0.5, 3.5), full) for k, b in enumerate(bands)])[:, 5, 0]
    assert np.ptp(image[2 : to.tall - 1].astype(int)) == 0 and 0 < image[10] < 255


def test_a_picture_below_a_drawing_is_named_and_lies_where_it_belongs(tmp_path: Path) -> None:
    under = Underlay("plan.tif", 400, 200, np.array([10.0, 20.0, 0.0]), np.array([0.01, 0, 0]), np.array([0, 0.01, 0]))
    dxf.write(tmp_path / "a.dxf", Drawing([Drawn(SHAPES["line"], "wall", np.eye(4))], [], LAYERS, [under]), "mm")
    doc = ezdxf.readfile(tmp_path / "a.dxf")
    (image,) = doc.modelspace().query("IMAGE")
    assert image.image_def.dxf.filename == "plan.tif" and not doc.audit().errors
    corners = np.array(image.dxf.insert), np.array(image.dxf.insert) + 400 * np.array(image.dxf.u_pixel) + 200 * np.array(image.dxf.v_pixel)
    assert np.allclose(corners, [[10_000, 20_000, 0], [14_000, 22_000, 0]])


@pytest.mark.parametrize("scale", [20, 50, 200])
def test_a_sheet_is_plotted_to_scale_within_a_tenth_of_a_millimetre(tmp_path: Path, scale: int) -> None:
    """Two marks 6 m apart are found again among the pixels of the page."""
    marks = [checked("line", [(x, 0), (x, 1)]) for x in (0.5, 6.5)]
    layer = {**LAYERS[0], "name": "wall", "colour": "#ff0000", "weight": 0.13}
    view = sheet.View("Plan A", (0.0, -0.5), (7.0, 1.5), [Drawn(s, "wall", np.eye(4)) for s in marks], 0.3)
    lay = laid_out([(7.0, 2.0)], "A3", False, scale)
    made = sheet.Sheet(
        lay, [view], [layer], "Sheet 1 · Łódź", [("project", "Ottermere")], [["view", "lines"], ["Plan A", "2"]], [("2026-11-27", "first")]
    )
    sheet.write(tmp_path / "a.pdf", made)
    page = pypdfium2.PdfDocument(tmp_path / "a.pdf")[0]
    assert np.allclose(np.array(page.get_size()) * 25.4 / 72, (420, 297), atol=0.01)
    dots, place = 1200, lay.places[0]
    edges = (
        place.x,
        place.y + place.tall * 0.45,
        420 - place.x - place.wide,
        297 - place.y - place.tall * 0.55,
    )  # a strip across both marks
    strip = page.render(scale=dots / 72, crop=tuple(v / 25.4 * 72 for v in edges)).to_pil().convert("RGB")
    image = np.asarray(strip)
    red = ((image[:, :, 0] > 200) & (image[:, :, 1] < 120)).mean(axis=0) > 0.5
    x = np.nonzero(red)[0]
    one, other = x[x < x.mean()].mean(), x[x > x.mean()].mean()
    assert abs((other - one) / dots * 25.4 - 6000 / scale) < 0.1
    words = page.get_textpage().get_text_bounded()
    assert f"1:{scale}" in words and "Plan A" in words and "Ottermere" in words and "first" in words


def test_views_that_do_not_fit_say_what_would() -> None:
    assert laid_out([(20.0, 12.0), (12.0, 5.0)], "A3", False).scale == 100
    with pytest.raises(BadInput, match="do not fit") as told:
        laid_out([(20.0, 12.0)], "A4", False, 50)
    assert "1:100" in told.value.remedy


def test_a_section_as_svg_is_in_millimetres_at_scale(tmp_path: Path) -> None:
    svg.write(tmp_path / "a.svg", [Drawn(SHAPES[k], "wall", np.eye(4)) for k in ("line", "text", "circle")], LAYERS, 50, "A & B")
    root = ElementTree.parse(tmp_path / "a.svg").getroot()
    line = root.find(".//{http://www.w3.org/2000/svg}polyline")
    assert line is not None
    p = np.array([[float(v) for v in q.split(",")] for q in line.attrib["points"].split()])
    assert np.allclose(np.ptp(p, axis=0), [80.0, 20.0], atol=1e-3) and re.fullmatch(r"[\d.]+mm", root.attrib["width"])


def test_shapes_that_cannot_be_drawn_are_named() -> None:
    for kind, points, radius, more in (
        ("circle", [(0, 0)], 0.0, {}),
        ("arc", [(0, 0)], 1.0, {"start": 0.0}),
        ("text", [(0, 0)], 0.0, {"text": " "}),
        ("dimension", [(0, 0), (1, 1)], 0.0, {"measure": "angle"}),
        ("polyline", [(0, 0), (1, 1)], 0.0, {"bulges": [1, 2, 3]}),
        ("line", [(0, 0), (0, 0)], 0.0, {}),
        ("blob", [(0, 0)], 0.0, {}),
        ("line", [(0, float("nan")), (1, 1)], 0.0, {}),
    ):
        with pytest.raises(BadInput):
            checked(kind, points, radius, more)
