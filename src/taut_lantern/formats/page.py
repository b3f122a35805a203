"""A page of a PDF document as a picture, drawn in a process of its own that locks itself down first (see sealed.py)."""

from __future__ import annotations

import io
import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import pypdfium2
from PIL import Image

from ..core.errors import BadInput, LanternError
from . import sealed

DOTS, PAGE = 150, 3500  # dots an inch of a page, and pixels of its longer side at most
SECONDS, MEMORY = 20.0, 768 << 20  # that a page may take
SHOWN = "the document"


def page_of(path: Path, page: int) -> bytes:
    """A page (from 1) of a PDF document as a PNG of 150 dots an inch, less where it is large. BadInput when it cannot be read."""
    made = subprocess.run([sys.executable, "-m", __name__, str(path), str(page)], capture_output=True, timeout=3 * SECONDS, check=False)
    kind, body = made.stdout[:1], made.stdout[1:]
    if made.returncode == 0 and kind == b"+":
        return body
    if kind == b"-":
        raise BadInput(**json.loads(body))
    raise BadInput("the document broke its reader", subject=SHOWN, remedy="save it anew as PDF, or as a PNG", code="unreadable")


def _drawn(seal: sealed.Seal, path: Path, page: int) -> dict[str, Any]:
    try:
        document = pypdfium2.PdfDocument(path.read_bytes())
    except pypdfium2.PdfiumError:
        remedy = "save it anew as PDF without a password, or as a PNG"
        raise BadInput("this document cannot be read", subject=SHOWN, remedy=remedy, code="unreadable") from None
    if not 1 <= page <= len(document):
        pages = f"{len(document)} {'page' if len(document) == 1 else 'pages'}"
        raise BadInput(f"the document has {pages}, there is no page {page}", subject=SHOWN, remedy="ask for one it has")
    scale = min(DOTS / 72, PAGE / max(*document[page - 1].get_size(), 1.0))
    out = io.BytesIO()
    document[page - 1].render(scale=scale).to_pil().convert("RGB").save(out, "PNG")
    seal.block(len(out.getvalue()))[:] = out.getvalue()
    return {}


def _main(path: Path, page: int) -> None:
    Image.init()  # a sealed process loads no code any more
    try:
        _, block = sealed.run(lambda seal: _drawn(seal, path, page), path, SHOWN, SECONDS, MEMORY)
        answer = b"+" + (block[:] if block is not None else b"")
    except LanternError as problem:
        told = {"message": problem.message, "subject": problem.subject, "remedy": problem.remedy, "code": problem.code}
        answer = b"-" + json.dumps(told).encode()
    sys.stdout.buffer.write(answer)


if __name__ == "__main__":
    _main(Path(sys.argv[1]), int(sys.argv[2]))
