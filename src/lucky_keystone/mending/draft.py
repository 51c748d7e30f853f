"""A drive as it would be: changes over bytes that stay."""

from __future__ import annotations

from bisect import bisect_left, insort
from collections.abc import Iterable, Sequence

from ..content.contents import Content, SizedReadable, seekable
from .remedy import Change

_PAGE = 4096


class Draft:
    """Reads like the drive, with changes that nobody has written yet."""

    def __init__(self, drive: SizedReadable, changes: Iterable[Change] = ()) -> None:
        self._drive, self.size = drive, drive.size
        self._pages: dict[int, bytearray] = {}
        self._numbers: list[int] = []
        self._contents: list[tuple[int, int, Content]] = []
        for change in changes:
            self.put(change)

    def put(self, change: Change) -> None:
        """Take a change in. Later ones win."""
        if isinstance(change.data, bytes):
            self._patch(change.offset, change.data)
        else:
            self._place(change.offset, change.data)

    def _place(self, offset: int, content: Content) -> None:
        self._contents.append((offset, offset + content.size, content))

    def _patch(self, offset: int, data: bytes) -> None:
        done = 0
        while done < len(data):
            number, inside = divmod(offset + done, _PAGE)
            piece = data[done : done + _PAGE - inside]
            if number not in self._pages:
                start = number * _PAGE
                page = self._below(start, min(_PAGE, self.size - start))
                self._pages[number] = page
                insort(self._numbers, number)
            self._pages[number][inside : inside + len(piece)] = piece
            done += len(piece)

    def read_at(self, offset: int, size: int) -> bytes:
        """Return bytes of the drive as it would be."""
        found = self._below(offset, size)
        first = bisect_left(self._numbers, offset // _PAGE)
        end = bisect_left(self._numbers, -(-(offset + size) // _PAGE))
        for number in self._numbers[first:end]:
            _overlay(found, offset, number * _PAGE, self._pages[number])
        return bytes(found)

    def _below(self, offset: int, size: int) -> bytearray:
        """Return bytes of the drive with contents of files on it."""
        found = bytearray(self._drive.read_at(offset, size))
        for start, end, content in self._contents:
            first, last = max(start, offset), min(end, offset + size)
            if first < last:
                _overlay(found, offset, first, _known(content, first - start, last - first))
        return found


def _known(content: Content, offset: int, size: int) -> bytes:
    """Return bytes of a content; those of a joined or cut one come from its parts."""
    whole = getattr(content, "cut_from", None)
    if whole is not None:
        return _known(whole[0], whole[1] + offset, size)
    parts: Sequence[Content] = getattr(content, "parts", ())
    if not parts:
        return seekable(content).read_at(offset, size)
    found, start = [], 0
    for part in parts:
        first, last = max(offset, start), min(offset + size, start + part.size)
        if first < last:
            found.append(_known(part, first - start, last - first))
        start += part.size
    return b"".join(found)


def _overlay(found: bytearray, offset: int, start: int, data: bytes | bytearray) -> None:
    """Put `data`, which lies at `start`, over `found`, which lies at `offset`."""
    first, last = max(start, offset), min(start + len(data), offset + len(found))
    if first < last:
        found[first - offset : last - offset] = data[first - start : last - start]
