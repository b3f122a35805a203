"""Reference stops of a mobile scan as targets of its station: what control, or another station, can be matched to."""

from __future__ import annotations

import numpy as np
from sqlalchemy import select

from ...core.errors import BadInput
from ...core.place.stops import read_stops
from ...site.common import clean_name, get_station, numbers
from ...site.solution import refresh_solution
from ...store import journal
from ...store.models import Sighting, Target
from .targets import drop_unseen, new_target


def take_in(project_id: str, station_id: str, text: str, file: str, sigma: float) -> int:
    """Stops of a station from a file; those of an earlier file of it go. sigma: metres, of a coordinate. Returns how many."""
    if len(text) > 1_000_000:
        raise BadInput(f"{file} is too large for a list of stops", subject=file, remedy="keep the reference stops only", code="too_large")
    stops = read_stops(text, clean_name(file, "stops"))
    with journal.change(project_id, "", network=True, topic="network") as c:
        station = get_station(c.s, project_id, station_id)
        for old in c.s.scalars(select(Sighting).where(Sighting.station_id == station_id, Sighting.kind == "stop")):
            c.remove(old)
        c.s.flush()
        named = {t.name: t for t in c.s.scalars(select(Target).where(Target.project_id == project_id))}
        for stop in stops:
            target = named.get(stop.name) or new_target(c.s, project_id, stop.name, "stop", 0.0)
            row = Sighting(project_id=project_id, station_id=station_id, target_id=target.id, kind="stop", radius=0.0, by_hand=[])
            row.centre, row.covariance = list(stop.xyz), numbers(np.eye(3) * sigma**2)
            row.rms, row.points, row.remark, row.used = 0.0, 0, stop.remark, stop.sure
            row.decided("target")
            c.s.add(row)
        drop_unseen(c.s, project_id)
        c.title = f"Read {len(stops)} reference stops of {station.name}"
        c.s.flush()
        refresh_solution(c.s, c.project)
    return len(stops)
