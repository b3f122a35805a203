"""Tie the scans: all by themselves, or one pair from a rough placement by hand; switch links off and on.

What people decided outlives every run: a link made by hand stays, and so does "used" where somebody switched it.
"""

from __future__ import annotations

import pickle
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import combinations
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select

from ...core import frames
from ...core.align import believe
from ...core.align.believe import Tie, TiedPair
from ...core.align.evidence import evidence
from ...core.align.fine import GATES, fine
from ...core.align.level import answers_upright, leaned, straightened, upright_of
from ...core.align.mirror import fits_mirrored
from ...core.align.prepared import Prepared, only_here, prepare
from ...core.align.questions import Answer
from ...core.align.search import Search
from ...core.clean.select import Box
from ...core.errors import BadInput, Finding, NotEnough
from ...core.network.observations import LinkObservation
from ...core.network.reliability import snoop
from ...core.scan.scan import Scan
from ...site.common import Progress, finite, get_project, get_station, matrix, numbers, owned, stations_of
from ...site.groups import bodies_of
from ...site.solution import refresh_solution
from ...site.visible import to_box
from ...store import journal, scratch
from ...store.db import session
from ...store.models import CropBox, Job, Link, Station
from ...store.queue import LIVE, enqueue
from ...store.tiles import read_station
from . import questions, searching

WIDE = (3.5, 2.5, 1.8, 1.2, 0.8, 0.5)  # metres: how the search narrows from wherever it begins
MIRRORED, PARTNERS = 3, 6  # stations that fit nowhere, and others, whose mirror images are looked at
REACH = 1.2  # metres that a placement by hand may be off by, unless somebody says otherwise


class PreparedScans(Mapping[str, Prepared]):
    """Prepared scans by station. What does not fit into the memory of the work waits in files."""

    def __init__(self, stations: list[Station], folder: Path, memory: int, progress: Progress, level: bool = True) -> None:
        self.upright: dict[
            str, NDArray[np.float64]
        ] = {}  # of scanners that may lean: how their scans were turned before they were prepared
        self._level = level
        self._stations = {x.id: x for x in stations}
        self._folder, self._most, self._lock = folder, memory, threading.RLock()
        self._here: OrderedDict[str, tuple[Prepared, int]] = OrderedDict()
        with ThreadPoolExecutor(2) as pool:
            for k, _ in enumerate(pool.map(lambda x: self._make(x, progress), stations)):
                progress.report("preparing scans", k + 1, len(stations))

    def scan(self, key: str) -> Scan:
        """The scan itself, upright where scanners may lean."""
        with session() as s:
            scan = read_station(s, self._stations[key])
        if not self._level:
            if key not in self.upright:
                self.upright[key] = upright_of(scan)
            scan = straightened(scan, self.upright[key])
        return scan

    def _make(self, station: Station, progress: Progress) -> None:
        progress.check()
        self._put(station.id, prepare(self.scan(station.id)))

    def _put(self, key: str, made: Prepared) -> None:
        body = pickle.dumps(made, pickle.HIGHEST_PROTOCOL)
        with self._lock:
            held = sum(n for _, n in self._here.values()) + len(body)
            if held > self._most:  # from now on this one is found again in its file
                (self._folder / key).write_bytes(body)
            self._here[key] = made, len(body)
            while held > self._most and len(self._here) > 4:
                other, (gone, size) = next(iter(self._here.items()))
                if not (self._folder / other).exists():
                    (self._folder / other).write_bytes(pickle.dumps(gone, pickle.HIGHEST_PROTOCOL))
                del self._here[other]
                held -= size

    def __getitem__(self, key: str) -> Prepared:
        with self._lock:
            if key in self._here:
                self._here.move_to_end(key)
                return self._here[key][0]
            made: Prepared = pickle.loads((self._folder / key).read_bytes())
            self._put(key, made)
            return made

    def __iter__(self) -> Iterator[str]:
        return iter(self._stations)

    def __len__(self) -> int:
        return len(self._stations)


def start_tie(project_id: str) -> str:
    with session() as s:
        journal.locked_project(s, project_id)  # two who ask at once start it once
        if len(stations_of(s, project_id)) < 2:
            raise NotEnough("tying needs at least two stations", subject="stations", remedy="bring in another scan")
        running = s.scalar(
            select(Job.id).where(Job.project_id == project_id, Job.kind.in_(("tie", "import", "merge")), Job.state.in_(LIVE)).limit(1)
        )
        if running is not None:
            raise BadInput(
                "scans are still coming in or being tied", subject="jobs", remedy="wait until that is done, or cancel it", code="busy"
            )
        return enqueue(s, project_id, "tie", "Tying all stations").id


