"""Pictures of what was found or deleted, as the instrument that saw most of it saw it."""

from __future__ import annotations

import io

import numpy as np
from PIL import Image

from ...core.clean.look import looked_at
from ...core.errors import NotFound
from ...site.common import heavy, owned
from ...store.db import snapshot
from ...store.marks import read_set
from ...store.models import Edit
from ...store.tiles import read_tiles, tiles_of

AROUND = 3  # level of tiles that show what lies round it


def picture(project_id: str, edit_id: str) -> bytes:
    """A PNG of an edit's points among others of the station that holds most of them. NotFound when none are left."""
    with heavy(), snapshot() as s:
        edit = owned(s, Edit, project_id, edit_id, "find or deletion")
        held = read_set(s, edit.points)
        if not held:
            raise NotFound("no points of this are left", subject=edit.title, remedy="reload the project")
        station, points = max(held.items(), key=lambda x: len(x[1]))
        tiles = tiles_of(s, [station])
        first = np.array([t.first for t in tiles])
        order = np.argsort(first)
        own = set(first[order][np.unique(np.searchsorted(first[order], points, side="right") - 1)].tolist())
        xyz, shade, marked = [], [], []
        for tile in read_tiles([t.id for t in tiles if t.level <= AROUND or t.first in own]):
            grey = np.repeat((tile.intensity >> 8).astype(np.uint8)[:, None], 3, axis=1)
            xyz.append(tile.xyz.astype(float))
            shade.append(tile.rgb if tile.rgb.any() else grey)
            index = np.arange(tile.first, tile.first + len(tile.xyz))
            marked.append(np.isin(index, points, assume_unique=True))
        image = looked_at(np.concatenate(xyz), np.concatenate(shade), np.concatenate(marked))
    out = io.BytesIO()
    Image.fromarray(image).save(out, "PNG")
    return out.getvalue()
