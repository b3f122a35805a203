"""Reference stops of a mobile scan: places where it stood still, as its own log lists them in the scan's frame."""

from __future__ import annotations

import csv
import io
import math
from dataclasses import dataclass

from ..errors import BadInput

SHORT = 3.0  # seconds: who stood less was hardly still
WORDS = {
    "name": ("name", "point", "id", "stop"),
    "x": ("x",),
    "y": ("y",),
    "z": ("z",),
    "seconds": ("seconds", "duration", "s"),
    "start": ("start", "begin"),
    "end": ("end",),
}
MOST = 2000


@dataclass(frozen=True)
class Stop:
    """xyz: metres, scan's frame; seconds: how long it stood, None when the file does not say."""

    name: str
    xyz: tuple[float, float, float]
    seconds: float | None

    @property
    def remark(self) -> str:
        if self.seconds is None:
            return ""
        return f"stood {self.seconds:.0f} s" + (" only: hardly still" if self.seconds < SHORT else "")

    @property
    def sure(self) -> bool:
        return self.seconds is None or self.seconds >= SHORT


def read_stops(text: str, file: str) -> list[Stop]:
    """Lines of name, x, y, z and how long: seconds, or start and end; with a header that says so. BadInput names the line that is wrong."""
    lines = [x for x in text.lstrip("\ufeff").splitlines() if x.strip() and not x.lstrip().startswith("#")]
    if len(lines) < 2:
        raise BadInput(
            f"{file} holds no stops", subject=file, remedy="give a header line (name, x, y, z, seconds) and a line for each stop"
        )
    separator = max(";\t,", key=lines[0].count)
    rows = list(csv.reader(io.StringIO("\n".join(lines)), delimiter=separator))
    head = [c.strip().lower() for c in rows[0]]
    at = {k: next((i for i, c in enumerate(head) if c in words), None) for k, words in WORDS.items()}
    if missing := [k for k in ("name", "x", "y", "z") if at[k] is None]:
        raise BadInput(
            f"{file} has no column {', '.join(missing)}", subject=file, remedy="name the columns in the first line: name, x, y, z"
        )
    if len(rows) > MOST + 1:
        raise BadInput(
            f"{file} holds {len(rows) - 1:,} stops; at most {MOST:,} are read", subject=file, remedy="keep the reference stops only"
        )
    out: list[Stop] = []
    for number, row in enumerate(rows[1:], 2):

        def value(key: str, row: list[str] = row, number: int = number) -> float:
            i = at[key]
            try:
                v = float(row[i]) if i is not None else math.nan
            except (IndexError, ValueError):
                v = math.inf
            if math.isinf(v) or (math.isnan(v) and i is not None):
                raise BadInput(f"{file}, stop {number - 1}: {key} is no number", subject=file, remedy="correct that line")
            return v

        i = at["name"] or 0
        name = row[i].strip()[:120] if i < len(row) else ""
        if not name or name in {s.name for s in out}:
            raise BadInput(
                f"{file}, stop {number - 1}: {name or 'its name'} is {'there twice' if name else 'missing'}",
                subject=file,
                remedy="correct that line",
            )
        seconds = value("seconds") if at["seconds"] is not None else value("end") - value("start")
        out.append(Stop(name, (value("x"), value("y"), value("z")), None if math.isnan(seconds) else seconds))
    return out