def tie_all(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Prepare, propose, believe, align, leave blunders out, adjust: one change that can be undone."""
    with session() as s:
        stations = stations_of(s, project_id)
        search = searching.search_of(s, get_project(s, project_id))
    names = {x.id: x.name for x in stations}

    def said(text: str) -> str:
        for key, name in names.items():
            text = text.replace(key, name)
        return text

    with scratch.folder() as folder:
        prepared = PreparedScans(stations, folder, progress.memory // 2, progress, search.level)
        while True:
            with session() as s:
                known, answers = questions.answers(s, project_id)
            result = _believed(prepared, answers, search, said, progress)
            _look_for_mirrored(result, prepared, progress)
            done = _commit(project_id, names, result, known, said, progress)
            if done is not None:
                return done


def _believed(prepared: PreparedScans, answers: list[Answer], search: Search, said: Callable[[str], str], progress: Progress) -> Tie:
    """Tie what is prepared. What leaning scans propose is of their straightened points."""
    kept = questions.Proposals(straightened=not search.level)
    upright = prepared.upright
    result = believe.tie(
        prepared,
        lambda text, done, total: progress.report(said(text), done, total),
        progress.should_stop,
        kept.load,
        kept.keep,
        answers if search.level else answers_upright(answers, upright),
        search if search.level else search.straightened(upright),
    )
    progress.check()
    return result if search.level else leaned(result, upright)


def _look_for_mirrored(result: Tie, prepared: PreparedScans, progress: Progress) -> None:
    """Say of stations that fit nowhere whether their mirror images would: of the first few, against their neighbours in the roster."""
    tied = max(result.parts, key=len, default={})
    asked = {q.station for q in result.questions} | {q.other for q in result.questions}
    names = list(prepared)
    alone = [n for p in result.parts if len(p) == 1 for n in p if n not in tied and n not in asked]
    for k, name in enumerate(alone[:MIRRORED]):
        progress.report("looking at mirror images of those left over", k, min(len(alone), MIRRORED))
        near = sorted(tied, key=lambda n: abs(names.index(n) - names.index(name)))[:PARTNERS]
        progress.check()
        other = fits_mirrored(prepared.scan(name), prepared[name], [(n, prepared[n]) for n in near], progress.should_stop)
        if other is not None:
            message = (
                f"{name} fits {other} as its mirror image, and not as it is: its axes are left-handed, or one is turned round; "
                "write it anew with right-handed axes"
            )
            result.findings = [f for f in result.findings if f.subject != name] + [Finding("mirrored", name, message, "fault")]
    progress.check()


def _commit(
    project_id: str, names: dict[str, str], result: Tie, known: list[str], said: Callable[[str], str], progress: Progress
) -> dict[str, Any] | None:
    """Write what a run found. None when a question was answered meanwhile: the scans are tied again with that."""
    seen = [LinkObservation(f"{p.a}|{p.b}", p.a, p.b, p.result.T_a_b, p.result.covariance) for p in result.pairs]
    _, left_out = snoop(list(names), seen)
    with journal.change(project_id, "", network=True, topic="network") as c:
        if questions.answers(c.s, project_id)[0] != known:
            c.network = False
            return None
        here = {x.id for x in stations_of(c.s, project_id)}
        pairs = [p for p in result.pairs if p.a in here and p.b in here]
        kept_by_hand = _put_links(c, project_id, pairs, left_out)
        questions.ask(c, project_id, [q for q in result.questions if {q.station, q.other} <= here])
        c.title = f"Tied {len(names)} stations with {len(pairs)} links"
        c.title += f"; {kept_by_hand} decided by hand stayed as they were" if kept_by_hand else ""
        c.s.flush()
        refresh_solution(c.s, c.project)
        return progress.conclude(
            c.s,
            {
                "links": len(pairs),
                "left_out": len(left_out),
                "kept_by_hand": kept_by_hand,
                "questions": len(result.questions),
                "undecided": [f.as_dict() | {"subject": said(f.subject), "message": said(f.message)} for f in result.findings],
            },
        )


def _put_links(c: journal.Change, project_id: str, pairs: list[TiedPair], left_out: list[str]) -> int:
    """The links of a run beside those that people made or switched. Returns how many of theirs it left as they were."""
    rows = {frozenset((k.a, k.b)): k for k in c.s.scalars(select(Link).where(Link.project_id == project_id, Link.kind == "cloud"))}
    found = {frozenset(pair) for body in bodies_of(c.s, project_id) for pair in combinations(body.members, 2)}  # not looked for
    kept = 0
    for p in pairs:
        key, used = frozenset((p.a, p.b)), f"{p.a}|{p.b}" not in left_out
        found.add(key)
        row = rows.get(key)
        if row is not None and "made" in row.by_hand:
            continue
        if row is None:
            row = Link(project_id=project_id, by_hand=[])
            c.s.add(row)
        row.a, row.b = p.a, p.b
        row.T_a_b, row.covariance, row.evidence = numbers(p.result.T_a_b), numbers(p.result.covariance), p.evidence.as_dict()
        if "used" not in row.by_hand:
            row.used = used
    for key, row in rows.items():
        if row.by_hand:
            kept += 1
        elif key not in found:
            c.remove(row)
    return kept


def start_pair(
    project_id: str,
    a: str,
    b: str,
    T_a_b: list[float],
    box_id: str | None = None,
    drawn: tuple[Sequence[float], Sequence[float], float] | None = None,
    reach: float | None = None,
) -> str:
    """Refine a placement of b over a that somebody made by hand, within ``reach`` metres; box_id: by what lies in this crop box alone;
    drawn: or in the box with this centre, half sizes and yaw, in the part of a."""
    t = np.array(finite(T_a_b, 16, "the placement")).reshape(4, 4)
    if not frames.is_rigid(t):
        raise BadInput("the placement is not a rotation and a shift", subject="T_a_b", remedy="place the scan again")
    with session() as s:
        one, other = get_station(s, project_id, a), get_station(s, project_id, b)
        if a == b:
            raise BadInput("a station cannot be linked with itself", subject=one.name, remedy="choose two stations")
        box = None
        if drawn is not None:
            (x, y, z), (dx, dy, dz), yaw = drawn
            box = Box((x, y, z), (dx, dy, dz), yaw)
        if box_id is not None:
            row = owned(s, CropBox, project_id, box_id, "crop box")
            if row.part_id != one.part_id:
                raise BadInput(f"{row.name} stands in other coordinates than {one.name}", subject=row.name, remedy="draw a box in its part")
            box = to_box(row)
        region: dict[str, Any] = {}
        if box is not None:
            region = {"T_a_box": numbers(frames.inverse(matrix(one.pose)) @ box.T_part_box), "half": list(box.half)}
        title = f"Linking {one.name} and {other.name}"
        return enqueue(s, project_id, "pair", title, a=a, b=b, T_a_b=numbers(t), region=region, reach=reach or REACH).id


def pair(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    with session() as s:
        a, b = get_station(s, project_id, params["a"]), get_station(s, project_id, params["b"])
    with scratch.folder() as folder:
        prepared = dict(PreparedScans([a, b], folder, progress.memory, progress))
    region, reach = params.get("region") or {}, float(params.get("reach", REACH))
    if region:
        T_box_a, half = frames.inverse(matrix(region["T_a_box"])), np.array(region["half"])
        prepared = {
            a.id: only_here(prepared[a.id], T_box_a, half),
            b.id: only_here(prepared[b.id], T_box_a @ matrix(params["T_a_b"]), half + reach),
        }
    progress.report("aligning", 0, 1)
    gates = ((reach, 8), *((g, 8) for g in WIDE if g < reach), *GATES[1:])
    result = fine(prepared[a.id], prepared[b.id], matrix(params["T_a_b"]), gates)
    if result is None:
        raise NotEnough(
            f"{a.name} and {b.name} find no common surfaces within {reach:g} m of where they were put" + (" in the box" if region else ""),
            subject=f"{a.name} · {b.name}",
            remedy="put one over the other more closely, walls on walls, or look farther round it",
            code="nothing_shared",
        )
    if region:  # of both scans just what lies in the box, now that it is known where b stands
        prepared[b.id] = only_here(prepared[b.id], T_box_a @ result.T_a_b, half)
    found = evidence(prepared[a.id], prepared[b.id], result)
    progress.check()
    with journal.change(
        project_id, f"Linked {a.name} and {b.name} by hand{' in a box' if region else ''}", network=True, topic="network"
    ) as c:
        if not {a.id, b.id} <= {x.id for x in stations_of(c.s, project_id)}:
            raise NotEnough("one of the two stations was taken out meanwhile", subject=f"{a.name} · {b.name}", remedy="undo that first")
        for old in c.s.scalars(select(Link).where(Link.project_id == project_id, Link.a.in_((a.id, b.id)), Link.b.in_((a.id, b.id)))):
            c.remove(old)
        c.s.flush()
        c.s.add(
            Link(
                project_id=project_id,
                a=a.id,
                b=b.id,
                T_a_b=numbers(result.T_a_b),
                covariance=numbers(result.covariance),
                evidence=found.as_dict(),
                region=region,
                by_hand=["made"],
            )
        )
        c.s.flush()
        refresh_solution(c.s, c.project)
        return progress.conclude(c.s, {"fit_rms_mm": 1000 * found.fit_rms, "overlap": found.overlap})


def switch_link(project_id: str, link_id: str, used: bool, version: int | None) -> None:
    """Switch a link off or on; the network is adjusted in the same breath."""
    with journal.change(project_id, "", network=True, topic="network") as c:
        link = owned(c.s, Link, project_id, link_id, "link")
        a, b = get_station(c.s, project_id, link.a).name, get_station(c.s, project_id, link.b).name
        journal.checked_version(link, version, f"the link {a} · {b}")
        c.title = f"Switched the link {a} · {b} {'on' if used else 'off'}"
        link.used = used
        link.decided("used")
        c.s.flush()
        refresh_solution(c.s, c.project)
