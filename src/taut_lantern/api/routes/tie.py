"""Links, the network, targets."""

from __future__ import annotations

import asyncio
from typing import Annotated, Literal

from fastapi import Query, Request, Response

from ...core.targets.kinds import Wanted
from ...steps.tie import advice, groups, known, links, natural, network, picks, questions, searching, stops, targets
from ...store import db
from .. import schemas as x
from .base import BYTES, PNG, P, Part, V, picture_in, router

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
    placed = body.picture.model_dump() if body.picture else None
    searching.change(
        project_id,
        body.version,
        in_order=body.in_order,
        level=body.level,
        level_sigma=None if body.level_sigma_mrad is None else body.level_sigma_mrad / 1000,
        reach=body.reach,
        sketch=body.sketch,
        picture=placed,
    )
    return get_search(project_id)


@api.post("/projects/{project_id}/search/picture", operation_id="lay_sketch_picture", status_code=201, openapi_extra=BYTES)
async def lay_sketch_picture(project_id: P, request: Request, page: Annotated[int, Query(ge=1, le=10_000)] = 1) -> x.SearchOut:
    """A PNG or JPEG, or a page of a PDF, below the field sketch; it takes the place of the one before."""
    data = await picture_in(request)
    await asyncio.to_thread(searching.lay_below, project_id, data, page)
    return await asyncio.to_thread(get_search, project_id)


@api.delete("/projects/{project_id}/search/picture", operation_id="take_sketch_picture")
def take_sketch_picture(project_id: P) -> x.SearchOut:
    searching.take_from_below(project_id)
    return get_search(project_id)


@api.post("/projects/{project_id}/links", operation_id="link_by_hand", status_code=202)
def link_by_hand(project_id: P, body: x.PairIn) -> x.Started:
    drawn = (body.region.centre, body.region.half, body.region.yaw) if body.region else None
    return x.Started(jobs=[links.start_pair(project_id, body.a, body.b, body.T_a_b, body.box, drawn, body.reach)])


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


@api.get("/projects/{project_id}/advice", operation_id="get_advice")
def get_advice(project_id: P, part: Part = None) -> x.AdviceOut:
    """What would hold the network better: links to try, places to set up once more. Nothing is changed."""
    return x.AdviceOut(**advice.advise(project_id, part))


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
    responses=PNG,
)
def picture_question(project_id: P, question_id: P, word: Literal["one", "two", "first", "second", "third", "fourth"]) -> Response:
    """One reading in plan: both scans where it puts them."""
    body = questions.picture(project_id, question_id, word)
    return Response(body, media_type="image/png", headers={"Cache-Control": "private, no-cache"})


@api.post("/projects/{project_id}/targets/pick", operation_id="pick_target", status_code=201)
def pick_target(project_id: P, body: x.NaturalIn) -> x.NaturalOut:
    """Make a target of a natural point, in every station that saw it."""
    return x.NaturalOut(**natural.pick(project_id, body.kind, body.at, body.name, body.part))


@api.post("/projects/{project_id}/targets/fit", operation_id="fit_target", status_code=202)
def fit_target(project_id: P, body: x.PickedIn) -> x.Started:
    """Finish the fit of a sphere or board that was picked, in every station that saw it."""
    return x.Started(jobs=[natural.start_fit(project_id, body.kind, body.size_mm / 1000, body.at, body.name, body.part)])


@api.post("/projects/{project_id}/targets/find", operation_id="find_targets", status_code=202)
def find_targets(project_id: P, body: x.TargetsIn) -> x.Started:
    what = Wanted(tuple(r / 1000 for r in body.radii_mm), tuple(e / 1000 for e in body.edges_mm))
    return x.Started(jobs=[targets.start_find(project_id, what)])


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


@api.delete("/projects/{project_id}/sightings/{sighting_id}", operation_id="remove_sighting")
def remove_sighting(project_id: P, sighting_id: P, version: V) -> x.Said:
    """A target that nothing sees any more goes with it, unless control is matched to it."""
    targets.remove_sighting(project_id, sighting_id, version)
    return x.Said(message="taken away")


