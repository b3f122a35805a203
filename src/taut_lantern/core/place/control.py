"""Control as surveyors write it.

Terms: easting, northing, height in metres of the control frame; role control | check | off.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from .. import frames
from ..errors import BadInput, Finding

COLUMNS = ("name", "n", "e", "h", "remark", "skip")


@dataclass(frozen=True)
class ControlPoint:
    name: str
    enh: tuple[float, float, float]  # easting, northing, height; metres
    remark: str = ""

    @property
    def role(self) -> str:
        return "check" if re.search(r"\bcheck\b", self.remark, re.IGNORECASE) else "control"


@dataclass(frozen=True)
class ControlReading:
    """What a file says: the columns as read, the points, and problems by line. usable when nothing is a fault."""

    separator: str
    decimal_comma: bool
    columns: tuple[str, ...]
    header: tuple[str, ...]
    points: tuple[ControlPoint, ...]
    findings: tuple[Finding, ...]

    @property
    def usable(self) -> bool:
        return not any(f.severity == "fault" for f in self.findings)


HEADER_WORDS = {
    "name": ("name", "point", "id", "nr", "no", "punkt"),
    "n": ("n", "north", "northing", "y"),
    "e": ("e", "east", "easting", "x"),
    "h": ("h", "height", "z", "elevation", "level"),
    "remark": ("remark", "description", "code", "note", "remarks"),
}


def _split(line: str, separator: str) -> list[str]:
    return line.split() if separator == " " else [c.strip().strip('"') for c in line.split(separator)]


def _separator(lines: list[str]) -> tuple[str, bool]:
    """(separator, decimal comma) that splits most lines alike into at least four columns."""
    best = (" ", False, -1.0)
    for sep in (";", "\t", ",", " "):
        counts = [len(_split(x, sep)) for x in lines]
        common = max(set(counts), key=counts.count)
        if common >= 4:
            score = counts.count(common) / len(counts) + (0.2 if sep in ";\t" else 0)
            comma = sep != "," and sum(bool(re.search(r"\d,\d", x)) for x in lines) > len(lines) / 2
            if score > best[2]:
                best = (sep, comma, score)
    return best[0], best[1]


def read_control(text: str, file: str, columns: list[str] | None = None, unit: str = "m") -> ControlReading:
    """Read a control file. columns: e.g. ["name", "n", "e", "h"], None = by the header, else northing first.

    Never raises for what is in the file: every problem is a finding with its line; BadInput for unknown options.
    """
    if unit not in frames.METRE_PER_UNIT:
        raise BadInput(f"unknown unit {unit!r}", subject=file, remedy=f"use one of {', '.join(frames.METRE_PER_UNIT)}")
    if columns is not None and (missing := {"name", "n", "e", "h"} - set(columns)):
        raise BadInput(f"the column order lacks {', '.join(sorted(missing))}", subject=file, remedy="give name, n, e and h")
    numbered = [
        (k, line.strip())
        for k, line in enumerate(text.lstrip("\ufeff").splitlines(), 1)
        if line.strip() and not line.strip().startswith("#")
    ]
    if not numbered:
        return ControlReading(" ", False, (), (), (), (Finding("empty", file, f"{file} holds no points", "fault"),))
    separator, comma = _separator([x for _, x in numbered])
    first = _split(numbered[0][1], separator)
    header = first if sum(bool(re.fullmatch(r"[-+]?[\d.,]+", c)) for c in first) < 2 else []
    if header:
        numbered = numbered[1:]
    used = list(columns) if columns else _by_header(header) or ["name", "n", "e", "h", "remark"]
    findings: list[Finding] = []
    points: list[ControlPoint] = []
    lines_of: dict[str, int] = {}
    need = max(used.index(c) for c in ("name", "n", "e", "h")) + 1
    for number, line in numbered:
        cells = _split(line, separator)
        if len(cells) < need:
            findings.append(
                Finding(
                    "missing_column",
                    f"line {number}",
                    f"line {number} has {len(cells)} columns, {need} are needed ({', '.join(used[:need])})",
                    "fault",
                )
            )
            continue
        row = dict(zip(used, cells, strict=False))
        values = []
        for key in ("e", "n", "h"):
            cell = row[key].replace(",", ".") if comma else row[key]
            try:
                value = float(cell)
                if not math.isfinite(value) or abs(value) > 1e9:
                    raise ValueError
                values.append(value * frames.METRE_PER_UNIT[unit])
            except ValueError:
                findings.append(
                    Finding("not_a_number", f"line {number}", f"line {number}, {key}: {row[key][:40]!r} is not a number", "fault")
                )
        name = row["name"][:120]
        if name in lines_of:
            findings.append(Finding("same_name", f"line {number}", f"line {number}: {name} is in line {lines_of[name]} already", "fault"))
            continue
        lines_of[name] = number
        if len(values) == 3:
            remark = " ".join(cells[used.index("remark") :]) if "remark" in used and len(cells) > used.index("remark") else ""
            points.append(ControlPoint(name, (values[0], values[1], values[2]), remark[:200]))
    if not points and not findings:
        findings.append(Finding("empty", file, f"{file} holds no points below its header", "fault"))
    return ControlReading(separator, comma, tuple(used), tuple(header), tuple(points), tuple(findings))


def _by_header(header: list[str]) -> list[str] | None:
    out = []
    for cell in header:
        word = re.sub(r"[^a-z]", "", cell.lower())
        out.append(next((key for key, words in HEADER_WORDS.items() if word in words and key not in out), "skip"))
    return out if {"name", "n", "e", "h"} <= set(out) else None
