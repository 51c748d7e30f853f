"""File trees for tests, made in a line or drawn at random."""

from __future__ import annotations

from datetime import datetime

from hypothesis import strategies as st

from lucky_keystone.content.contents import Literal, stream
from lucky_keystone.content.tree import File, Folder, Special

MOMENT = datetime(2026, 3, 14, 9, 26, 52)


def folder(name: str, *entries: File | Folder) -> Folder:
    return Folder(name, MOMENT, {entry.name: entry for entry in entries})


def file(name: str, data: bytes = b"", special: Special | None = None) -> File:
    return File(name, Literal(data), MOMENT, special or Special())


def files_of(root: Folder) -> dict[str, bytes]:
    """Return {path: bytes} of everything below `root`."""
    return {path: b"".join(bytes(piece) for piece in stream(entry.content)) for path, entry in root.files()}


NAMES = st.text(
    st.characters(codec="utf-8", exclude_characters='"*/:<>?\\|\x7f', exclude_categories=["Cc", "Cs"]),
    min_size=1,
    max_size=40,
).filter(lambda name: name == name.rstrip(". ") and not name.startswith("$"))


@st.composite
def trees(draw: st.DrawFn, depth: int = 2, name: str = "") -> Folder:
    names = draw(st.lists(NAMES, max_size=6, unique_by=lambda text: text.upper().casefold()))
    entries: list[File | Folder] = []
    for entry in names:
        if depth and draw(st.booleans()):
            entries.append(draw(trees(depth - 1, entry)))
        else:
            entries.append(file(entry, draw(st.binary(max_size=3000))))
    return folder(name, *entries)
