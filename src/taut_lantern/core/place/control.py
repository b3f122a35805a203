"""Control as surveyors write it: reading, and solving the placement.

Terms: easting, northing, height in metres of the control frame; role control | check | off.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import BadInput, Finding, NotEnough
from ..targets.match import rigid

Array = NDArray[np.float64]
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


@dataclass(frozen=True)
class PointResidual:
    name: str
    role: str
    residual: tuple[float, float, float]  # east, north, height; given minus found, metres
    distance: float
    status: str
    reasons: tuple[Finding, ...]


@dataclass(frozen=True)
class Placement:
    """T_control_project with what is left at every point; sigma0 in metres per coordinate."""

    T_control_project: Array
    points: tuple[PointResidual, ...]
    sigma: float
    findings: tuple[Finding, ...]


def solve(names: list[str], roles: list[str], project: Array, control: Array, tolerance: float, level: bool = False) -> Placement:
    """Rigid placement without scale from the points whose role is control (at least 3 with spread).

    project, control : (n, 3) metres, the same points in both frames. A point over the tolerance whose removal
    explains it (others fit within the tolerance, itself off by over 3 times that) is named as blunder and left out.
    """
    used = [k for k, r in enumerate(roles) if r == "control"]
    if len(used) < 3:
        have = ", ".join(names[k] for k in used) or "none"
        raise NotEnough(
            f"placing on control needs at least 3 matched points; {len(used)} are matched ({have})",
            remedy="match one more, or square the project to a wall instead",
        )
    extent = np.linalg.svd(project[used] - project[used].mean(axis=0), compute_uv=False)
    if extent[1] < 0.3:
        raise NotEnough("the matched control points lie on one line", remedy="match a point to the side of that line")
    blundered: dict[int, float] = {}
    while len(used) > 3:
        t = rigid(project[used], control[used], level)
        gap = np.linalg.norm(control[used] - frames.apply(t, project[used]), axis=1)
        if gap.max() <= tolerance:
            break
        best = None
        for k in used:
            rest = [m for m in used if m != k]
            t = rigid(project[rest], control[rest], level)
            left = np.linalg.norm(control[rest] - frames.apply(t, project[rest]), axis=1)
            own = float(np.linalg.norm(control[k] - frames.apply(t, project[k : k + 1])[0]))
            if best is None or left.max() < best[1]:
                best = (k, float(left.max()), own)
        if best is None or best[2] < 2 * tolerance or best[2] < 3 * best[1]:
            break
        blundered[best[0]] = best[2]
        used.remove(best[0])
    t = rigid(project[used], control[used], level)
    gap3 = control - frames.apply(t, project)
    dof = 3 * len(used) - (4 if level else 6)
    sigma = float(np.sqrt((gap3[used] ** 2).sum() / max(dof, 1)))
    points, findings = [], []
    for k, name in enumerate(names):
        d = float(np.linalg.norm(gap3[k]))
        reasons = []
        if k in blundered:
            reasons.append(
                Finding(
                    "blunder",
                    name,
                    f"{name} is off by {1000 * blundered[k]:.0f} mm while the others agree: suspected blunder, left out",
                    "fault",
                )
            )
        elif d > tolerance:
            reasons.append(
                Finding("over_tolerance", name, f"{name} is off by {1000 * d:.1f} mm, tolerance {1000 * tolerance:.1f} mm", "doubt")
            )
        findings += reasons
        status = "parted" if k in blundered or d > 3 * tolerance else "slack" if d > tolerance else "taut"
        points.append(PointResidual(name, roles[k], (float(gap3[k, 0]), float(gap3[k, 1]), float(gap3[k, 2])), d, status, tuple(reasons)))
    if len(used) == 3:
        findings.append(
            Finding("no_redundancy", "placement", "three points place the project but control little: a fourth would prove it", "doubt")
        )
    return Placement(t, tuple(points), sigma, tuple(findings))


def square_to_wall(points: Array, pick: Array, given: tuple[float, float, float], flip: bool = False) -> tuple[Array, float, int]:
    """Site grid from a wall: its line becomes the first axis, and ``pick`` gets the ``given`` coordinates.

    points : (n, 3) project frame near the pick on the wall, metres. Returns (T_grid_project, rms of the wall
    plane, points used). NotEnough when what is there is no upright plane.
    """
    p = points
    normal, rms, centre = np.array([1.0, 0, 0]), 0.0, p.mean(axis=0) if len(p) else pick
    for _ in range(6):
        if len(p) < 30:
            raise NotEnough("fewer than 30 points lie on the wall at the pick", remedy="pick a bare part of a wall")
        centre = p.mean(axis=0)
        _, s, vt = np.linalg.svd(p - centre, full_matrices=False)
        normal, rms = vt[2], float(s[2] / math.sqrt(len(p)))
        keep = np.abs((points - centre) @ normal) < max(3 * rms, 0.003)
        p = points[keep]
    if abs(normal[2]) > 0.2 or rms > 0.02:
        raise NotEnough("what was picked is not an upright wall", remedy="pick a bare part of a wall")
    along = math.atan2(normal[0], -normal[1]) + (math.pi if flip else 0.0)
    t = frames.pose(-along)
    t[:3, 3] = np.array(given) - t[:3, :3] @ pick
    return t, rms, len(p)
