"""Questions that tying leaves: listed with their readings, shown as pictures, answered. An answer holds in every later run."""

from __future__ import annotations

import pickle
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.align import questions as core
from ...core.align.guess import PROPOSALS, Hypothesis
from ...core.draw.overlay import overlay
from ...core.errors import BadInput, NotFound
from ...formats.picture import painted
from ...site.common import Array, get_project, heavy, matrix, numbers, owned, stations_of
from ...store import journal
from ...store.db import actor, session, snapshot
from ...store.models import Job, Proposal, Question, Station, now
from ...store.queue import LIVE, enqueue
from ...store.tiles import read_tiles, tiles_of

SHOWN = 250_000  # points of a scan that a picture is made from
AROUND = 6  # placed stations round it that are drawn palely
WORDS = {
    "one": "one room",
    "two": "two rooms that are alike",
    **{word: f"the {word} place" for word in core.PLACES},
    "none": "none of these places",
}


class Proposals:
    """What pairs propose, by their points alone: kept for every later run of any job. Those of scans that were turned upright first are
    others than those of scans as they were measured: the last of either kind are kept."""

    def __init__(self, straightened: bool = False) -> None:
        self.schema = -PROPOSALS if straightened else PROPOSALS

    def load(self, key: str) -> list[Hypothesis] | None:
        a, b = key.split("|")
        with session() as s:
            row = s.get(Proposal, (a, b))
            return pickle.loads(row.data) if row is not None and row.schema == self.schema else None

    def keep(self, key: str, found: list[Hypothesis]) -> None:
        a, b = key.split("|")
        with session() as s:
            s.merge(Proposal(a=a, b=b, schema=self.schema, data=pickle.dumps(found, pickle.HIGHEST_PROTOCOL)))


def rows_of(s: Session, project_id: str, names: dict[str, str]) -> list[Question]:
    """All questions about stations that are here: open ones first, in the order in which they are asked."""
    q = select(Question).where(Question.project_id == project_id).order_by(Question.answer != "", Question.place, Question.id)
    return [x for x in s.scalars(q) if {x.station, x.other} <= names.keys()]


def core_question(row: Question) -> core.Question:
    readings = [
        core.Reading(r["word"], r["partner"], matrix(r["T"]) if r["T"] else None, r["agree_m2"], r["contradicted_m2"]) for r in row.readings
    ]
    places = np.array(row.places).reshape(-1, 3)
    return core.Question(row.kind, row.station, row.other, tuple(readings), places, row.message)


def answers(s: Session, project_id: str) -> tuple[list[str], list[core.Answer]]:
    """(what the answers are known by, what they say of placements)."""
    names = {x.id: x.name for x in stations_of(s, project_id)}
    rows = sorted((x for x in rows_of(s, project_id, names) if x.answer), key=lambda x: x.id)
    return [f"{x.id} {x.answer}" for x in rows], [a for x in rows for a in core.answers_of(core_question(x), x.answer)]


def ask(c: journal.Change, project_id: str, asked: list[core.Question]) -> None:
    """Put the open questions of a run in the place of those before. A pair that was answered is not asked the same again."""
    rows = list(c.s.scalars(select(Question).where(Question.project_id == project_id)))
    answered = {(x.kind, frozenset((x.station, x.other))) for x in rows if x.answer and x.kind == "alike"}
    known = {(x.kind, x.station, x.other): x for x in rows if not x.answer}
    for place, q in enumerate(asked):
        if (q.kind, frozenset((q.station, q.other))) in answered:
            continue
        row = known.pop((q.kind, q.station, q.other), None) or Question(project_id=project_id)
        row.kind, row.station, row.other, row.place, row.message = q.kind, q.station, q.other, place, q.message
        row.places = np.round(q.places[:20], 3).tolist()
        row.readings = [
            {
                "word": r.word,
                "partner": r.partner,
                "T": None if r.T_partner_station is None else numbers(r.T_partner_station),
                "agree_m2": r.agree_m2,
                "contradicted_m2": r.contradicted_m2,
            }
            for r in q.readings
        ]
        c.s.add(row)
    for row in known.values():
        c.remove(row)


def describe(s: Session, project_id: str) -> list[dict[str, Any]]:
    get_project(s, project_id)
    names = {x.id: x.name for x in stations_of(s, project_id)}
    return [_described(x, names) for x in rows_of(s, project_id, names)]


