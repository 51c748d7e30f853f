"""A compressed file as the bytes that come out of it: read like any other file, front to back or at an offset.

Decoding goes forward only. Reading on costs nothing extra; going back decodes again from the start, but for the pages
read last and the image's beginning, which are kept. How much may be decoded and thrown away for that is limited, so
that looking into an image ends in bounded time; streaming it is not limited.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator

from ..common.errors import SourceError, TooFarInside
from ..common.progress import Progress
from ..content.ranges import FileRange, RangedFile
from .decoders import Format, damaged

_PAGE = 256 << 10
_PAGES_OF_BEGINNING = 64  # 16 MiB: tables, and the folders of most volumes
_PAGES_KEPT = 128  # 32 MiB
_MOST_PASSED_OVER = 1 << 30  # bytes decoded only to get somewhere


class DecodedFile:
    """Has what a file of a source has."""

    def __init__(self, stored: RangedFile, form: Format, size: int) -> None:
        """`size` in bytes: what the format states, or what was measured."""
        self.path = stored.path
        self.size = size
        self.form = form
        self.stored = stored
        self.underlying, self.order = FileRange(stored, 0, stored.size), stored.order
        self._lock = threading.Lock()
        self._cursors: dict[int, _Cursor] = {}
        self._idle: list[_Cursor] = []
        self._next_handle = 1
        self._beginning: dict[int, bytes] = {}
        self._pages: OrderedDict[int, bytes] = OrderedDict()
        self._passed_over = 0

    def acquire(self) -> int:
        """Return a handle for one more reader."""
        with self._lock:
            cursor = self._idle.pop() if self._idle else _Cursor(self)
            handle = self._next_handle
            self._next_handle += 1
            self._cursors[handle] = cursor
            return handle

    def release(self, handle: int) -> None:
        """One reader less; how far it had decoded serves the next one."""
        with self._lock:
            self._idle = [self._cursors.pop(handle)]

    def readinto_at(self, handle: int, offset: int, view: memoryview) -> None:
        """Fill `view` from byte `offset`.

        Raises SourceError where the stream is damaged, cut, or not as long as it said.
        """
        if offset + len(view) > self.size:
            raise SourceError(
                f"{self.path}: {len(view)} bytes at {offset} were requested, out of {self.size}.",
                advice="The image is damaged or incomplete.",
            )
        cursor = self._cursors[handle]
        if cursor.position != offset and self._from_pages(offset, view):
            return
        cursor.go_to(offset)
        cursor.readinto(view)

    def _from_pages(self, offset: int, view: memoryview) -> bool:
        """Fill `view` from pages that were kept; False when one is missing."""
        done = 0
        with self._lock:
            while done < len(view):
                number, inside = divmod(offset + done, _PAGE)
                page = self._beginning.get(number) or self._pages.get(number)
                if page is None or inside >= len(page):
                    return False
                piece = page[inside : inside + len(view) - done]
                view[done : done + len(piece)] = piece
                done += len(piece)
        return True

    def keep(self, number: int, page: bytes) -> None:
        """Keep a page that was decoded."""
        with self._lock:
            if number < _PAGES_OF_BEGINNING:
                self._beginning[number] = page
                return
            self._pages[number] = page
            if len(self._pages) > _PAGES_KEPT:
                self._pages.popitem(last=False)

    def pass_over(self, count: int) -> None:
        """Note that `count` bytes are decoded only to be thrown away. Raises TooFarInside beyond the limit."""
        self._passed_over += count
        if self._passed_over > _MOST_PASSED_OVER:
            raise TooFarInside(
                f"{self.path}: it would have to be decoded over and over to look at more of it.",
                advice="Unpack it first so that all of it can be examined.",
            )

    def decoder(self) -> Iterator[bytes]:
        """Start decoding from the front."""
        return self.form.pieces(self.stored)


class _Cursor:
    """A place in the decoded bytes."""

    def __init__(self, file: DecodedFile) -> None:
        self._file = file
        self._start()

    def _start(self) -> None:
        self._pieces, self._rest, self.position = self._file.decoder(), memoryview(b""), 0
        self._page = bytearray()
        self._at_end = False

    def go_to(self, offset: int) -> None:
        if offset < self.position:
            self._start()
        if offset > self.position:
            if offset - self.position > _PAGE:
                self._file.pass_over(offset - self.position)
            passed = memoryview(bytearray(_PAGE))
            while self.position < offset:
                self.readinto(passed[: min(len(passed), offset - self.position)])

    def readinto(self, view: memoryview) -> None:
        done = 0
        while done < len(view):
            if not self._rest:
                self._rest = memoryview(self._next_piece())
            take = min(len(view) - done, len(self._rest))
            piece = self._rest[:take]
            view[done : done + take] = piece
            self._keep(piece)
            self._rest = self._rest[take:]
            done += take
            self.position += take
        if self.position == self._file.size and not self._at_end:
            self._at_end = True
            self._refuse_more()

    def _keep(self, piece: memoryview) -> None:
        """Collect pages: decoding goes through all bytes, so each page comes whole."""
        self._page += piece
        while len(self._page) >= _PAGE:
            first = self.position + len(piece) - len(self._page)
            self._file.keep(first // _PAGE, bytes(self._page[:_PAGE]))
            del self._page[:_PAGE]

    def _next_piece(self) -> bytes:
        piece = next(self._pieces, None)
        if piece is None:
            size = self._file.size
            raise damaged(
                self._file.stored, self._file.form.name, f"{self.position} bytes result from decoding it, not {size}"
            )
        return piece

    def _refuse_more(self) -> None:
        """Decode to the stream's end, where its sums are checked.

        Raises SourceError for one that is longer than it said.
        """
        size = self._file.size
        if self._rest or any(len(piece) for piece in self._pieces):
            raise damaged(
                self._file.stored, self._file.form.name, f"more than the {size} bytes it states result from decoding it"
            )


class _Watched:
    """A file that says how much of it was read."""

    def __init__(self, file: RangedFile, hear: Callable[[int], None]) -> None:
        self.path, self.size, self.underlying, self.order = file.path, file.size, file.underlying, file.order
        self.acquire, self.release = file.acquire, file.release
        self._file, self._hear = file, hear

    def readinto_at(self, descriptor: int, offset: int, view: memoryview) -> None:
        self._file.readinto_at(descriptor, offset, view)
        self._hear(len(view))


def measure(stored: RangedFile, form: Format, progress: Progress, stage: str = "measuring") -> int:
    """Decode all of a file once; return how many bytes come out. Proves the stream whole; raises SourceError.

    What is reported is how much of the file was read: what comes out is not known before the end.
    """
    done = 0

    def hear(count: int) -> None:
        nonlocal done
        done = min(done + count, stored.size - 1)  # the end is reported when it was proven
        progress(f"{stage} ({form.name})", done, stored.size)

    size = sum(len(piece) for piece in form.pieces(_Watched(stored, hear)))
    progress(f"{stage} ({form.name})", stored.size, stored.size)
    return size
