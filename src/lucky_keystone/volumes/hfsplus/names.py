"""Names on HFS Plus: UTF-16, decomposed in its own way, compared by its own table (TN1150, "Unicode Subtleties").

A tree's names are as POSIX shows them: what is ':' there is '/' on the volume, and the other way round.
"""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

from ...content.tree import Folder
from .records import NAME_MOST

_UNICODE = unicodedata.ucd_3_2_0  # the edition whose decompositions the format has settled on
# Kept as they are, whatever Unicode says (TN1150, "Canonical Decomposition"); so is what UTF-16 has no meaning for.
_AS_THEY_ARE = re.compile("([\u2000-\u2fff\uf900-\ufaff\U0002f800-\U0002faff\ud800-\udfff]+)")
_COLON_AND_SLASH = str.maketrans(":/", "/:")


def decomposed(name: str) -> str:
    """Return `name` as the volume stores it, but for the colon."""
    if name.isascii():
        return name
    pieces = _AS_THEY_ARE.split(name)
    return "".join(piece if index % 2 else _UNICODE.normalize("NFD", piece) for index, piece in enumerate(pieces))


def composed(name: str) -> str:
    """Return a stored name with its accents put together, as other systems write it."""
    if name.isascii():
        return name
    pieces = _AS_THEY_ARE.split(name)
    return "".join(piece if index % 2 else unicodedata.normalize("NFC", piece) for index, piece in enumerate(pieces))


@lru_cache(1 << 12)
def stored_name(name: str) -> bytes:
    """Return a name's UTF-16 units as they are on the volume."""
    return decomposed(name).translate(_COLON_AND_SLASH).encode("utf-16-be", "surrogatepass")


def shown_name(units: bytes) -> str:
    """Return a stored name as POSIX shows it, still decomposed."""
    return units.decode("utf-16-be", "surrogatepass").translate(_COLON_AND_SLASH)


# -- comparing -------------------------------------------------------------------------------------------------------


def _pairs() -> dict[int, int]:
    """Return upper to lower case as TN1150's table has it: the pairs of Unicode 2 that no decomposition takes apart."""
    ranges = [  # first and last capital, step to the next, distance to its small letter
        (0x41, 0x5A, 1, 32),
        (0x391, 0x3A1, 1, 32),
        (0x3A3, 0x3A9, 1, 32),
        (0x3E2, 0x3EE, 2, 1),
        (0x404, 0x406, 1, 80),
        (0x408, 0x40B, 1, 80),
        (0x410, 0x418, 1, 32),
        (0x41A, 0x42F, 1, 32),
        (0x460, 0x474, 2, 1),
        (0x478, 0x480, 2, 1),
        (0x490, 0x4BE, 2, 1),
        (0x531, 0x556, 1, 48),
        (0x10A0, 0x10C5, 1, 48),
        (0x2160, 0x216F, 1, 16),
        (0xFF21, 0xFF3A, 1, 32),
    ]
    table = {c: c + away for first, last, step, away in ranges for c in range(first, last + 1, step)}
    next_to = (
        "110 126 132 13F 141 14A 152 166 182 184 187 18B 191 198 1A2 1A4 1A7 1AC 1B3 1B5 1B8 1BC 1E4 "
        "4C3 4C7 4CB 4D4 4D8 4E0 4E8"
    )
    table |= {int(c, 16): int(c, 16) + 1 for c in next_to.split()}
    apart = (
        "C6-E6 D0-F0 D8-F8 DE-FE 181-253 186-254 189-256 18A-257 18E-1DD 18F-259 190-25B 193-260 194-263 196-269 "
        "197-268 19C-26F 19D-272 19F-275 1A9-283 1AE-288 1B1-28A 1B2-28B 1B7-292 1C4-1C6 1C5-1C6 1C7-1C9 1C8-1C9 "
        "1CA-1CC 1CB-1CC 1F1-1F3 1F2-1F3 402-452 40F-45F"
    )
    return table | {int(pair.split("-")[0], 16): int(pair.split("-")[1], 16) for pair in apart.split()}


_IGNORED = [*range(0x200C, 0x2010), *range(0x202A, 0x202F), *range(0x206A, 0x2070), 0xFEFF]
_FOLDING: dict[int, int | None] = {0: 0xFFFF, **_pairs(), **dict.fromkeys(_IGNORED)}


def folded_key(units: bytes) -> bytes:
    """Return what two stored names are compared by on HFS Plus: case folded, ignorable units left out."""
    text = units.decode("utf-16-be", "surrogatepass")
    if text.isascii() and "\0" not in text:
        return text.lower().encode("utf-16-be")
    return text.translate(_FOLDING).encode("utf-16-be", "surrogatepass")


def binary_key(units: bytes) -> bytes:
    """Return what two stored names are compared by on HFSX with case-sensitive names: the units."""
    return units


# -- what can be stored ----------------------------------------------------------------------------------------------


def name_fault(name: str) -> str:
    """Return why a name cannot be stored, '' when it can."""
    units = len(stored_name(name)) // 2
    if units > NAME_MOST:
        return f"has {units} characters as HFS+ counts them, at most {NAME_MOST} are allowed"
    return "" if name not in ("", ".", "..") and "/" not in name else "is not a valid file name"


def needs_case(tree: Folder) -> tuple[str, str] | None:
    """Return the first two paths that differ in case only, so that the volume has to tell cases apart (HFSX)."""
    folders = [("", tree), *((f"{path}/", entry) for path, entry in tree.walk() if isinstance(entry, Folder))]
    for above, folder in folders:
        known: dict[bytes, str] = {}
        for name in folder.entries:
            other = known.setdefault(folded_key(stored_name(name)), name)
            if other is not name:
                return above + other, above + name
    return None
