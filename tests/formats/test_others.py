"""LAZ, DXF and PDF as other programs would read them."""

from __future__ import annotations

import subprocess
from pathlib import Path

import laspy
import numpy as np
import pytest
from reportlab.lib.units import mm
from reportlab.pdfbase.pdfmetrics import stringWidth

from taut_lantern.formats import las, pdf
from taut_lantern.formats.report import NetworkPlan, Report, ReportTable
from tests.support import room

ORIGIN = np.array([437_215.482, 5_812_904.317, 46.25])


def test_laz_keeps_millimetres_at_large_coordinates_and_the_station(tmp_path: Path) -> None:
    a, b = room(3000, seed=1), room(2000, seed=2)
    path = tmp_path / "c.laz"
    assert las.write(path, [(1, a.xyz + ORIGIN, a.intensity, a.rgb, None), (2, b.xyz + ORIGIN, b.intensity, b.rgb, None)], ORIGIN) == 5000
    with laspy.open(path) as f:
        points = f.read()
    np.testing.assert_allclose(points.xyz[:3000], a.xyz + ORIGIN, atol=0.0006)
    np.testing.assert_array_equal(np.bincount(points.point_source_id), [0, 3000, 2000])
    np.testing.assert_array_equal(np.asarray(points.red[:3000]) >> 8, a.rgb[:, 0])
    xyz, station = las.read(path)
    assert len(xyz) == 5000 and set(station) == {1, 2}


def test_the_report_says_its_sentences_and_every_row_whatever_the_names(tmp_path: Path) -> None:
    why = "overlap 9 % is below 15 % and the rest of the network disagrees by 7.1 mm; the geometry hardly holds one direction"
    rows = tuple((f"ST-{k:02d} <b>&", "slack", *["12345.6"] * 6, why) for k in range(120))
    plan = NetworkPlan({"A": (0.0, 0.0), "B": (9.0, 4.0)}, (("A", "B", "slack", 0.1),))
    table = ReportTable(
        "Links",
        ("stations", "status", "fit RMS mm", "overlap %", "seen through %", "weakest mm", "after adjustment mm", "turned mdeg", "why"),
        rows,
    )
    report = Report("Report <1> & \U0001f3ee", "today", ("All 2 stations hang together.",), (table,), plan)
    pdf.write(tmp_path / "r.pdf", report)
    text = subprocess.run(["pdftotext", "-layout", tmp_path / "r.pdf", "-"], capture_output=True, text=True, check=True).stdout
    assert "All 2 stations hang together." in text and "Report <1> &" in text
    assert "<b>&" in text and all(f"ST-{k:02d}" in text for k in range(120))


def test_the_report_shows_every_script_or_says_which_characters_it_cannot(tmp_path: Path) -> None:
    names = ("Höhe Łódź", "Насосная станция", "Σταθμός", "測站 中庭", "ポンプ室")
    rows = tuple((n,) for n in (*names, "rare \U00012000 sign"))
    pdf.write(tmp_path / "r.pdf", Report("Weir № 3", "made", ("All is well.",), (ReportTable("Stations", ("name",), rows),)))
    text = subprocess.run(["pdftotext", tmp_path / "r.pdf", "-"], capture_output=True, text=True, check=True).stdout
    for name in (*names, "Weir № 3"):
        assert name in text, name
    assert "No font on this machine has 1 of the characters" in text and text.count("U+12000") == 2


def test_no_word_of_a_narrow_column_is_broken() -> None:
    reasons = "the rest of the network disagrees by 10.2 mm · overlap 5 % is below 15 % · the geometry hardly holds one direction"
    row = ("parted", "Boiler house east · Boiler house west", "0.5", "46", "0.0", "17.1", "10.2", reasons)
    heads = (
        "status",
        "stations",
        "fit RMS mm",
        "overlap %",
        "seen through %",
        "weakest mm",
        "after adjustment mm",
        "what speaks against it",
    )
    wide = pdf._widths(ReportTable("Links", heads, (row, row)))
    assert sum(wide) == pytest.approx(170 * mm - 12)
    for k, w in enumerate(wide):
        longest = max(stringWidth(word, "Helvetica", 7.5) for cell in (heads[k], row[k]) for word in cell.split())
        assert longest <= w - 5, heads[k]
    assert wide[7] == max(wide)
