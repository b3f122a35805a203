"""Tiles, journal and undo on the real database."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import text

from taut_lantern.core.errors import Conflict, LanternError, NotFound
from taut_lantern.core.kernels import planes
from taut_lantern.core.scan.octree import TILE
from taut_lantern.core.scan.scan import Scan
from taut_lantern.formats.columns import KINDS, OnDisk
from taut_lantern.site.common import stations_of
from taut_lantern.site.slab import slab_of
from taut_lantern.site.visible import clip_of
from taut_lantern.steps import projects
from taut_lantern.steps.bring_in import stations
from taut_lantern.steps.clean import boxes, edits, selecting
from taut_lantern.steps.draw import cuts
from taut_lantern.store import journal
from taut_lantern.store.db import migrate, session
from taut_lantern.store.marks import deleted_mask, pack_indices, unpack_indices
from taut_lantern.store.models import Section, Station
from taut_lantern.store.queue import apply_schema
from taut_lantern.store.spill import Spilled
from taut_lantern.store.tiles import (
    InMemory,
    Tile,
    _pack,
    _pack_grid,
    _unpack_grid,
    for_browser,
    layer_of,
    read_station,
    read_tiles,
    tiles_of,
    unpack,
    write_layer,
)
from tests.support import bring_in, make_project, room, stopping_after, write_scan

EYE = np.eye(4).ravel().tolist()
ABOVE = [0.3, 0, 0, 0, 0, 0.4, 0, 0, 0, 0, -0.2, 0, 0, 0, 0, 1]  # looks down on the room: all of it within -1..1


@pytest.fixture
def project(database: str, tmp_path: Path) -> str:
    made = make_project("store")
    bring_in(made, [write_scan(tmp_path / "ST-1.e57", room(20_000)), write_scan(tmp_path / "ST-2.e57", room(5000, seed=2))])
    return made


def first(project: str) -> Station:
    with session() as s:
        return stations_of(s, project)[0]


def test_migrating_twice_changes_nothing(database: str) -> None:
    migrate()
    apply_schema()


def test_points_come_back_as_they_went_in_and_tiles_are_slices_of_one_order(project: str) -> None:
    station = first(project)
    with session() as s:
        scan = read_station(s, station)
        rows = tiles_of(s, [station.id])
        for row, tile in zip(rows, read_tiles(ids=[r.id for r in rows]), strict=True):
            np.testing.assert_array_equal(tile.xyz, scan.xyz[row.first : row.first + row.count])
            assert (tile.xyz >= np.array(row.low, np.float32) - 1e-6).all() and (tile.xyz <= np.array(row.high, np.float32) + 1e-6).all()
    given = room(20_000).xyz
    key = lambda p: p[np.lexsort(p.T)]  # noqa: E731
    np.testing.assert_allclose(key(scan.xyz), key(given), atol=1e-6)


class AsItIs(InMemory):
    def part(self, tile: Tile) -> Scan:
        return self._scan


@given(st.integers(1, 60), st.booleans(), st.booleans(), st.integers(0, 2**32 - 1))
def test_a_tile_comes_back_bit_for_bit(n: int, bright: bool, coloured: bool, seed: int) -> None:
    """Any float32, tiny, huge and negative ones too; and tiles that were kept before planes were."""
    rng = np.random.default_rng(seed)
    xyz = (rng.normal(size=(n, 3)) * 10.0 ** rng.integers(-30, 30, (n, 3))).astype(np.float32)
    intensity = rng.random(n).astype(np.float32) if bright else None
    rgb = rng.integers(0, 256, (n, 3)).astype(np.uint8) if coloured else None
    at = np.arange(n)
    packed = _pack(AsItIs(Scan(xyz, intensity, rgb)), Tile(0, 0, n, 1.0))
    found = unpack(5, len(at), packed.body, packed.layers.get("intensity"), packed.layers.get("colour"))
    np.testing.assert_array_equal(found.xyz, xyz[at])
    assert (packed.low, packed.high) == (xyz[at].min(axis=0).tolist(), xyz[at].max(axis=0).tolist())
    np.testing.assert_array_equal(found.rgb, np.zeros((len(at), 3)) if rgb is None else rgb[at])
    levels = (
        np.zeros(len(at), np.uint16)
        if intensity is None
        else np.floor(intensity[at] * np.float32(65535) + np.float32(0.5)).astype(np.uint16)
    )
    np.testing.assert_array_equal(found.intensity, levels)
    plain = b"".join((xyz[at].T.tobytes(), levels.tobytes(), found.rgb.tobytes()))
    old = unpack(5, len(at), zstandard.ZstdCompressor(level=1).compress(plain))
    body = np.zeros(17 * len(at), np.uint8)
    planes.split(xyz, intensity if bright else np.empty(0, np.float32), rgb if coloured else np.empty((0, 3), np.uint8), body)
    middle = unpack(5, len(at), b"\x01" + zstandard.ZstdCompressor(level=1).compress(body.data))
    for earlier in (old, middle):
        for name in ("xyz", "intensity", "rgb"):
            np.testing.assert_array_equal(getattr(earlier, name), getattr(found, name))
    sent = np.frombuffer(for_browser(5, len(at), packed.body, packed.layers.get("intensity"), packed.layers.get("colour")), np.uint8)
    np.testing.assert_array_equal(sent[: 12 * len(at)].view(np.float32).reshape(-1, 3), xyz[at])
    np.testing.assert_array_equal(sent[12 * len(at) :].reshape(-1, 4), np.column_stack([found.rgb, levels >> 8]))


def test_colouring_a_station_writes_a_layer_and_never_its_geometry(project: str, tmp_path: Path) -> None:
    station = first(project)

    def geometry() -> list[tuple[Any, ...]]:
        with session() as s:
            return list(s.execute(text("SELECT id, xmin::text, md5(data) FROM tile WHERE station_id = :s ORDER BY id"), {"s": station.id}))

    with session() as s:
        before, stored_before, was = geometry(), read_station(s, station), stations.list_stations(s, project)[0]["layers"]
    colours = np.random.default_rng(4).integers(0, 256, (station.points, 3)).astype(np.uint8)
    with session() as s:
        assert write_layer(s, s.get_one(Station, station.id), "colour", colours) == 1
        assert write_layer(s, s.get_one(Station, station.id), "colour", colours[::-1]) == 2
    with session() as s:
        after = read_station(s, station)
        assert (was, stations.list_stations(s, project)[0]["layers"]) == (0, 2)
    assert geometry() == before  # the very same rows
    np.testing.assert_array_equal(after.rgb, colours[::-1])
    np.testing.assert_array_equal(after.xyz, stored_before.xyz)
    np.testing.assert_array_equal(after.intensity, stored_before.intensity)
    classes = np.random.default_rng(5).integers(0, 9, station.points).astype(np.uint8)
    with session() as s:
        write_layer(s, s.get_one(Station, station.id), "class", classes)
        firsts = [(r.first, r.count) for r in tiles_of(s, [station.id])]
        assert [layer_of(s, project, station.id, a, "class") for a, n in firsts] == [classes[a : a + n].tobytes() for a, n in firsts]
        assert layer_of(s, project, station.id, 0, "normal") is None and layer_of(s, "0" * 32, station.id, 0, "class") is None
    with session() as s, pytest.raises(ValueError, match="came"):
        write_layer(s, s.get_one(Station, station.id), "intensity", colours)


@pytest.mark.parametrize("widest", [900, 65_535, 65_536, 2_000_000])
def test_the_scanners_grid_survives_packing_however_wide_it_is(widest: int) -> None:
    row, column = np.arange(300, dtype=np.int32), np.linspace(0, widest, 300).astype(np.int32)
    back = _unpack_grid(_pack_grid(row, column), 300)
    np.testing.assert_array_equal(back, [row, column])
    kind = np.uint16 if widest < 65_536 else np.int32
    old = zstandard.ZstdCompressor(level=1).compress(b"".join(v.astype(kind).tobytes() for v in (row, column)))
    np.testing.assert_array_equal(_unpack_grid(old, 300), back)  # as it was kept before planes were


@pytest.mark.parametrize("chunk", [700, 5_000, 60_000])
def test_a_scan_too_large_for_memory_is_sorted_on_disk_and_loses_nothing(tmp_path: Path, chunk: int) -> None:
    """Every point with its own intensity, colour and place in the grid; levels as spread as those sorted in memory."""
    rng, n = np.random.default_rng(chunk), 40_000
    scan = room(n, (30, 20, 6))
    given = Scan(
        scan.xyz, rng.random(n).astype(np.float32), scan.rgb, np.arange(n, dtype=np.int32), np.arange(n, dtype=np.int32)[::-1].copy()
    )
    columns = {name: getattr(given, name) for name in KINDS}
    path = tmp_path / "points"
    path.write_bytes(b"".join(c.tobytes() for c in columns.values()) + b"beyond")
    told: list[tuple[int, int]] = []
    source = Spilled(OnDisk(path, dict.fromkeys(KINDS, n), n), tmp_path, lambda done, total: told.append((done, total)), chunk)
    parts = [source.part(t) for t in source.tiles]
    found = Scan(*(np.concatenate([getattr(p, k) for p in parts]) for k in ("xyz", "intensity", "rgb", "row", "column")))
    np.testing.assert_array_equal(np.sort(found.row), np.arange(n))
    for name in KINDS:
        np.testing.assert_array_equal(getattr(found, name), columns[name][found.row])
    assert [t.first for t in source.tiles] == list(np.cumsum([0, *(t.count for t in source.tiles)])[:-1])
    assert max(t.count for t in source.tiles) <= TILE and told[-1] == (2 * n, 2 * n) and not path.exists()
    low, spacing, coarse = given.xyz.min(axis=0), source.tiles[0].spacing, sum(t.count for t in source.tiles if t.level == 0)
    cells = [len(np.unique(np.floor((p - low) / spacing), axis=0)) for p in (given.xyz, found.xyz[:coarse])]
    assert cells[0] == cells[1] <= coarse <= cells[0] + n / chunk  # each cell has its point; one on a border may have two
    if chunk > n:
        assert source.tiles == InMemory(given).tiles


def test_a_large_scan_comes_in_by_the_disk_and_goes_out_whole(database: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(stations, "IN_MEMORY", 1000)
    monkeypatch.setattr(stations, "Spilled", lambda scan, folder, report: Spilled(scan, folder, report, 3000))
    made, given = make_project("large"), room(20_000)
    grid = np.arange(20_000, dtype=np.int32)
    bring_in(made, [write_scan(tmp_path / "big.e57", Scan(given.xyz, given.intensity, given.rgb, grid // 200, grid % 200))])
    with session() as s:
        station = stations_of(s, made)[0]
        back = read_station(s, station)
    index = back.row * 200 + back.column
    np.testing.assert_array_equal(np.sort(index), grid)
    np.testing.assert_allclose(back.xyz, given.xyz[index], atol=1e-6)
    np.testing.assert_array_equal(back.rgb, given.rgb[index])


def test_indices_survive_packing() -> None:
    for index in (np.zeros(0, np.int64), np.array([0]), np.array([5, 6, 7, 4_000_000_000])):
        np.testing.assert_array_equal(unpack_indices(pack_indices(index), len(index)), index)


def test_undo_and_redo_walk_through_the_journal(project: str) -> None:
    station = first(project)
    stations.change_station(project, station.id, station.version, "Hall", None)
    stations.change_station(project, station.id, None, None, True)
    assert [x.name for x in all_stations(project)] == ["ST-2"]
    assert "Hall" in projects.undo(project)
    assert [x.name for x in all_stations(project)] == ["Hall", "ST-2"]
    projects.undo(project)
    assert first(project).name == "ST-1"
    projects.undo(project, redo=True)
    assert first(project).name == "Hall"
    stations.change_station(project, station.id, None, "Yard", None)  # something new: nothing is left to redo
    with pytest.raises(LanternError):
        projects.undo(project, redo=True)


def all_stations(project: str) -> list[Station]:
    with session() as s:
        return stations_of(s, project)


def test_undo_says_so_when_somebody_changed_the_same_thing_since(project: str) -> None:
    made = cuts.make_section(project, "plan", {"height": 0.0})
    with session() as s:
        s.get_one(Section, made).name = "renamed behind the journal's back"
    with pytest.raises(Conflict):
        projects.undo(project)
    with session() as s:
        assert not s.get_one(Section, made).deleted


def test_a_change_that_fails_leaves_no_trace(project: str) -> None:
    before = len(projects.journal_of(project))
    with pytest.raises(ZeroDivisionError), journal.change(project, "half") as c:
        c.project.name = "half done"
        c.s.flush()
        raise ZeroDivisionError
    with session() as s:
        assert projects.describe(s, project)["name"] == "store"
    assert len(projects.journal_of(project)) == before


def test_an_old_version_is_refused(project: str) -> None:
    station = first(project)
    stations.change_station(project, station.id, station.version, "A", None)
    with pytest.raises(Conflict, match="meanwhile"):
        stations.change_station(project, station.id, station.version, "B", None)
    assert first(project).name == "A"


def test_an_import_that_is_cancelled_leaves_nothing(database: str, tmp_path: Path) -> None:
    made = make_project("cancelled")
    with pytest.raises(LanternError):
        bring_in(made, [write_scan(tmp_path / "a.e57", room(300_000))], stopping_after(1))
    assert all_stations(made) == []
    with session() as s:
        assert tiles_of(s, [x.id for x in stations_of(s, made)]) == []


def told(body: bytes, points: int) -> np.ndarray:
    """The mask that marks tile by tile stand for."""
    mask = np.zeros(points, bool)
    while body:
        first, count = np.frombuffer(body, "<i8", 1)[0], np.frombuffer(body, "<u4", 1, 8)[0]
        size = 12 + -(-int(count) // 8)
        mask[first : first + count] = np.unpackbits(np.frombuffer(body[12:size], np.uint8), bitorder="little")[:count]
        body = body[size:]
    return mask


def test_a_change_of_marks_sends_the_tiles_it_touched_and_no_others(database: str, tmp_path: Path) -> None:
    made = make_project("large marks")
    (station,) = bring_in(made, [write_scan(tmp_path / "big.e57", room(400_000, (30, 20, 6)))])
    whole = [[-1.0, -1.0], [1.0, -1.0], [1.0, 1.0], [-1.0, 1.0]]
    view = [1 / 15, 0, 0, 0, 0, 1 / 10, 0, 0, 0, 0, -0.2, 0, 0, 0, 0, 1]
    edits.delete_in_lasso(made, view, whole, [station])
    everything = edits.marks(made, station)
    projects.undo(made)
    edit = edits.delete_in_lasso(made, view, [[0.9, 0.9], [1.0, 0.9], [1.0, 1.0], [0.9, 1.0]], [station])["edit"]
    part = edits.marks(made, station, [edit])
    assert 0 < len(part) < 0.6 * len(everything)
    with session() as s:
        mask = deleted_mask(s, s.get_one(Station, station))
    np.testing.assert_array_equal(told(part, len(mask)), mask)
    edits.switch_edit(made, edit, False, None)
    back = edits.marks(made, station, [edit])
    assert len(back) == len(part) and not told(back, len(mask)).any()  # the same tiles, now without a mark
    assert edits.marks(made, station) == b""
    edits.switch_edit(made, edit, True, None)
    for _ in range(3):
        projects.undo(made)  # the edit itself is out of sight now: what it had marked is told all the same
    assert edits.marks(made, station, [edit]) == back


def test_a_lasso_deletes_what_it_counted_and_undo_brings_it_back(project: str) -> None:
    station = first(project)
    outline = [[-0.5, -0.5], [0.5, -0.5], [0.5, 0.5], [-0.5, 0.5]]
    spec = {"kind": "lasso", "view": ABOVE, "outline": outline}
    counted = selecting.choose(project, spec, [station.id])
    deleted = edits.delete_in_lasso(project, ABOVE, outline, [station.id])
    with session() as s:
        scan, mask = read_station(s, station), deleted_mask(s, station)
    inside = (np.abs(scan.xyz[:, 0] * 0.3) <= 0.5) & (np.abs(scan.xyz[:, 1] * 0.4) <= 0.5)
    assert counted["count"] == deleted["count"] == mask.sum() == inside.sum() > 0
    np.testing.assert_array_equal(mask, inside)
    np.testing.assert_array_equal(told(edits.marks(project, station.id), len(mask)), mask)
    assert selecting.choose(project, spec, [station.id])["count"] == 0
    projects.undo(project)
    with session() as s:
        assert not deleted_mask(s, station).any()
    with pytest.raises(LanternError, match="no points"):
        edits.delete_in_lasso(project, ABOVE, [[5, 5], [6, 5], [6, 6]], [station.id])


def test_crop_boxes_shield_points_outside_all_of_them_and_inside_those_that_take_away(project: str) -> None:
    station = first(project)
    boxes.set_box(project, "left", [-2, 0, 0], [1, 4, 4], 0.0)
    outline = [[-1, -1], [1, -1], [1, 1], [-1, 1]]
    deleted = edits.delete_in_lasso(project, ABOVE, outline, [station.id])
    with session() as s:
        scan, mask = read_station(s, station), deleted_mask(s, station)
    assert 0 < deleted["count"] == mask.sum() < len(mask) and scan.xyz[mask, 0].max() <= -1  # type: ignore[operator]
    boxes.set_box(project, "right", [2, 0, 0], [1, 4, 4], 0.0)
    boxes.set_box(project, "hole", [2, 0, 0], [0.3, 4, 4], 0.0, outside=True)
    prism = [[-1.5, -1.0], [1.5, -1.0], [0.0, 1.0]]
    boxes.set_box(project, "wedge", [0, 0, 0], [1, 1, 9], 0.0, outline=prism)
    with session() as s:
        seen = clip_of(s, project, first(project).part_id).inside(scan.xyz.astype(float))  # type: ignore[union-attr]
    x, y = scan.xyz[:, 0].astype(float), scan.xyz[:, 1].astype(float)
    wedge = (y > -1) & (y < 1 - 4 / 3 * np.abs(x))
    expected = ((np.abs(x + 2) <= 1) | (np.abs(x - 2) <= 1) | wedge) & ~(np.abs(x - 2) <= 0.3)
    np.testing.assert_array_equal(seen, expected)
    assert 0.2 < seen.mean() < 0.9


def test_a_section_reads_only_tiles_that_its_slab_meets(database: str, tmp_path: Path) -> None:
    made = make_project("section")
    bring_in(made, [write_scan(tmp_path / "big.e57", room(400_000, (30, 20, 6)))])
    section = cuts.make_section(made, "plan", {"height": 0.5, "before": 0.0, "behind": 0.05})
    with session() as s:
        slab = slab_of(s, made, s.get_one(Section, section))
        (station,) = stations_of(s, made)
        z = read_station(s, station).xyz[:, 2]
    expected = ((z <= np.float32(0.5)) & (z >= np.float32(0.45))).sum()
    assert abs(len(slab.points) - expected) <= 2 and len(slab.rgb) == len(slab.intensity) == len(slab.points)
    assert slab.counts["tiles_read"] < 0.7 * slab.counts["tiles"]


def test_a_deleted_project_is_gone_for_everybody(project: str) -> None:
    projects.delete_project(project)
    assert project not in {p["id"] for p in projects.list_projects()}
    with pytest.raises(NotFound):
        stations.change_station(project, "0" * 32, None, "x", None)