def _described(x: Question, names: dict[str, str]) -> dict[str, Any]:
    message = x.message
    for key, name in names.items():
        message = message.replace(key, name)
    return {
        "id": x.id,
        "version": x.version,
        "kind": x.kind,
        "station": x.station,
        "station_name": names[x.station],
        "other": x.other,
        "other_name": names[x.other],
        "message": message,
        "places": x.places,
        "readings": [
            {
                "word": r["word"],
                "says": WORDS[r["word"]],
                "partner": r["partner"] or None,
                "partner_name": names.get(r["partner"]),
                "T_partner_station": r["T"],
                "agree_m2": r["agree_m2"],
                "contradicted_m2": r["contradicted_m2"],
            }
            for r in x.readings
        ],
        "words": core.words_of(core_question(x)),
        "answer": x.answer or None,
        "answered_by": x.answered_by or None,
        "answered_at": x.answered_at,
    }


def answer(project_id: str, question_id: str, word: str | None, version: int | None) -> str:
    """Answer a question, or open it again (None). The stations are tied anew with it, by a run that is not done yet or a new one:
    returns the id of its job."""
    with session() as s:
        record(project_id, question_id, word, version, s)
        live = s.scalar(select(Job.id).where(Job.project_id == project_id, Job.kind == "tie", Job.state.in_(LIVE)).limit(1))
        return live or enqueue(s, project_id, "tie", "Tying again with what was answered").id


def record(project_id: str, question_id: str, word: str | None, version: int | None, s: Session | None = None) -> None:
    """Keep an answer, in the transaction of ``s`` if it is given."""
    with journal.change(project_id, "", topic="network", s=s) as c:
        row = owned(c.s, Question, project_id, question_id, "question")
        names = {x.id: x.name for x in stations_of(c.s, project_id)}
        if row.station not in names or row.other not in names:
            raise NotFound("a station of this question was taken out", subject="question", remedy="bring it back with undo")
        pair = f"{names[row.station]} and {names[row.other]}"
        journal.checked_version(row, version, f"the question about {pair}")
        if word is None:
            row.answer, row.answered_by, row.answered_at = "", "", None
            c.title = f"Opened the question about {pair} again"
        else:
            try:
                core.answers_of(core_question(row), word)
            except ValueError as problem:
                raise BadInput(str(problem), subject=pair, remedy="choose one of the readings") from None
            row.answer, row.answered_by, row.answered_at = word, actor.get(), now()
            c.title = f"Answered for {pair}: {WORDS[word]}"


def picture(project_id: str, question_id: str, word: str) -> bytes:
    """A PNG of one reading in plan: both scans where it puts them, or side by side where they share nothing."""
    with heavy(), snapshot() as s:
        row = owned(s, Question, project_id, question_id, "question")
        stations = {x.id: x for x in stations_of(s, project_id)}
        reading = next((r for r in row.readings if r["word"] == word), None)
        if reading is None or row.station not in stations or (reading["partner"] or row.other) not in stations:
            raise NotFound("there is no such reading", subject="question", remedy="look at the question again")
        partner = stations[reading["partner"] or row.other]
        apart = reading["T"] is None
        T_part_partner = matrix(partner.pose)
        T_part_own = T_part_partner @ matrix(row.readings[0]["T"] if apart else reading["T"])
        own, theirs = frames.apply(T_part_own, _points(s, stations[row.station], SHOWN)), _placed(s, partner, SHOWN)
        near = [x for x in stations.values() if x.part_id == partner.part_id and x.id not in (partner.id, row.station)]
        near.sort(key=lambda x: float(np.linalg.norm(matrix(x.pose)[:3, 3] - T_part_own[:3, 3])))
        around = [] if apart else [_placed(s, x, SHOWN // 4) for x in near[:AROUND]]
    stands = np.stack([T_part_partner[:2, 3], T_part_own[:2, 3]])
    places = frames.apply(T_part_partner, np.array(row.places).reshape(-1, 3))
    return painted(overlay(theirs, own, np.concatenate([*around, np.zeros((0, 3))]), stands, places, apart))


def _placed(s: Session, station: Station, most: int) -> Array:
    """(n, 3) m, in its part."""
    return frames.apply(matrix(station.pose), _points(s, station, most))


def _points(s: Session, station: Station, most: int) -> Array:
    """(n, 3) m, station frame: about as many of its points, even in space."""
    tiles = tiles_of(s, [station.id])  # coarse first
    some = int(np.searchsorted(np.cumsum([t.count for t in tiles]), most)) + 1
    found: list[NDArray[np.float32]] = [t.xyz for t in read_tiles([t.id for t in tiles[:some]], kinds=())]
    return np.concatenate(found).astype(float) if found else np.zeros((0, 3))
