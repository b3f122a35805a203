"""Pictures as PNG: rasters with what is marked on them."""

from __future__ import annotations

import io
import warnings

from PIL import Image, ImageDraw

from ..core.draw.overlay import BOTH, MIDDLE, OTHER, Overlay
from ..core.errors import BadInput

PIXELS = 16_000_000  # of a picture that somebody brings
RING = 15  # pixels round what contradicts
LENGTHS = (0.5, 1.0, 2.0, 5.0, 10.0)  # metres that a scale bar shows
LAMP = 6  # pixels


def _ink(colour: tuple[float, float, float]) -> tuple[int, int, int]:
    return int(colour[0]), int(colour[1]), int(colour[2])


def looked_at(data: bytes) -> tuple[str, int, int]:
    """(png or jpeg, pixels wide, high) of a picture that somebody brings. BadInput when it is none, or too large."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            with Image.open(io.BytesIO(data), formats=("PNG", "JPEG")) as image:
                kind, (wide, high) = str(image.format).lower(), image.size
                if wide * high > PIXELS:
                    raise BadInput(
                        f"the picture has {wide} x {high} pixels",
                        subject="picture",
                        remedy="bring one of at most 16 million",
                        code="too_large",
                    )
                image.load()
    except (OSError, SyntaxError, ValueError, Image.DecompressionBombError, Image.DecompressionBombWarning) as problem:
        if isinstance(problem, BadInput):
            raise
        raise BadInput(
            "this is no picture that can be read", subject="picture", remedy="bring a PNG or JPEG file", code="unreadable"
        ) from None
    return kind, wide, high


def painted(drawn: Overlay) -> bytes:
    """A PNG with both instruments, rings round what contradicts, and a scale bar."""
    image = Image.fromarray(drawn.rgb)
    pen = ImageDraw.Draw(image)
    if drawn.divided:
        pen.line([(drawn.divided, 0), (drawn.divided, image.height)], fill=_ink(BOTH), width=1)
    for x, y in drawn.places.tolist():
        pen.ellipse([x - RING, y - RING, x + RING, y + RING], outline=(138, 24, 70), width=2)
    for (x, y), colour in zip(drawn.stands.tolist(), (MIDDLE, OTHER), strict=True):
        pen.ellipse([x - LAMP, y - LAMP, x + LAMP, y + LAMP], fill=_ink(colour), outline=(255, 255, 255), width=2)
    metres = max((m for m in LENGTHS if m / drawn.pixel < 0.3 * image.width), default=LENGTHS[0])
    right, bottom = image.width - 14, image.height - 14
    pen.line([(right - metres / drawn.pixel, bottom), (right, bottom)], fill=_ink(BOTH), width=3)
    pen.text((right - metres / drawn.pixel, bottom - 16), f"{metres:g} m", fill=_ink(BOTH), font_size=13)
    out = io.BytesIO()
    image.save(out, "PNG", optimize=True)
    return out.getvalue()
