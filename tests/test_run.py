"""A whole job without a screen: exit code, deliveries, and the contract of result.json."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import ezdxf
import laspy
import numpy as np
import pypdfium2
import pytest
import rasterio

from taut_lantern.core import frames
from taut_lantern.formats import e57


def run(*words: Any) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "taut_lantern.cli", "run", *map(str, words)]
    return subprocess.run(command, capture_output=True, text=True, env=os.environ)


@pytest.fixture(scope="module")
def small(site: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Four stations of the hall and the control room."""
    folder = tmp_path_factory.mktemp("hall")
    for name in ("ST-01", "ST-02", "ST-04", "ST-05"):
        (folder / f"{name}.e57").symlink_to(site / f"{name}.e57")
    return folder


def drawn(drawings: list[dict[str, Any]], out: Path) -> None:
    """Each drawing has its picture, whose place an independent reader knows, and lines that stand in the DXF."""
    assert [d["kind"] for d in drawings][:3] == ["plan", "section", "section"] and drawings[-1]["kind"] == "sheet"
    plan = drawings[0]
    with rasterio.open(out / next(f for f in plan["files"] if f.endswith(".tif"))) as image:
        assert np.hypot(image.transform.a, image.transform.d) == pytest.approx(0.005) and (image.read(1) < 255).sum() > 2000
    doc = ezdxf.readfile(out / next(f for f in plan["files"] if f.endswith("-drawing.dxf")))
    assert not doc.audit().errors and len(doc.modelspace().query("LINE")) >= len(plan["entities"]) > 10
    walls = [e for e in plan["entities"] if e["layer"] == "wall" and e["state"] == "accepted"]
    assert sum(e["length_m"] for e in walls) > 40 and all(e["fit_mm"] <= 6 and e["seen_m"] >= 0.5 * e["length_m"] - 1e-6 for e in walls)
    assert any(e["layer"] == "opening" for d in drawings if d["kind"] == "elevation" for e in d["entities"])
    assert pypdfium2.PdfDocument(out / drawings[-1]["files"][0])[0].get_size()[0] > 2000  # A1


def test_a_sound_job_ends_with_0_and_says_everything(database: str, small: Path, site: Path, truth: dict[str, Any], tmp_path: Path) -> None:
    more = ("--clean", "movers,noise", "--even", "0.02", "--plans", "1.2,90", "--sections", "auto", "--elevations", "auto")
    done = run(small, "--deliver", tmp_path / "out", "--targets", "spheres:0.1", *more)
    assert done.returncode == 0, done.stderr
    result = json.loads((tmp_path / "out" / "result.json").read_text())
    keys = {"format", "stations", "links", "targets", "control", "solution", "findings", "undecided", "timings", "cleaning", "drawings"}
    assert set(result) == keys
    drawn(result["drawings"], tmp_path / "out")
    assert any(f["code"] == "empty_section" and "90.00 m" in f["message"] for f in result["findings"])  # nothing is up there
    assert [x["name"] for x in result["stations"]] == ["ST-01", "ST-02", "ST-04", "ST-05"]
    poses = {}
    for x in result["stations"]:
        poses[x["name"]] = np.eye(4)
        poses[x["name"]][:3] = np.column_stack([x["pose"]["rotation"], x["pose"]["translation"]])
        assert x["frame"] == "project" and len(x["sigma_position_mm"]) == len(x["sigma_rotation_mdeg"]) == 3
    for name in ("ST-02", "ST-05"):
        expected = frames.inverse(truth["stations"]["ST-01"]) @ truth["stations"][name]
        assert frames.difference(frames.inverse(poses["ST-01"]) @ poses[name], expected)[0] < 0.003
    keys = {
        "a",
        "b",
        "kind",
        "status",
        "used",
        "T_a_b",
        "fit_median_mm",
        "fit_rms_mm",
        "fit_p90_mm",
        "overlap",
        "see_through",
        "weak_sigma_mm",
    }
    keys |= {"weak_direction", "residual_mm", "residual_mdeg", "reasons"}
    assert result["links"] and all(set(k) == keys and np.array(k["T_a_b"]).shape == (4, 4) for k in result["links"])
    assert result["targets"] and {"station", "center", "fit_rms_mm", "points"} < set(result["targets"][0]["sightings"][0])
    assert {"sigma0", "degrees_of_freedom", "global_test", "converged", "parts", "scale", "levels"} == set(result["solution"]) and len(
        result["solution"]["parts"]
    ) == 1
    assert {p.name for p in (tmp_path / "out").iterdir()} >= {f for d in result["drawings"] for f in d["files"]} | {
        "out.e57",
        "out.laz",
        "out-report.pdf",
    }
    heads = e57.headers(next((tmp_path / "out").glob("*.e57")))
    for head, x in zip(heads, result["stations"], strict=True):
        np.testing.assert_allclose(head.pose, poses[x["name"]], atol=1e-9)
    cloud = laspy.read(next((tmp_path / "out").glob("*.laz"))).xyz
    kept = [e57.points(next((tmp_path / "out").glob("*.e57")), k)[0] for k in range(4)]
    assert len(cloud) == sum(map(len, kept)) and all(k.row is not None and len(np.unique(k.row)) > 100 for k in kept)
    cells = np.unique(np.floor(cloud / 0.02).astype(int), axis=0)
    assert len(cells) > 0.99 * len(cloud) > 100_000  # one point in each cell, of all stations together
    reasons = {(c["station"], c["reason"]): c for c in result["cleaning"]}
    assert all(reasons[x["name"], "noise"]["points"] > 20 for x in result["stations"])
    movers = [c for (_, reason), c in reasons.items() if reason == "movers"]
    assert movers and all(c["points"] > 20 and c["area"] > 0.02 and c["objects"] >= 1 for c in movers)


def test_a_broken_file_and_an_unconnected_station_end_with_3_and_their_names(database: str, site: Path, tmp_path: Path) -> None:
    folder = tmp_path / "mixed"
    folder.mkdir()
    (folder / "ST-01.e57").symlink_to(site / "ST-01.e57")
    (folder / "ST-08.e57").symlink_to(site / "ST-08.e57")
    (folder / "ST-99.e57").write_bytes((site / "ST-02.e57").read_bytes()[:1_000_000])
    done = run(folder, "--deliver", tmp_path / "out")
    assert done.returncode == 3, done.stderr
    assert "ST-99.e57" in done.stderr and "truncated" in done.stderr
    result = json.loads((tmp_path / "out" / "result.json").read_text())
    assert {"truncated"} <= {f["code"] for f in result["findings"]}
    assert len(result["solution"]["parts"]) == 2


def test_what_cannot_be_run_ends_with_2_and_what_to_do(database: str, tmp_path: Path) -> None:
    for words in ([tmp_path / "none.e57"], [tmp_path]):
        done = run(*words, "--deliver", tmp_path / "out")
        assert done.returncode == 2 and "E57" in done.stderr
    done = run(tmp_path, "--deliver", tmp_path / "out", "--targets", "cubes:3")
    assert done.returncode == 2
