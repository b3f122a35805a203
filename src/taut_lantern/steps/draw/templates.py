"""The cuts of a project as a file that another one is cut by."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy import select

from ...core import frames
from ...core.draw.section import MOST
from ...core.errors import BadInput
from ...site.common import get_project, matrix
from ...site.drawing import LEVEL
from ...site.frames import in_use
from ...store.db import session
from ...store.models import Section
from .cuts import direction, floor_height, make_sections

TEMPLATE = "taut-lantern cuts 1"


def as_template(project_id: str) -> dict[str, Any]:
    """The cuts of a project as a file that another one can be cut by: level ones by their height over the floor, upright ones by where
    they stand in the coordinates in use."""
    with session() as s:
        project = get_project(s, project_id)
        frame = in_use(s, project)
        rows = list(s.scalars(select(Section).where(Section.project_id == project_id, Section.part_id == frame.part)))
    floor = floor_height(project_id, frame.part) if rows else 0.0
    out = []
    for r in rows:
        own: dict[str, Any] = {"kind": r.kind, "name": r.name, "before": r.params["before"], "behind": r.params["behind"]}
        if r.kind in LEVEL:
            own["above_floor"] = r.params["height"] - floor
        elif r.kind == "unrolled":
            line = np.array([[*p[:2], 0.0] for p in r.params["line"]])
            own |= {
                "line": frames.apply(frame.T_frame_part @ matrix(r.T_part_base), line)[:, :2].tolist(),
                "bent": bool(r.params.get("bent")),
            }
        else:
            to = frame.T_frame_part @ matrix(r.T_part_base)
            for key in ("a", "b"):
                own[key] = [float(v) for v in frames.apply(to, np.array([[*r.params[key][:2], 0.0]]))[0][:2]]
            if r.params.get("steps"):
                own["steps"] = r.params["steps"]
        out.append(own)
    return {"format": TEMPLATE, "cuts": out}


def by_template(project_id: str, template: dict[str, Any]) -> list[str]:
    """Cut as a template says, in the coordinates that are in use here."""
    cuts = template.get("cuts")
    if template.get("format") != TEMPLATE or not isinstance(cuts, list) or not 1 <= len(cuts) <= MOST:
        raise BadInput("this is no list of cuts that can be used", subject="template", remedy="choose one that was saved from a project")
    with session() as s:
        frame = in_use(s, get_project(s, project_id))
    back, floor, wishes = frames.inverse(frames.unstretched(frame.T_frame_part)), None, []
    stretch, turn = frames.stretch(frame.T_frame_part), direction(project_id, frame.part)
    for k, cut in enumerate(cuts):
        try:
            kind: str = str(cut["kind"])
            params: dict[str, Any] = {"before": float(cut["before"]), "behind": float(cut["behind"])}
            if kind in LEVEL:
                floor = floor_height(project_id, frame.part) if floor is None else floor
                params |= {"height": floor + float(cut["above_floor"]), "turn": turn}
            else:
                picks = cut["line"] if kind == "unrolled" else [cut["a"], cut["b"]]
                at = np.array([[*(float(v) for v in p[:2]), 0.0] for p in picks])
                at = frames.apply(back, (at - frame.T_frame_part[:3, 3]) / stretch + frame.T_frame_part[:3, 3])[:, :2]
                if kind == "unrolled":
                    params |= {"line": at.tolist(), "bent": bool(cut.get("bent"))}
                else:
                    params |= {"a": at[0].tolist(), "b": at[1].tolist()} | ({"steps": cut["steps"]} if cut.get("steps") else {})
            wishes.append((kind, params, str(cut.get("name", ""))[:120]))
        except (KeyError, TypeError, ValueError, AttributeError):
            raise BadInput(f"cut {k + 1} of this list cannot be read", subject="template", remedy="choose another list") from None
    return make_sections(project_id, wishes, frame.part)
