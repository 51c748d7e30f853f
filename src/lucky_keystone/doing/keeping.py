"""`build --keep`: an image that comes from a link goes into the store on its way to the drive."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from ..common.errors import UsageError
from ..fetching.store import ImageNote, Store

if TYPE_CHECKING:
    from ..fetching.link import Place
    from ..fetching.part import Download
    from ..sources.source import Source


class Keeping:
    """The part of the store that takes the bytes; what came of an image that was not completed stays for `fetch`."""

    def __init__(self, place: Place) -> None:
        """Raises UsageError for what does not come from a link."""
        if isinstance(place, Path):
            raise UsageError("--keep goes with a link.", advice="Leave it out: the image is here already.")
        from ..fetching.part import Download

        self._store, self._name, self._origin = Store(), place.name, place.origin
        self._part: Download = Download(self._store.arriving(self._name))
        if self._part.length:
            self._part.start_over()

    def close(self) -> None:
        """Let go of the part."""
        self._part.__exit__(None, None, None)

    def take(self, data: bytes) -> None:
        """Take the next bytes."""
        self._part.append(data)

    def finish(self, source: Source) -> list[str]:
        """Put the image into the store when all of it came and nothing speaks against it; return what to tell."""
        file = next((file for file in source.remote_files if file.path == source.path), None)
        if file is None or self._part.length != file.size or (file.sha256 and not file.proven):
            return []
        self._part.finish()
        about = ImageNote(name=self._name, size=file.size, proven=file.proven, origin=self._origin)
        image = self._store.take_in(self._part.path, file.found_sha256, about)
        return [f"{image.about.name} is kept with the downloaded images ({image.path})"]
