"""Every operation of the API with generated bodies: the right ones, the wrong ones, and odd ones."""

from __future__ import annotations

from typing import Any

import pytest
import schemathesis
from hypothesis import HealthCheck, settings
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import content_type_conformance, response_schema_conformance, status_code_conformance
from sqlalchemy import select

from taut_lantern.api.app import make_app
from taut_lantern.steps.clean import boxes
from taut_lantern.steps.draw import cuts, sheets, tracing
from taut_lantern.steps.place import control
from taut_lantern.store.db import session
from taut_lantern.store.models import Control
from taut_lantern.store.tiles import tiles_of
from tests.support import bring_in, make_project, room, write_scan


class FromThisMachine:
    """The application as it is reached from this machine: the tool itself calls it by a name that is not let in."""

    def __init__(self) -> None:
        self.app = make_app()

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        if "headers" in scope:
            scope = {**scope, "headers": [(k, b"localhost" if k == b"host" else v) for k, v in scope["headers"]]}
        await self.app(scope, receive, send)


schema = schemathesis.openapi.from_asgi("/api/openapi.json", FromThisMachine())


@pytest.fixture(scope="module")
def ids(database: str, tmp_path_factory: pytest.TempPathFactory) -> dict[str, str]:
    """One of each thing that a path can name, so that requests reach the use cases."""
    project = make_project("contract")
    path = write_scan(tmp_path_factory.mktemp("contract") / "a.e57", room(3000))
    (station,) = bring_in(project, [path])
    section = cuts.make_section(project, "plan", {"height": 0.0, "behind": 0.5})
    trace = tracing.draw(project, section, "line", "wall", [[0.0, 0.0], [1.0, 0.0]])
    control.take_in(project, "a;1;2;3\nb;4;5;6\nc;7;8;1\n", "c.csv", None, "m")
    with session() as s:
        first = tiles_of(s, [station])[0].first
        point = s.scalar(select(Control.id).where(Control.project_id == project).limit(1))
    box = boxes.set_box(project, "box", [0, 0, 0], [9, 9, 9], 0.0)
    return {
        "project_id": project,
        "station_id": station,
        "section_id": section,
        "trace_id": trace,
        "sheet_id": sheets.make(project, "sheet", {"sections": [section]}),
        "control_id": str(point),
        "box_id": box,
        "first": str(first),
    }


@schema.parametrize()
@settings(max_examples=12, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
def test_no_request_breaks_the_server_and_every_answer_keeps_the_contract(case: schemathesis.Case, ids: dict[str, str]) -> None:
    if case.operation.method.upper() != "DELETE":
        case.path_parameters.update({k: v for k, v in ids.items() if k in case.path_parameters})
    case.call_and_validate(checks=[not_a_server_error, status_code_conformance, content_type_conformance, response_schema_conformance])
