"""A content as a file of the standard library."""

from __future__ import annotations

import io

from ..content.contents import Seekable

_MOST_AT_ONCE = 512 << 20


class AsFile(io.RawIOBase):
    """Can be read and sought in; no more than 512 MiB are read at once."""

    def __init__(self, content: Seekable) -> None:
        self._content, self._at = content, 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._content.size}[whence]
        if base + offset < 0:
            raise ValueError("a place before the beginning")
        self._at = base + offset
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        size = max(min(len(buffer), self._content.size - self._at), 0)
        if size > _MOST_AT_ONCE:
            raise ValueError("so much cannot be read at once")
        buffer[:size] = self._content.read_at(self._at, size)
        self._at += size
        return size
