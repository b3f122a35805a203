"""A whole job without a screen, through the same use cases, and its stable result.json (docs/result.md)."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.progress import BarColumn, TextColumn, TimeElapsedColumn
from rich.progress import Progress as Bars
from sqlalchemy import select

from ..core.align.search import read_spots
from ..core.clean.even import Even
from ..core.errors import BadInput, LanternError
from ..core.network.judge import PROFILES
from ..core.targets.kinds import Wanted, read_wanted
from ..formats import e57
from ..site.common import Progress, get_project, stations_of
from ..site.parts import stations_in, wanted
from ..store.db import file_chunks, session
from ..store.models import Original
from ..store.queue import app as queue
from .bring_in import stations, uploads
from .clean import edits, filters
from .drawing import Drawings, draw
from .hand_over import deliver as hand_over
from .outcome import describe, verdict
from .place import control as place
from .projects import change_project, delete_project, make_project
from .tie import groups, links, questions, searching
from .tie import targets as targets_step

ROUNDS = 12  # times that answers are given and the stations tied again with them: each answer may raise the next question


@dataclass(frozen=True)
class Known:
    """What somebody knows of a job before it runs. hold: names of scan files whose scans keep the poses that they have there."""

    answers: Sequence[str] = ()
    unlevel: bool = False
    order: bool = False
    hold: Sequence[str] = ()
    profile: str = ""
    sketch: Path | None = None
    clean: Sequence[str] = ()
    even: float | None = None
    drawings: Drawings | None = None

    def check(self, files: list[Path]) -> None:
        """BadInput for what can be seen to be wrong before anything is brought in."""
        if unknown := [w for w in self.clean if w not in CLEANS]:
            raise BadInput(f"unknown filter {', '.join(unknown)}", subject="clean", remedy=f"use {', '.join(CLEANS)}")
        if self.even is not None:
            Even(self.even)  # a spacing that cannot be is refused before anything is brought in
        names = {f.name for f in files} | {f.stem for f in files}
        missing = [h for h in self.hold if h not in names]
        if missing:
            raise BadInput(
                f"no scan file is called {', '.join(missing)}", subject="hold", remedy="name one of the files that are brought in"
            )
        if self.profile and self.profile not in PROFILES:
            raise BadInput(f"there is no tolerance profile {self.profile!r}", subject="profile", remedy=f"use one of {', '.join(PROFILES)}")
        if self.sketch is not None:
            if not self.sketch.is_file():
                raise BadInput(f"no such sketch: {self.sketch}", subject="sketch", remedy="name a text file with lines of name, x, y")
            read_spots(self.sketch.read_text(errors="replace"))

    def tell(self, project: str, files: list[Path]) -> None:
        """Set it in a project whose scans are in."""
        if self.profile:
            change_project(project, None, None, None, self.profile, None)
        text = self.sketch.read_text(errors="replace") if self.sketch else None
        if self.unlevel or self.order or text is not None:
            searching.change(project, in_order=self.order, level=not self.unlevel, sketch=text)
        for path in (f for f in files if {f.name, f.stem} & set(self.hold)):
            scans, name = e57.headers(path), path.stem
            with session() as s:
                original = s.scalars(select(Original.id).where(Original.project_id == project, Original.name == path.name)).first()
                own = [x for x in stations_of(s, project) if x.original_id == original]
                poses = {x.id: p for x in own if (p := scans[x.scan_index].pose) is not None}
            if len(poses) < 2 or len(poses) < len(own):
                raise BadInput(
                    f"{name} has poses for {len(poses)} of its {len(own)} scans, so they cannot be held as it has them",
                    subject="hold",
                    remedy="leave --hold away, or name a file with a pose for each of at least two scans",
                )
            groups.hold_as_measured(project, poses, name)


def _scan_files(scans: list[Path]) -> list[Path]:
    files = [f for p in scans for f in (sorted(p.glob("*.e57")) if p.is_dir() else [p])]
    missing = [str(f) for f in files if not f.is_file()]
    if missing or not files:
        raise BadInput(
            f"no such scan: {', '.join(missing)}" if missing else "no E57 files are there",
            subject="scans",
            remedy="name E57 files or folders of them",
        )
    return files


def run_job(
    scans: list[Path],
    folder: Path,
    control: Path | None,
    columns: str,
    unit: str,
    target_words: str,
    keep: bool,
    console: Console,
    beside: Known | None = None,
) -> int:
    """Returns the exit code: 0 all well, 3 with reasons in result.json and on the console."""
    files = _scan_files(scans)
    beside = beside or Known()
    beside.check(files)
    what, known = read_wanted(target_words) if target_words else None, _known(beside.answers)
    control_text = control.read_text(errors="replace") if control else None
    folder.mkdir(parents=True, exist_ok=True)
    timings: dict[str, float] = {}
    findings: list[dict[str, str]] = []
    with (
        queue.open(),
        Bars(
            TextColumn("{task.description:<44.44}"),
            BarColumn(),
            TextColumn("{task.percentage:>3.0f} %"),
            TimeElapsedColumn(),
            console=console,
        ) as bars,
    ):
        project = make_project(folder.resolve().name or "unattended")

        def stage(name: str, work: Callable[[Progress], Any]) -> Any:
            task, start = bars.add_task(name, total=1), time.monotonic()
            out = work(
                Progress(lambda text, done, total: bars.update(task, description=f"{name}: {text}", completed=done, total=max(total, 1)))
            )
            timings[name] = round(time.monotonic() - start, 3)
            bars.update(task, description=name, completed=1, total=1)
            return out

        stage("bring in", lambda p: _bring_in(project, files, p, findings))
        with session() as s:
            count = len(stations_of(s, project))
        beside.tell(project, files)
        if count > 1:
            result = stage("tie", lambda p: links.tie_all(project, {}, p))
            for _ in range(ROUNDS):
                if not _answer(project, known):
                    break
                result = stage("tie again", lambda p: links.tie_all(project, {}, p))
            findings += result["undecided"]
        if what or control_text:
            looked_for = asdict(what or Wanted((0.1,)))
            stage("targets", lambda p: targets_step.find_targets(project, looked_for, p))
        if control_text is not None and control is not None:

            def work(p: Progress) -> None:
                try:
                    place.take_in(project, control_text, control.name, columns.split(",") if columns else None, unit)
                    place.apply(project)
                except LanternError as problem:
                    findings.append({"code": problem.code, "subject": "control", "message": str(problem), "severity": "fault"})

            stage("place", work)
        if beside.clean:
            stage("clean", lambda p: findings.extend(_cleaned(project, beside.clean, p)))
        drawings: list[dict[str, Any]] = []
        if wished := beside.drawings:
            drawings = stage("draw", lambda p: draw(project, folder, wished, p, findings))
        stage("hand over", lambda p: _hand_over(project, folder, count, beside.even, p))
    result = describe(project, timings, findings) | {"drawings": drawings}
    (folder / "result.json").write_text(json.dumps(result, indent=1) + "\n")
    reasons = verdict(result)
    if not keep:
        delete_project(project)
    for reason in reasons:
        console.print(f"[bold]{reason}[/bold]")
    console.print(f"{len(result['stations'])} stations, {len(result['links'])} links → {folder}")
    return 3 if reasons else 0


def _known(words: Sequence[str]) -> dict[frozenset[str], str]:
    """What is known of pairs of stations, by their names: one, two, first to fourth, or none."""
    known = {}
    for text in words:
        pair, _, word = text.partition("=")
        names = frozenset(n.strip() for n in pair.split(","))
        if len(names) != 2 or "" in names or word not in questions.WORDS:
            raise BadInput(
                f"cannot read the answer {text!r}",
                subject="answer",
                remedy="write for example ST-08,ST-10=two (two rooms that are alike) or ST-08,ST-10=one",
            )
        known[names] = word
    return known


def _answer(project: str, known: dict[frozenset[str], str]) -> bool:
    """Answer the open questions that something is known of, each answer once: asked again of the same two, the readings are others.
    Returns whether there was one."""
    with session() as s:
        asked = [q for q in questions.describe(s, project) if q["answer"] is None]
    answered = False
    for q in asked:
        pair = frozenset((q["station_name"], q["other_name"]))
        if known.get(pair) in q["words"]:
            questions.record(project, q["id"], known.pop(pair), q["version"])
            answered = True
    return answered


def _bring_in(project: str, files: list[Path], progress: Progress, findings: list[dict[str, str]]) -> None:
    """Upload, read and import each file; a broken one is named and stops nobody else."""
    for k, path in enumerate(files):
        progress.report(path.name, k, len(files))
        try:
            original = uploads.put_file(project, path)
            reading = uploads.read_original(project, original, progress)
            if reading["problem"]:
                findings.append(
                    {
                        "code": reading["problem"]["code"],
                        "subject": path.name,
                        "message": reading["problem"]["message"],
                        "severity": "fault",
                    }
                )
                continue
            for index, scan in enumerate(reading["scans"]):
                stations.import_scan(
                    project,
                    {"original_id": original, "scan": index, "name": scan["name"], "min_range": 0.4, "max_range": 200.0, "unit": "m"},
                    progress,
                )
        except LanternError as problem:
            findings.append({"code": problem.code, "subject": path.name, "message": problem.message, "severity": "fault"})
    with session() as s:
        if not stations_of(s, project):
            raise BadInput(
                "none of the files could be brought in: " + "; ".join(f["message"] for f in findings),
                subject="scans",
                remedy="check the files",
            )


CLEANS = {"movers": ("mover",), "noise": ("edge", "lone", "dust"), "ghosts": ("ghost",)}
AFLOAT = 10.0  # metres from the scanner that rain and dust are looked for in


def _cleaned(project: str, words: Sequence[str], progress: Progress) -> list[dict[str, str]]:
    """Find what does not belong and delete it; what a filter would take too much of is left, and said."""
    said: list[dict[str, str]] = []
    kinds = [kind for w in words for kind in CLEANS[w]]
    try:
        filters.run(project, {"kinds": kinds, "strength": 0.5, "part": _shown(project), "limits": {"dust": AFLOAT}}, progress)
    except LanternError as problem:
        return [*said, {"code": problem.code, "subject": "clean", "message": str(problem), "severity": "doubt"}]
    with session() as s:
        finds = [e for e in edits.list_edits(s, project) if e["proposed"]]
    for e in finds:
        much = e["detail"].get("too_much") or []
        if much:
            names = ", ".join(x["station"] for x in much)
            message = f"{e['title']}: a fifth and more of {names} would go, so nothing was taken out"
            said.append({"code": "too_much", "subject": "clean", "message": message, "severity": "doubt"})
        filters.decide(project, e["id"], e["version"], delete=not much)
    return said


def _shown(project: str) -> str | None:
    with session() as s:
        return wanted(s, get_project(s, project), None)


def _hand_over(project: str, folder: Path, count: int, even: float | None, progress: Progress) -> None:
    for kind in ("e57", "laz", "pdf"):
        with session() as s:
            part = wanted(s, get_project(s, project), None)
            placed = len(stations_in(stations_of(s, project), part)) > 1 or count == 1
        if kind != "pdf" and not placed:
            continue
        what = {"what": kind} | ({"even": even} if even and kind != "pdf" else {})
        made = hand_over.make(project, what, progress)
        part = folder / (made["name"] + ".part")
        with part.open("wb") as out:
            for piece in file_chunks(made["delivery"], made["size"]):
                out.write(piece)
        part.replace(folder / made["name"])