@api.get("/projects/{project_id}/groups", operation_id="list_groups")
def list_groups(project_id: P) -> list[x.GroupOut]:
    """Groups of stations; held ones keep their shape and move as one."""
    with db.session() as s:
        return [x.GroupOut(**g) for g in groups.list_groups(s, project_id)]


@api.post("/projects/{project_id}/groups", operation_id="make_group", status_code=201)
def make_group(project_id: P, body: x.GroupIn) -> x.Made:
    """The stations leave the groups that they were in: so a group is split."""
    return x.Made(id=groups.make(project_id, body.name, body.stations, body.parent, body.held))


@api.post("/projects/{project_id}/groups/put", operation_id="put_in_group")
def put_in_group(project_id: P, body: x.PutIn) -> list[x.GroupOut]:
    """Put stations into a group, or out of theirs."""
    groups.put(project_id, body.stations, body.group)
    return list_groups(project_id)


@api.patch("/projects/{project_id}/groups/{group_id}", operation_id="change_group")
def change_group(project_id: P, group_id: P, body: x.GroupPatch) -> list[x.GroupOut]:
    groups.change(project_id, group_id, body.version, body.name, body.parent, body.held)
    return list_groups(project_id)


@api.post("/projects/{project_id}/groups/{group_id}/merge", operation_id="merge_groups")
def merge_groups(project_id: P, group_id: P, body: x.MergeIn) -> list[x.GroupOut]:
    """What is in the other group comes into this one."""
    groups.merge(project_id, group_id, body.version, body.other)
    return list_groups(project_id)


@api.delete("/projects/{project_id}/groups/{group_id}", operation_id="dissolve_group")
def dissolve_group(project_id: P, group_id: P, version: V) -> x.Said:
    """Its stations stay."""
    groups.dissolve(project_id, group_id, version)
    return x.Said(message="dissolved")


@api.post("/projects/{project_id}/targets/stops", operation_id="take_stops", status_code=201)
def take_stops(project_id: P, body: x.StopsIn) -> x.Said:
    """Reference stops of a mobile scan become targets of its station; those of an earlier file of it go."""
    count = stops.take_in(project_id, body.station, body.text, body.file, body.sigma_mm / 1000)
    return x.Said(message=f"{count} reference stops are targets now")


@api.get("/projects/{project_id}/known", operation_id="list_known")
def list_known(project_id: P) -> list[x.KnownOut]:
    """What is known beside the scans, and what the network leaves of it."""
    with db.snapshot() as s:
        return [x.KnownOut(**k) for k in known.list_known(s, project_id)]


@api.post("/projects/{project_id}/known/tape", operation_id="add_tape", status_code=201)
def add_tape(project_id: P, body: x.TapeIn) -> list[x.KnownOut]:
    known.add_tape(project_id, body.a, body.b, body.metres, body.sigma_mm / 1000)
    return list_known(project_id)


@api.post("/projects/{project_id}/known/plumb", operation_id="add_plumb", status_code=201)
def add_plumb(project_id: P, body: x.PlumbIn) -> list[x.KnownOut]:
    known.add_plumb(project_id, body.at, body.sigma_mm_m / 1000, body.name, body.part)
    return list_known(project_id)


@api.patch("/projects/{project_id}/known/{known_id}", operation_id="change_known")
def change_known(project_id: P, known_id: P, body: x.KnownPatch) -> list[x.KnownOut]:
    known.change(project_id, known_id, body.version, body.used)
    return list_known(project_id)


@api.delete("/projects/{project_id}/known/{known_id}", operation_id="remove_known")
def remove_known(project_id: P, known_id: P, version: V) -> list[x.KnownOut]:
    known.change(project_id, known_id, version, removed=True)
    return list_known(project_id)
