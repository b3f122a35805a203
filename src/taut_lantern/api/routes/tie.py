"""Links, the network, targets."""

from __future__ import annotations

from typing import Literal

from fastapi import Response

from ...steps.tie import bodies, links, network, picks, questions, searching, targets
from ...store import db
from .. import schemas as x
from .base import P, V, router

api = router()


@api.post("/projects/{project_id}/tie", operation_id="tie", status_code=202)
def tie(project_id: P) -> x.Started:
    return x.Started(jobs=[links.start_tie(project_id)])


@api.get("/projects/{project_id}/search", operation_id="get_search")
def get_search(project_id: P) -> x.SearchOut:
    """How stations are looked for in each other."""
    with db.session() as s:
        return x.SearchOut(**searching.describe(s, project_id))


@api.patch("/projects/{project_id}/search", operation_id="set_search")
def set_search(project_id: P, body: x.SearchIn) -> x.SearchOut:
    """Holds from the next time that stations are tied."""
    searching.change(project_id, body.version, in_order=body.in_order, level=body.level, reach=body.reach, sketch=body.sketch)
    return get_search(project_id)


@api.post("/projects/{project_id}/links", operation_id="link_by_hand", status_code=202)
def link_by_hand(project_id: P, body: x.PairIn) -> x.Started:
    return x.Started(jobs=[links.start_pair(project_id, body.a, body.b, body.T_a_b)])


@api.post("/projects/{project_id}/matches", operation_id="look_at_matches")
def look_at_matches(project_id: P, body: x.MatchesIn) -> x.MatchesOut:
    """Where two scans stand by what somebody picked in both. Nothing is kept: link them with the placement that comes back."""
    return x.MatchesOut(**picks.look_at(project_id, body.a, body.b, [(m.a, m.b) for m in body.matches]))


@api.get("/projects/{project_id}/links/{link_id}", operation_id="get_link")
def get_link(project_id: P, link_id: P) -> x.WholeLinkOut:
    with db.session() as s:
        return x.WholeLinkOut(**network.one_link(s, project_id, link_id))


@api.patch("/projects/{project_id}/links/{link_id}", operation_id="switch_link")
def switch_link(project_id: P, link_id: P, body: x.Used) -> x.NetworkOut:
    links.switch_link(project_id, link_id, body.used, body.version)
    return get_network(project_id)


@api.get("/projects/{project_id}/network", operation_id="get_network")
def get_network(project_id: P) -> x.NetworkOut:
    with db.session() as s:
        return x.NetworkOut(**network.describe(s, project_id))


@api.get("/projects/{project_id}/questions", operation_id="list_questions")
def list_questions(project_id: P) -> list[x.QuestionOut]:
    """What tying left open, then what was answered."""
    with db.session() as s:
        return [x.QuestionOut(**q) for q in questions.describe(s, project_id)]


@api.post("/projects/{project_id}/questions/{question_id}/answer", operation_id="answer_question", status_code=202)
def answer_question(project_id: P, question_id: P, body: x.AnswerIn) -> x.Started:
    """Answer; the stations are tied again with it."""
    return x.Started(jobs=[questions.answer(project_id, question_id, body.word, body.version)])


@api.get(
    "/projects/{project_id}/questions/{question_id}/picture/{word}",
    operation_id="picture_question",
    response_class=Response,
    responses={200: {"content": {"image/png": {}}}},
)
def picture_question(project_id: P, question_id: P, word: Literal["one", "two", "first", "second", "third", "fourth"]) -> Response:
    """One reading in plan: both scans where it puts them."""
    body = questions.picture(project_id, question_id, word)
    return Response(body, media_type="image/png", headers={"Cache-Control": "private, no-cache"})


@api.post("/projects/{project_id}/targets/find", operation_id="find_targets", status_code=202)
def find_targets(project_id: P, body: x.SpheresIn) -> x.Started:
    return x.Started(jobs=[targets.start_find(project_id, [r / 1000 for r in body.radii_mm])])


@api.post("/projects/{project_id}/targets/regroup", operation_id="regroup_targets")
def regroup_targets(project_id: P) -> x.Said:
    targets.regroup(project_id)
    return x.Said(message="matched by place")


@api.get("/projects/{project_id}/sightings", operation_id="list_sightings")
def list_sightings(project_id: P) -> list[x.SightingOut]:
    with db.session() as s:
        return [x.SightingOut(**g) for g in targets.list_sightings(s, project_id)]


@api.get("/projects/{project_id}/targets", operation_id="list_targets")
def list_targets(project_id: P) -> list[x.TargetOut]:
    """Targets as each part sees them."""
    with db.session() as s:
        return [x.TargetOut(**t) for t in targets.list_targets(s, project_id)]


@api.patch("/projects/{project_id}/targets/{target_id}", operation_id="rename_target")
def rename_target(project_id: P, target_id: P, body: x.Rename) -> x.Said:
    targets.rename_target(project_id, target_id, body.version, body.name)
    return x.Said(message="changed")


@api.patch("/projects/{project_id}/sightings/{sighting_id}", operation_id="change_sighting")
def change_sighting(project_id: P, sighting_id: P, body: x.SightingPatch) -> x.Said:
    targets.change_sighting(project_id, sighting_id, body.version, body.used, body.target)
    return x.Said(message="changed")


@api.get("/projects/{project_id}/bodies", operation_id="list_bodies")
def list_bodies(project_id: P) -> list[x.BodyOut]:
    """Held groups: stations that keep their shape and move as one."""
    with db.session() as s:
        return [x.BodyOut(**b) for b in bodies.list_bodies(s, project_id)]


@api.post("/projects/{project_id}/bodies", operation_id="hold_stations", status_code=201)
def hold_stations(project_id: P, body: x.BodyIn) -> x.Made:
    return x.Made(id=bodies.hold(project_id, body.stations, body.name))


@api.delete("/projects/{project_id}/bodies/{body_id}", operation_id="release_stations")
def release_stations(project_id: P, body_id: P, version: V) -> x.Said:
    bodies.release(project_id, body_id, version)
    return x.Said(message="released")
