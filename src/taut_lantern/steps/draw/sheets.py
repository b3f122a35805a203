"""Sheets: views of sections on paper, kept with the project."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.draw.layout import PAPERS
from ...core.draw.raster import MODES
from ...core.errors import BadInput, LanternError
from ...formats.block import Block, read
from ...site.common import clean_name, owned
from ...site.sheets import filled_in, laid, title_of, words_known
from ...store import journal, scratch
from ...store.db import snapshot
from ...store.models import Section, Sheet, TitleBlock

MOST = 24  # views on a sheet
BLOCK = ("drawn by", "checked by", "number", "client")


def make(project_id: str, name: str, params: dict[str, Any]) -> str:
    """A sheet with views of sections; see ``checked`` for params."""
    _fits(project_id, params)
    with journal.change(project_id, "", topic="sections") as c:
        row = Sheet(project_id=project_id, name=clean_name(name, "Sheet"), params=_checked(c.s, project_id, params))
        c.s.add(row)
        c.title = f"Made the sheet {row.name}"
        c.s.flush()
        return row.id


def scale_on(project_id: str, params: dict[str, Any]) -> int:
    """The scale, 1 to so much, that a sheet with these params would be plotted at. BadInput when its views do not fit."""
    with snapshot() as s:
        return laid(s, Sheet(project_id=project_id, name="", params=_checked(s, project_id, params)))[0].scale


def _fits(project_id: str, params: dict[str, Any]) -> None:
    """BadInput when views do not fit; asked before the project is locked, for where nothing is drawn points are read."""
    scale_on(project_id, params)


def change(project_id: str, sheet_id: str, version: int | None, name: str | None, params: dict[str, Any] | None) -> None:
    if params:
        with snapshot() as s:
            before = _today(s, owned(s, Sheet, project_id, sheet_id, "sheet"))
        _fits(project_id, {**before, **params})
    with journal.change(project_id, "", topic="sections") as c:
        row = owned(c.s, Sheet, project_id, sheet_id, "sheet")
        journal.checked_version(row, version, f"the sheet {row.name}")
        row.name = clean_name(name or row.name, row.name)
        if params:
            row.params = _checked(c.s, project_id, {**_today(c.s, row), **params})
        c.title = f"Changed the sheet {row.name}"


def _today(s: Session, sheet: Sheet) -> dict[str, Any]:
    """The params of a sheet, without a title block that is gone."""
    gone = sheet.params.get("title") and title_of(s, sheet) is None
    return {**sheet.params, **({"title": None, "fields": {}} if gone else {})}


def delete(project_id: str, sheet_id: str, version: int | None) -> None:
    with journal.change(project_id, "", topic="sections") as c:
        row = owned(c.s, Sheet, project_id, sheet_id, "sheet")
        journal.checked_version(row, version, f"the sheet {row.name}")
        row.deleted = True
        c.title = f"Deleted the sheet {row.name}"


def _checked(s: Session, project_id: str, params: dict[str, Any]) -> dict[str, Any]:
    """paper (A4 to A0), upright, scale (None: what fits), sections (ids, in their order), picture (see core.draw.raster, "" for none), block
    (what the title block says), revisions (date, words); title: id of the customer's title block, None for ours, and fields: what stands in
    its fields, by their tags, where that is not what their names ask for."""
    ids = [str(x) for x in params.get("sections") or []]
    if not 1 <= len(ids) <= MOST:
        raise BadInput(f"a sheet shows 1 to {MOST} sections", subject="sheet", remedy="choose a section for it")
    for x in ids:
        owned(s, Section, project_id, x, "section")
    paper, picture, scale = params.get("paper", "A3"), params.get("picture", "density"), params.get("scale")
    if paper not in PAPERS or picture not in ("", *MODES):
        raise BadInput("unknown paper or picture", subject="sheet", remedy=f"use {', '.join(PAPERS)}")
    if scale is not None and not 1 <= int(scale) <= 10_000:
        raise BadInput("a scale is 1:1 to 1:10000", subject="scale", remedy="give the number after 1:")
    block = {k: str(v)[:80] for k, v in (params.get("block") or {}).items() if k in BLOCK and str(v).strip()}
    revisions = [{"date": str(r["date"])[:10], "words": str(r["words"])[:120]} for r in params.get("revisions") or []][-20:]
    title = params.get("title") or None
    if title is not None:
        owned(s, TitleBlock, project_id, str(title), "title block")
    fields = {str(k)[:60]: str(v)[:200] for k, v in (params.get("fields") or {}).items()} if title is not None else {}
    return {
        "title": title,
        "fields": fields,
        "paper": paper,
        "upright": bool(params.get("upright", False)),
        "scale": None if scale is None else int(scale),
        "sections": ids,
        "picture": picture,
        "block": block,
        "revisions": revisions,
    }


def bring_block(project_id: str, name: str, data: bytes, block: str = "") -> str:
    """Keep a title block from a DXF's bytes; see formats.block. Returns its id."""
    with scratch.folder() as folder:
        path = folder / "block.dxf"
        path.write_bytes(data)
        found = read(path, name, block)
    with journal.change(project_id, "", topic="sections") as c:
        taken = {x.name for x in c.s.scalars(select(TitleBlock).where(TitleBlock.project_id == project_id))}
        title = clean_name(found.name, "Title block")
        title = next(n for k in range(1, 1000) if (n := title if k == 1 else f"{title} ({k})") not in taken)
        row = TitleBlock(project_id=project_id, name=title, body=found.told())
        c.s.add(row)
        c.title = f"Brought in the title block {title}"
        c.s.flush()
        return row.id


def delete_block(project_id: str, block_id: str, version: int | None) -> None:
    """Sheets that have it show ours again."""
    with journal.change(project_id, "", topic="sections") as c:
        row = owned(c.s, TitleBlock, project_id, block_id, "title block")
        journal.checked_version(row, version, f"the title block {row.name}")
        row.deleted = True
        c.title = f"Deleted the title block {row.name}"


def list_blocks(s: Session, project_id: str) -> list[dict[str, Any]]:
    rows = s.scalars(select(TitleBlock).where(TitleBlock.project_id == project_id).order_by(TitleBlock.name, TitleBlock.id))
    return [
        {"id": r.id, "version": r.version, "name": r.name, "wide": b.wide, "tall": b.tall, "tags": b.tags}
        for r in rows
        for b in [Block.of(r.body)]
    ]


def list_sheets(s: Session, project_id: str) -> list[dict[str, Any]]:
    """All sheets with where their views stand, or why that cannot be said."""
    out = []
    for row in s.scalars(select(Sheet).where(Sheet.project_id == project_id).order_by(Sheet.name, Sheet.id)):
        own = {"id": row.id, "version": row.version, "name": row.name, "title": None, "fields": {}, "says": [], **_today(s, row)}
        title = title_of(s, row)
        try:
            lay, sections, _ = laid(s, row)
            if title is not None:
                says = filled_in(Block.of(title.body), row.params.get("fields") or {}, words_known(s, row, sections, lay.scale))
                own["says"] = [{"tag": tag, "text": text} for tag, text in says.items()]
            views = [
                {"section": x.id, "title": x.name, "x": p.x, "y": p.y, "wide": p.wide, "tall": p.tall}
                for x, p in zip(sections, lay.places, strict=True)
            ]
            out.append({**own, "fits": lay.scale, "wide": lay.wide, "tall": lay.tall, "views": views, "problem": ""})
        except LanternError as problem:
            out.append({**own, "fits": None, "wide": 0.0, "tall": 0.0, "views": [], "problem": str(problem)})
    return out
