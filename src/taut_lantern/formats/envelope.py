"""What an E57 file says of itself, before its decoder sees it (ASTM E2807, sections 6 and 7).

The file is pages of 1024 bytes, the last four of each a checksum; a header of 48 bytes names where the XML section lies. Files
with a document type, entities or schema locations are refused: a decoder that follows them reads other files or calls out.
"""

from __future__ import annotations

import struct
from pathlib import Path
from xml.etree.ElementTree import Element, ParseError

from defusedxml.common import DefusedXmlException
from defusedxml.ElementTree import DefusedXMLParser

from ..core.errors import BadInput

PAGE, SUM = 1024, 4
MOST_XML = 64 << 20  # bytes; a scan needs about 5 kB
LOCATIONS = ("schemaLocation", "noNamespaceSchemaLocation")


def check(path: Path, shown: str) -> None:
    """Signature, length and XML section. Raises BadInput."""
    size = path.stat().st_size
    if size == 0:
        raise BadInput(f"{shown} is empty (0 bytes)", subject=shown, remedy="copy it from the scanner again", code="empty_file")
    with path.open("rb") as stream:
        head = stream.read(48)
    if len(head) < 48 or head[:8] != b"ASTM-E57":
        raise BadInput(
            f"{shown} is not an E57 file: it begins with {head[:8]!r}",
            subject=shown,
            remedy="export the scan as E57, or rename the file to what it is",
            code="not_e57",
        )
    length, at, logical, page = struct.unpack("<QQQQ", head[16:48])
    if length > size:
        raise BadInput(
            f"{shown} is truncated: {size:,} of {length:,} bytes are there",
            subject=shown,
            remedy="copy it from the scanner or the memory card again",
            code="truncated",
        )
    if page != PAGE or logical > MOST_XML or at % PAGE >= PAGE - SUM or at < 48 or at > size:
        raise _unreadable(shown, "its header names no place for its description")
    _parsed(_section(path, at, logical, shown), shown)


def _section(path: Path, at: int, logical: int, shown: str) -> bytes:
    """The XML section without the pages' checksums."""
    first = at - at % PAGE
    with path.open("rb") as stream:
        stream.seek(first)
        raw = stream.read(PAGE * ((at - first + logical) // (PAGE - SUM) + 2))
    text = b"".join(raw[k : k + PAGE - SUM] for k in range(0, len(raw), PAGE))[at - first :][:logical]
    if len(text) < logical:
        raise _unreadable(shown, "its description is not whole")
    return text


def _parsed(text: bytes, shown: str) -> None:
    """Parse the description as the decoder will, in UTF-8 and without following anything."""
    if text.startswith((b"\xfe\xff", b"\xff\xfe", b"\x00", b"<\x00", b"\x4c\x6f")):
        raise _refused(shown, "its description is not in UTF-8")
    declared = text[:200].split(b"?>", 1)[0] if text.lstrip(b"\xef\xbb\xbf").startswith(b"<?xml") else b""
    if b"encoding" in declared and not any(name in declared.lower() for name in (b"utf-8", b"utf8", b"us-ascii")):
        raise _refused(shown, "its description is not in UTF-8")
    parser = DefusedXMLParser(target=_Walk(shown), forbid_dtd=True, forbid_entities=True, forbid_external=True)
    try:
        text.decode("utf-8")
        parser.feed(text.rstrip(b"\x00"))
        parser.close()
    except DefusedXmlException:
        raise _refused(shown, "its description has a document type or entities") from None
    except (ParseError, UnicodeDecodeError, ValueError) as problem:
        raise _unreadable(shown, f"its description cannot be read ({str(problem)[:80]})") from problem


class _Walk:
    """Looks at the elements as they pass; keeps nothing."""

    def __init__(self, shown: str) -> None:
        self.shown, self.depth = shown, 0

    def start(self, tag: str, attributes: dict[str, str]) -> None:
        self.depth += 1
        if self.depth > 200:
            raise _unreadable(self.shown, "its description is nested too deeply")
        if any(name.rpartition("}")[2].rpartition(":")[2] in LOCATIONS for name in attributes):
            raise _refused(self.shown, "its description names a schema to be fetched")

    def end(self, tag: str) -> None:
        self.depth -= 1

    def data(self, text: str) -> None:
        pass

    def pi(self, target: str, data: str | None = None) -> None:
        raise _refused(self.shown, "its description holds a processing instruction")

    def close(self) -> Element | None:
        return None


def _refused(shown: str, why: str) -> BadInput:
    return BadInput(
        f"{shown} is refused: {why}",
        subject=shown,
        remedy="an E57 file needs none of that: export it anew from a program you trust",
        code="refused",
    )


def _unreadable(shown: str, why: str) -> BadInput:
    return BadInput(f"{shown} cannot be opened: {why}", subject=shown, remedy="copy it again, or export it anew", code="unreadable")
