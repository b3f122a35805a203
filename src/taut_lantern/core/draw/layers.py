"""Layers of a drawing: name, colour, line type and weight, locked or not; and the lists that one can begin with."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from ..errors import BadInput

LINE_TYPES = ("continuous", "dashed", "dotted", "dash-dot")
WEIGHTS = (0.13, 0.18, 0.25, 0.35, 0.5, 0.7, 1.0)  # millimetres on paper, of technical pens (ISO 128)
TO_CHECK = "to check"
MOST = 500


@dataclass(frozen=True)
class Layer:
    """colour: #rrggbb; weight: millimetres; locked: what is on it is not changed; shown: whether it is seen and handed over."""

    name: str
    colour: str = "#1e2530"
    line_type: str = "continuous"
    weight: float = 0.25
    locked: bool = False
    shown: bool = True


def _of(*rows: tuple[str, str, str, float]) -> tuple[Layer, ...]:
    return tuple(Layer(name, colour, kind, weight) for name, colour, kind, weight in rows)


BUILDING = _of(
    ("wall", "#1e2530", "continuous", 0.5),
    ("column", "#3a2f6b", "continuous", 0.5),
    ("beam", "#3a2f6b", "continuous", 0.35),
    ("opening", "#6b4a12", "continuous", 0.25),
    ("floor", "#4b5563", "continuous", 0.35),
    ("ceiling", "#4b5563", "dash-dot", 0.25),
    ("stair", "#6b4a12", "continuous", 0.25),
    ("pipe", "#0b6b68", "continuous", 0.25),
    ("steel", "#5a6170", "continuous", 0.35),
    ("furniture", "#8a8f99", "continuous", 0.13),
    ("ground", "#23407a", "continuous", 0.25),
    ("dimension", "#5a6170", "continuous", 0.18),
    ("text", "#1e2530", "continuous", 0.18),
    (TO_CHECK, "#8a1846", "dashed", 0.25),
)
PLANT = _of(
    ("wall", "#1e2530", "continuous", 0.35),
    ("floor", "#4b5563", "continuous", 0.25),
    ("beam", "#3a2f6b", "continuous", 0.35),
    ("stair", "#6b4a12", "continuous", 0.25),
    ("steel", "#3a2f6b", "continuous", 0.5),
    ("pipe", "#0b6b68", "continuous", 0.5),
    ("pipe axis", "#0b6b68", "dash-dot", 0.18),
    ("vessel", "#6b4a12", "continuous", 0.5),
    ("tray", "#8a8f99", "continuous", 0.25),
    ("furniture", "#8a8f99", "continuous", 0.13),
    ("ground", "#23407a", "continuous", 0.25),
    ("dimension", "#5a6170", "continuous", 0.18),
    ("text", "#1e2530", "continuous", 0.18),
    (TO_CHECK, "#8a1846", "dashed", 0.25),
)
GROUND = _of(
    ("ground", "#6b4a12", "continuous", 0.25),
    ("break line", "#6b4a12", "dashed", 0.35),
    ("kerb", "#1e2530", "continuous", 0.35),
    ("paint", "#8a8f99", "continuous", 0.18),
    ("wall", "#1e2530", "continuous", 0.5),
    ("floor", "#4b5563", "continuous", 0.25),
    ("pipe", "#0b6b68", "continuous", 0.25),
    ("steel", "#5a6170", "continuous", 0.25),
    ("tree", "#2f5c1c", "continuous", 0.25),
    ("furniture", "#8a8f99", "continuous", 0.13),
    ("dimension", "#5a6170", "continuous", 0.18),
    ("text", "#1e2530", "continuous", 0.18),
    (TO_CHECK, "#8a1846", "dashed", 0.25),
)
TEMPLATES = {"building survey": BUILDING, "plant": PLANT, "topographic": GROUND}


def checked(rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """A list of layers as it is kept: names once each, what is given within what there is. BadInput else."""
    if not 1 <= len(rows) <= MOST:
        raise BadInput(f"a drawing has 1 to {MOST} layers; {len(rows)} came", subject="layers", remedy="leave some out")
    out: list[dict[str, Any]] = []
    seen: set[str] = set()
    for row in rows:
        name = " ".join(str(row.get("name", "")).split())[:60]
        colour, kind = str(row.get("colour", "#1e2530")).lower(), row.get("line_type", "continuous")
        if not name or name.casefold() in seen:
            raise BadInput(f"the layer {name!r} has no name of its own", subject=name or "layers", remedy="give every layer another name")
        if not re.fullmatch(r"#[0-9a-f]{6}", colour) or kind not in LINE_TYPES:
            remedy = f"write colours as #1e2530 and line types as one of {', '.join(LINE_TYPES)}"
            raise BadInput(f"the layer {name} has no such colour or line type", subject=name, remedy=remedy)
        seen.add(name.casefold())
        weight = min(WEIGHTS, key=lambda w: abs(w - float(row.get("weight", 0.25))))
        state = {"locked": bool(row.get("locked", False)), "shown": bool(row.get("shown", True))}
        out.append({"name": name, "colour": colour, "line_type": kind, "weight": weight, **state})
    return out
