"""A customer's title block in: a block of a DXF, or all of it, as lines and texts in millimetres on paper; its attribute definitions are
fields that a sheet fills in. Read in a sealed process."""

from __future__ import annotations

import json
import re
import tempfile
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from ezdxf import recover
from ezdxf.filemanagement import new

from ..core.errors import BadInput, LanternError
from . import sealed

MILLIMETRES = {1: 25.4, 2: 304.8, 4: 1.0, 5: 10.0, 6: 1000.0}  # by $INSUNITS; without one a block is drawn in those of the paper
FINE = 0.05  # millimetres that a curve may be left by
WEIGHT = 0.18  # millimetres of a line that tells none
MOST_LINES, MOST_TEXTS = 20_000, 2_000
LARGEST = 1300.0  # millimetres across: beyond A0
SECONDS, MEMORY = 30.0, 1 << 30
WITH_PATHS = ("LINE", "LWPOLYLINE", "POLYLINE", "CIRCLE", "ARC", "ELLIPSE", "SPLINE", "SOLID", "TRACE")
LEFT, MIDDLE, RIGHT = 0, 1, 2


@dataclass(frozen=True)
class Text:
    """at: millimetres from the block's lower left corner, of its foot (left, middle or right, by ``anchor``); height: of capitals; turn:
    radians; tag: of a field, else "", whose text is what stands there when nothing is filled in."""

    at: tuple[float, float]
    height: float
    text: str
    turn: float = 0.0
    anchor: int = LEFT
    tag: str = ""


@dataclass(frozen=True)
class Block:
    """name: of the block, or of the file when all of it was taken. lines: (weight, points), millimetres."""

    name: str
    wide: float
    tall: float
    lines: tuple[tuple[float, tuple[tuple[float, float], ...]], ...]
    texts: tuple[Text, ...]

    @property
    def tags(self) -> list[str]:
        """Its fields, each once, from the top down."""
        return list(dict.fromkeys(t.tag for t in sorted(self.texts, key=lambda t: (-t.at[1], t.at[0])) if t.tag))

    def told(self) -> dict[str, Any]:
        """As it is kept."""
        texts = [[*t.at, t.height, t.text, t.turn, t.anchor, t.tag] for t in self.texts]
        return {"name": self.name, "wide": self.wide, "tall": self.tall, "lines": [[w, list(p)] for w, p in self.lines], "texts": texts}

    @staticmethod
    def of(kept: dict[str, Any]) -> Block:
        lines = tuple((float(w), tuple((float(x), float(y)) for x, y in p)) for w, p in kept["lines"])
        texts = tuple(Text((x, y), h, text, turn, anchor, tag) for x, y, h, text, turn, anchor, tag in kept["texts"])
        return Block(kept["name"], kept["wide"], kept["tall"], lines, texts)


def read(path: Path, name: str, block: str = "") -> Block:
    """The block of that name; without one the block with most fields, and when none has any the whole drawing. BadInput when there is no
    such block (its remedy names those there are), or nothing in it."""
    _warm()
    told, _ = sealed.run(lambda seal: {"block": json.dumps(_read(path, name, block).told())}, path, name, SECONDS, MEMORY)
    return Block.of(json.loads(told["block"]))


