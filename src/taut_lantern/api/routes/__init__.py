"""The HTTP API: thin over the use cases, one module of routes per step of the job."""

from . import bring_in, clean, devices, draw, hand_over, models, notes, place, points, project, prove, selecting, tie

ROUTERS = (
    project.api,
    bring_in.api,
    devices.api,
    points.api,
    tie.api,
    prove.api,
    place.api,
    clean.api,
    selecting.api,
    draw.api,
    models.api,
    notes.api,
    hand_over.api,
)
