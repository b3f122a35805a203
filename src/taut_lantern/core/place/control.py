"""Control as surveyors write it.

Terms: easting, northing, height in metres of the control frame, None for what a point does not have: a point of the plan has no
height, a benchmark no position; deviations as the surveyor gives them; role control | check | off.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from .. import frames
from ..errors import BadInput, Finding

COLUMNS = ("name", "n", "e", "h", "sn", "se", "sh", "s", "remark", "skip")
NOTHING = ("", "-", "--", "n/a")  # what stands where a coordinate is missing
TOLD = 0.001  # metres: feet of two kinds that differ by less are one

Three = tuple[float | None, float | None, float | None]


@dataclass(frozen=True)
class ControlPoint:
    name: str
    enh: Three  # easting, northing, height; metres
    remark: str = ""
    sigma: Three = (None, None, None)  # deviations of these, metres

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
    "se": ("se", "sde", "sigmae", "sx", "stde"),
    "sn": ("sn", "sdn", "sigman", "sy", "stdn"),
    "sh": ("sh", "sdh", "sigmah", "sz", "stdh"),
    "s": ("s", "sd", "sigma", "std", "deviation"),
    "remark": ("remark", "description", "code", "note", "remarks"),
}


def _split(line: str, separator: str) -> list[str]:
    return line.split() if separator == " " else [c.strip().strip('"') for c in line.split(separator)]


def _separator(lines: list[str]) -> tuple[str, bool]:
    """(separator, decimal comma) that splits most lines alike into at least three columns."""
    best = (" ", False, -1.0)
    for sep in (";", "\t", ",", " "):
        counts = [len(_split(x, sep)) for x in lines]
        common = max(set(counts), key=counts.count)
        if common >= 3:
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
    if columns is not None and (missing := {"name", "n", "e"} - set(columns)):
        raise BadInput(f"the column order lacks {', '.join(sorted(missing))}", subject=file, remedy="give name, n and e, and h for heights")
    if columns is not None and (unknown := set(columns) - set(COLUMNS)):
        raise BadInput(f"unknown columns {', '.join(sorted(unknown))}", subject=file, remedy=f"use {', '.join(COLUMNS)}")
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
    if not columns and not header and all(len(_split(x, separator)) == 3 for _, x in numbered):
        used = ["name", "n", "e"]  # of the plan
    findings: list[Finding] = []
    points: list[ControlPoint] = []
    lines_of: dict[str, int] = {}
    need = max(used.index(c) for c in ("name", "n", "e", "h") if c in used) + 1
    metre = frames.METRE_PER_UNIT[unit]
    for number, line in numbered:
        cells = _split(line, separator)
        if len(cells) < need:
            message = f"line {number} has {len(cells)} columns, {need} are needed ({', '.join(used[:need])})"
            findings.append(Finding("missing_column", f"line {number}", message, "fault"))
            continue
        row = dict(zip(used, cells, strict=False))
        name = row["name"][:120]
        if name in lines_of:
            findings.append(Finding("same_name", f"line {number}", f"line {number}: {name} is in line {lines_of[name]} already", "fault"))
            continue
        lines_of[name] = number
        own: list[Finding] = []
        enh = _three(row, ("e", "n", "h"), comma, metre, number, own)
        sigma = _three(row, ("se", "sn", "sh"), comma, metre, number, own)
        if "s" in row:
            every = _three(row, ("s", "s", "s"), comma, metre, number, own)
            sigma = (sigma[0] or every[0], sigma[1] or every[1], sigma[2] or every[2])
        own = own[:1] if len({f.message for f in own}) == 1 else own
        if not own and (lacking := _missing(name, number, enh)) is not None:
            own.append(lacking)
        findings += own
        if not any(f.severity == "fault" for f in own):
            remark = " ".join(cells[used.index("remark") :]) if "remark" in used and len(cells) > used.index("remark") else ""
            points.append(ControlPoint(name, enh, remark[:200], sigma))
    if not points and not findings:
        findings.append(Finding("empty", file, f"{file} holds no points below its header", "fault"))
    findings += _two_feet(points, unit)
    return ControlReading(separator, comma, tuple(used), tuple(header), tuple(points), tuple(findings))


def _three(row: dict[str, str], keys: tuple[str, str, str], comma: bool, metre: float, number: int, findings: list[Finding]) -> Three:
    """Metres of three columns, None for what stands empty or is no column; what is no number is told."""
    out: list[float | None] = []
    for key in keys:
        cell = row.get(key, "").strip()
        if cell.lower() in NOTHING:
            out.append(None)
            continue
        try:
            value = float(cell.replace(",", ".") if comma else cell)
            if not math.isfinite(value) or abs(value) > 1e9 or (key.startswith("s") and value < 0):
                raise ValueError
            out.append(value * metre)
        except ValueError:
            out.append(None)
            findings.append(Finding("not_a_number", f"line {number}", f"line {number}, {key}: {cell[:40]!r} is not a number", "fault"))
    return out[0], out[1], out[2]


def _missing(name: str, number: int, enh: Three) -> Finding | None:
    """What a point without all three coordinates is good for."""
    plan = enh[0] is not None and enh[1] is not None
    if plan and enh[2] is not None:
        return None
    if plan:
        return Finding("no_height", f"line {number}", f"line {number}: {name} has no height and counts in plan only", "doubt")
    if enh[2] is not None and enh[0] is None and enh[1] is None:
        return Finding("benchmark", f"line {number}", f"line {number}: {name} has a height and no position", "doubt")
    message = f"line {number}: {name} has neither a position nor a height of its own"
    return Finding("not_a_number", f"line {number}", message, "fault")


def _two_feet(points: list[ControlPoint], unit: str) -> list[Finding]:
    """What the other kind of feet would make of the points, where that can be seen: they differ by 2 ppm."""
    if unit not in ("ft", "us_ft") or not points:
        return []
    farthest = max(abs(v) for p in points for v in p.enh if v is not None)
    apart = farthest * abs(frames.METRE_PER_UNIT["us_ft"] / frames.METRE_PER_UNIT["ft"] - 1)
    if apart < TOLD:
        return []
    other = "ft" if unit == "us_ft" else "us_ft"
    length = f"{1000 * apart:.0f} mm" if apart < 1 else f"{apart:.1f} m"
    message = (
        f"read in {frames.UNIT_WORDS[unit]}; in {frames.UNIT_WORDS[other]} these coordinates would lie {length} elsewhere: ask the surveyor"
    )
    return [Finding("two_feet", "unit", message, "doubt")]


def _by_header(header: list[str]) -> list[str] | None:
    out = []
    for cell in header:
        word = re.sub(r"[^a-z]", "", cell.lower())
        out.append(next((key for key, words in HEADER_WORDS.items() if word in words and key not in out), "skip"))
    return out if {"name", "n", "e"} <= set(out) else None
