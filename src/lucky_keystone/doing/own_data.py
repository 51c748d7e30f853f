"""All that the program keeps on this computer, and taking it away."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from pathlib import Path

from msgspec import Struct

from ..common import places
from ..common.errors import DriveError, naming
from ..fetching.part import UNFINISHED
from ..fetching.store import Store
from ..mending.journal import kept_in

_OURS = ("lucky-keystone", "journals", "images")
"""Folders that the program makes; one of another name was there before."""


class KeptData(Struct, frozen=True):
    """A kind of data."""

    what: str
    place: Path
    """Where it lies: a file or a folder."""
    files: Sequence[Path]
    """Those that are there, and go with it."""
    why_kept: str = ""
    """Why it is not taken away."""

    @property
    def size(self) -> int:
        """Bytes."""
        total = 0
        for path in self.files:
            with suppress(OSError):
                total += path.stat().st_size
        return total


def own_data() -> list[KeptData]:
    """Return every place in which the program keeps something, and what is there. Raises DriveError."""
    record, undo, images = places.record(), places.journals(), Store()
    found = [KeptData("record", record, sorted(_of_record(record)))] if record is not None else []
    waiting = sorted({*undo.glob("*.journal"), *(each.path for each in kept_in(undo) if each.state == "cut off")})
    finished = sorted(set(undo.glob("*.mend")) - set(waiting))
    found.append(KeptData("undo files", undo, finished))
    if waiting:
        found.append(
            KeptData("undo files that drives wait for", undo, waiting, "a drive is to be put back by it first")
        )
    files = [image.path for image in images.images()] + sorted((images.folder / "arriving").glob(f"*{UNFINISHED}*"))
    found.append(KeptData("downloaded images", images.folder, files))
    presets = places.presets()
    found.append(KeptData("presets", presets, [presets] if presets.is_file() else [], "it is yours"))
    return found


def remove_data(found: Sequence[KeptData]) -> list[Path]:
    """Delete what may go, and the folders that are empty then; return the files. Raises DriveError."""
    store, gone = Store(), []
    stored = {image.path: image for image in store.images()}
    for kind in found:
        for path in kind.files if not kind.why_kept else ():
            with naming(str(path), DriveError, advice="Remove it by hand."):
                if path in stored:
                    store.forget(stored[path])
                else:
                    path.unlink(missing_ok=True)
            gone.append(path)
        folder = kind.place if kind.place.is_dir() else kind.place.parent
        for place in (*(folder / name for name in ("arriving", "by-sum")), folder, folder.parent):
            if place.name in ("arriving", "by-sum") or place.name in _OURS:
                with suppress(OSError):
                    place.rmdir()
    return gone


def _of_record(record: Path) -> Iterator[Path]:
    """Yield the record's own file, what its database keeps beside it, and damaged ones that were set aside."""
    for path in (record, *(record.with_name(record.name + end) for end in ("-wal", "-shm", "-journal"))):
        if path.is_file():
            yield path
    yield from record.parent.glob(f"{record.stem}-damaged-*")
