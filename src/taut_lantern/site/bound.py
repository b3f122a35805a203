"""Control that bends the network: what a part that was placed in the network, by weights, observes."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.network.observations import ControlObservation
from ..store.models import Control, Frame, Sighting, Station
from .common import Array, matrix

NETWORK = "network"  # the mode of a placement whose control is weighted in the network
FREE = 1e3  # metres: deviation of a coordinate that was not given
PRIOR = 0.001  # metres: the same of one whose deviation was not


def numbers_of(values: Sequence[object]) -> Array:
    """(3,) of coordinates or deviations, NaN for what was not given."""
    return np.array([np.nan if v is None else v for v in [*values, None, None, None][:3]], float)


def observation(row: Control, sigma: Array, fallback: Array) -> ControlObservation:
    """sigma (3,) metres; fallback (3,) what stands for coordinates that were not given, which count for nothing."""
    at = numbers_of(row.enh)
    given = np.isfinite(at)
    return ControlObservation(row.target_id or "", np.where(given, at, fallback), np.diag(np.where(given, sigma**2, FREE**2)))


def weighed(row: Control) -> Array:
    """(3,) metres: the deviations that a point was given, and what a total station leaves where it was given none."""
    sigma = numbers_of(row.sigma or ())
    return np.where(np.isfinite(sigma), np.maximum(sigma, 1e-5), PRIOR)


def bound_control(s: Session, project_id: str, stations: Sequence[Station], sightings: Sequence[Sighting]) -> list[ControlObservation]:
    """Control of the parts that are placed in the network."""
    q = select(Frame).where(Frame.project_id == project_id, Frame.kind == "control", Frame.active)
    bound = [f for f in s.scalars(q) if f.detail.get("mode") == NETWORK]
    if not bound:
        return []
    rows = list(s.scalars(select(Control).where(Control.project_id == project_id, Control.role == "control")))
    part = {x.id: x.part_id for x in stations}
    pose = {x.id: matrix(x.pose) for x in stations}
    out = []
    for frame in bound:
        seen = {x.target_id: x for x in sightings if part.get(x.station_id) == frame.part_id and x.used}
        for r in rows:
            if r.name in frame.detail["points"] and (x := seen.get(r.target_id)) is not None:
                at = frames.apply(pose[x.station_id], np.array([x.centre]))
                out.append(observation(r, weighed(r), frames.apply(matrix(frame.T_frame_part), at)[0]))
    return out