@cache
def _warm() -> None:
    """Read a small one: a sealed process loads no code any more."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "small.dxf"
        doc = new(setup=True)
        doc.units = 4
        own = doc.blocks.new("small")
        own.add_lwpolyline([(0, 0), (10, 0, 0, 0, 0.5), (10, 10)])
        own.add_circle((3, 3), 1)
        own.add_ellipse((3, 3), (1, 0), 0.5)
        own.add_spline([(0, 0), (1, 1), (2, 0)])
        own.add_text("A", height=2)
        own.add_mtext("B", dxfattribs={"char_height": 2})
        own.add_attdef("TAG", (1, 1), "C", dxfattribs={"height": 2})
        doc.modelspace().add_blockref("small", (0, 0))
        doc.saveas(path)
        for which in ("small", ""):
            _read(path, "small.dxf", which)
        doc.blocks.get("small").delete_all_entities()
        doc.modelspace().add_line((0, 0), (20, 20))
        doc.saveas(path)
        _read(path, "small.dxf", "")


def _read(path: Path, name: str, block: str) -> Block:
    head, tail = _ends(path)
    if b"\0" not in head and b"EOF" not in tail:
        if b"SECTION" in head:
            raise BadInput(f"{name} ends before its end", subject=name, remedy="copy or save it anew", code="truncated")
        raise BadInput(f"{name} is no DXF file that can be read", subject=name, remedy="save it anew as DXF", code="unreadable")
    try:
        doc, _ = recover.readfile(path)
        return _taken(doc, name, block)
    except LanternError:
        raise
    except Exception as problem:  # whatever a reader of somebody's file falls over
        remedy = "save it anew as DXF, ASCII or binary"
        raise BadInput(f"{name} is no DXF file that can be read", subject=name, remedy=remedy, code="unreadable") from problem


def _ends(path: Path) -> tuple[bytes, bytes]:
    with path.open("rb") as f:
        head = f.read(4096)
        f.seek(max(0, path.stat().st_size - 256))
        return head, f.read()


def _taken(doc: Any, name: str, block: str) -> Block:
    own = {b.name: b for b in doc.blocks if not b.is_any_layout and not b.name.startswith("*") and len(b)}
    by_name = {k.casefold(): v for k, v in own.items()}
    if block:
        if block.casefold() not in by_name:
            there = ", ".join(sorted(own)[:12]) or "none"
            raise BadInput(f"{name} has no block {block}", subject=block, remedy=f"choose one that it has: {there}", code="no_block")
        chosen = by_name[block.casefold()]
    else:
        fields = {k: sum(e.dxftype() == "ATTDEF" for e in b) for k, b in own.items()}
        best = max(fields, key=lambda k: fields[k], default="")
        chosen = own[best] if best and fields[best] else None
    if chosen is None:
        papers = [x for x in doc.layouts if not x.is_modelspace and sum(e.dxftype() != "VIEWPORT" for e in x)]
        chosen = doc.modelspace() if len(doc.modelspace()) or not papers else papers[0]
        title = Path(name).stem
    else:
        title = chosen.name
    factor = MILLIMETRES.get(int(doc.header.get("$INSUNITS", 0)), 1.0)
    lines, texts = _parts(chosen, factor)
    if not lines:
        raise BadInput(f"nothing is drawn in {title}", subject=title, remedy="choose another block, or another file", code="empty_block")
    all_ = np.concatenate([np.array(p) for _, p in lines])
    low, high = all_.min(axis=0), all_.max(axis=0)
    wide, tall = (float(v) for v in high - low)
    if max(wide, tall) > LARGEST or max(wide, tall) < 5:
        raise BadInput(
            f"{title} is {wide:.0f} x {tall:.0f} mm large",
            subject=title,
            remedy="draw it in millimetres on paper, and say so in the file ($INSUNITS)",
            code="wrong_size",
        )
    moved = tuple((w, tuple((round(x - low[0], 3), round(y - low[1], 3)) for x, y in p)) for w, p in lines)
    laid = tuple(Text((round(t.at[0] - low[0], 3), round(t.at[1] - low[1], 3)), t.height, t.text, t.turn, t.anchor, t.tag) for t in texts)
    return Block(title[:120], wide, tall, moved, laid)


def _parts(space: Any, factor: float) -> tuple[list[tuple[float, list[tuple[float, float]]]], list[Text]]:
    from ezdxf import disassemble, path

    lines: list[tuple[float, list[tuple[float, float]]]] = []
    texts: list[Text] = []
    for e in disassemble.recursive_decompose(space):
        kind = e.dxftype()
        if e.dxf.get("invisible", 0):
            continue
        if kind in ("TEXT", "ATTDEF", "ATTRIB", "MTEXT"):
            texts += _texts(e, kind, factor)
        elif kind in WITH_PATHS:
            weight = e.dxf.get("lineweight", -1)
            mm = weight / 100 if weight > 0 else WEIGHT
            p = [(factor * v.x, factor * v.y) for v in path.make_path(e).flattening(FINE / factor)]
            if len(p) > 1:
                lines.append((mm, p))
        if len(lines) > MOST_LINES or len(texts) > MOST_TEXTS:
            raise BadInput("this block is too rich to stand on a sheet", subject="block", remedy="leave pictures and hatches out of it")
    return lines, texts


def _texts(e: Any, kind: str, factor: float) -> list[Text]:
    if kind == "MTEXT":
        place, height, turn = e.dxf.insert, e.dxf.char_height, e.get_rotation()
        column, row = (int(e.dxf.get("attachment_point", 1)) - 1) % 3, (int(e.dxf.get("attachment_point", 1)) - 1) // 3
        rows = [r for r in e.plain_text(split=True) if r.strip()]
        high = (len(rows) - 1) * 1.6 + 1.0  # of all rows, in heights; a row stands 1.6 of them below the one before
        first = (-1.0, high / 2 - 1.0, high - 1.0)[row]  # the foot of the first
        c, s = float(np.cos(np.radians(turn))), float(np.sin(np.radians(turn)))
        out = []
        for k, text in enumerate(rows):
            up = (first - 1.6 * k) * height
            at = (factor * (place.x - s * up), factor * (place.y + c * up))
            out.append(Text(at, factor * height, text[:200], float(np.radians(turn)), column))
        return out
    place, anchor = e.dxf.insert, LEFT
    align = int(e.dxf.get("halign", 0))
    if (align or e.dxf.get("valign", 0)) and e.dxf.hasattr("align_point"):
        place, anchor = e.dxf.align_point, {1: MIDDLE, 4: MIDDLE, 2: RIGHT}.get(align, LEFT)
    tag = str(e.dxf.tag).strip()[:60] if kind in ("ATTDEF", "ATTRIB") else ""
    height = factor * float(e.dxf.get("height", 2.5))
    down = {3: 1.0, 2: 0.5}.get(int(e.dxf.get("valign", 0)), 0.5 if align == 4 else 0.0) * height
    return [
        Text(
            (factor * place.x, factor * place.y - down),
            height,
            str(e.dxf.text)[:200],
            float(np.radians(e.dxf.get("rotation", 0.0))),
            anchor,
            tag,
        )
    ]


KNOWN = (
    ("project", r"proj|job|site"),
    ("client", r"client|customer|owner"),
    ("scale", r"scale"),
    ("drawn by", r"drawn|author|draft|designer"),
    ("checked by", r"check|approv|review"),
    ("number", r"(drawing|dwg|doc|sheet).*(no|num|nr|#)|^no$|^number$|^nr$"),
    ("revision", r"rev"),
    ("date", r"date|day"),
    ("coordinates", r"coord|grid|datum|crs"),
    ("sheet", r"title|name|sheet|drawing|subject|content"),
)


def meant(tag: str) -> str:
    """What of a sheet a field asks for, by its name; "" when that is not known."""
    word = re.sub(r"[\W_]+", " ", tag).strip().casefold()
    return next((name for name, pattern in KNOWN if re.search(pattern, word)), "")
