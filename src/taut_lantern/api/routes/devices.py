"""Instruments that the server is connected with."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Query, Response

from ...steps.bring_in import devices
from ...steps.place import control
from .. import schemas as x
from .base import PNG, P, router

api = router()
Name = Annotated[str, Path(min_length=1, max_length=60)]


@api.get("/devices", operation_id="list_devices")
def list_devices() -> list[x.DeviceOut]:
    """All instruments; one that does not answer says so."""
    return [x.DeviceOut(**d) for d in devices.listed()]


@api.get("/devices/{name}/view", operation_id="view_through", response_class=Response, responses=PNG)
def view_through(
    name: Name,
    azimuth: Annotated[float, Query(ge=-7, le=7)],
    elevation: Annotated[float, Query(ge=-1.2, le=1.5)] = 0.0,
    wide: Annotated[float, Query(ge=0.005, le=1.5)] = 0.6,
) -> Response:
    """What is seen through a scanner; radians."""
    return Response(devices.view(name, azimuth, elevation, wide), media_type="image/png", headers={"Cache-Control": "no-store"})


@api.post("/projects/{project_id}/devices/{name}/scan", operation_id="scan_with", status_code=202)
def scan_with(project_id: P, name: Name, body: x.DeviceScanIn) -> x.Started:
    """Scan, fetch and bring in."""
    return x.Started(jobs=[devices.start_scan(project_id, name, body.name, body.points)])


@api.post("/projects/{project_id}/devices/{name}/fetch", operation_id="fetch_from", status_code=202)
def fetch_from(project_id: P, name: Name, body: x.DeviceFetchIn) -> x.Started:
    """Fetch a scan that the scanner holds, and bring it in."""
    return x.Started(jobs=[devices.start_fetch(project_id, name, body.scan)])


@api.post("/projects/{project_id}/devices/{name}/aim", operation_id="aim_with")
def aim_with(project_id: P, name: Name, body: x.AimIn) -> x.AimOut:
    """Measure a target finely from the set-up that is a station here."""
    return x.AimOut(
        **devices.aim(project_id, name, body.station, body.azimuth, body.elevation, body.kind, body.size_mm / 1000, body.target)
    )


@api.post("/projects/{project_id}/devices/{name}/set-up", operation_id="set_up_on_marks")
def set_up_on_marks(project_id: P, name: Name, body: x.SetUpIn) -> x.SetUpOut:
    """Set a total station up on known marks."""
    return x.SetUpOut(**devices.set_up(name, body.marks))


@api.post("/projects/{project_id}/devices/{name}/measure", operation_id="measure_with")
def measure_with(project_id: P, name: Name, body: x.MeasureIn) -> x.MeasuredOut:
    return x.MeasuredOut(**devices.measure(name, body.target))


@api.post("/projects/{project_id}/devices/{name}/control", operation_id="control_from")
def control_from(project_id: P, name: Name) -> x.Said:
    """What a total station measured becomes the project's control, with its deviations."""
    made = control.take_in(project_id, devices.control_of(name), f"{name}.csv", None, "m")
    return x.Said(message=f"{made['points']} points of {name} are control now")
