"""Fonts of the report: every character in the first font that has it, and the ones that none has are said.

Helvetica stands in every PDF reader; the others are Debian's (DejaVu, Droid fallback), which the launcher installs.
"""

from __future__ import annotations

from functools import cache
from pathlib import Path

from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFError, TTFont

FILES = {
    "DejaVu": "/usr/share/fonts/truetype/dejavu/DejaVuSans.ttf",
    "DejaVu-Bold": "/usr/share/fonts/truetype/dejavu/DejaVuSans-Bold.ttf",
    "Droid": "/usr/share/fonts/truetype/droid/DroidSansFallbackFull.ttf",
}


@cache
def _characters() -> dict[str, frozenset[int]]:
    """Which characters each font that is here has."""
    found: dict[str, frozenset[int]] = {}
    for name, file in FILES.items():
        if Path(file).is_file():
            try:
                font = TTFont(name, file)
                pdfmetrics.registerFont(font)
                found[name] = frozenset(font.face.charToGlyph)
            except (TTFError, OSError):
                continue
    return found


def _plain(character: str) -> bool:
    """Whether Helvetica has it (as PDF encodes it)."""
    try:
        character.encode("cp1252")
        return True
    except UnicodeEncodeError:
        return False


def font_of(character: str, bold: bool = False) -> str | None:
    """The font for a character; None when no font here has it."""
    if _plain(character):
        return "Helvetica-Bold" if bold else "Helvetica"
    order = ("DejaVu-Bold", "DejaVu", "Droid") if bold else ("DejaVu", "Droid")
    return next((name for name in order if ord(character) in _characters().get(name, frozenset())), None)


def lacking(text: str) -> list[str]:
    """Characters of a text that no font here has, each once."""
    return [c for c in dict.fromkeys(text) if not c.isspace() and font_of(c) is None]


def told(text: str) -> str:
    """A text with what no font here has written as its number."""
    return "".join(c if c.isspace() or font_of(c) else f"[U+{ord(c):04X}]" for c in text)


def runs(text: str, bold: bool = False) -> list[tuple[str, str]]:
    """(font, piece) of a text whose characters all have one."""
    out: list[tuple[str, str]] = []
    for c in told(text):
        font = font_of(c, bold) or (out[-1][0] if out else "Helvetica")
        if out and out[-1][0] == font:
            out[-1] = (font, out[-1][1] + c)
        else:
            out.append((font, c))
    return out


def for_all(text: str) -> str:
    """One font for a short text that is drawn in one piece: the one that has most of it."""
    names = [font_of(c) for c in told(text)]
    rare = [n for n in names if n not in (None, "Helvetica")]
    return max(set(rare), key=rare.count) if rare else "Helvetica"  # type: ignore[arg-type,return-value]
