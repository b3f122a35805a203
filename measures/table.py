"""Rows of figures, printed and kept in docs/benchmarks.md."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Row:
    """What was measured, our figure, what it is held against and its figure, the goal, and whether it was met."""

    what: str
    ours: str
    yardstick: str
    goal: str = ""
    met: bool | None = None

    def cells(self) -> list[str]:
        return [self.what, self.ours, self.yardstick, self.goal, "" if self.met is None else "yes" if self.met else "**no**"]


HEAD = ["measure", "ours", "yardstick in the same run", "goal", "met"]


def markdown(rows: list[Row]) -> str:
    lines = [HEAD, ["---"] * len(HEAD), *(r.cells() for r in rows)]
    return "\n".join("| " + " | ".join(c) + " |" for c in lines) + "\n"
