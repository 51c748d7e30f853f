"""Where a build keeps its progress and, in the end, the manifest: on the drive, or on this computer beside it."""

from __future__ import annotations

from ..common.errors import DriveError
from ..drives.medium import Medium
from ..manifest.format import Manifest, ManifestError, read_manifest, unpack_manifest
from ..manifest.shelf import Shelf
from ..manifest.unfinished import UNKNOWN, Kind, Unfinished, pack_unfinished, read_unfinished, unpack_unfinished
from .image import DriveImage


class Keeper:
    """Keeps what a build of `image` on `medium` has to remember."""

    def __init__(self, image: DriveImage, medium: Medium, shelf: Shelf) -> None:
        self._image, self._medium, self._shelf = image, medium, shelf

    @property
    def keeps(self) -> bool:
        """True when there is a manifest at all: ordinary storage has none."""
        return bool(self._image.about.get("source"))

    def unfinished(self) -> Unfinished | None:
        """Return what an interrupted build or update left."""
        if self._image.manifest_offset is not None:
            return read_unfinished(self._medium, self._image.sector_size)
        return unpack_unfinished(self._shelf.get() or b"")

    def manifest(self) -> Manifest | None:
        """Return the manifest of what was built before, None when there is none that can be used."""
        try:
            if self._image.manifest_offset is not None:
                return read_manifest(self._medium, self._image.sector_size)
            kept = self._shelf.get()
            return unpack_manifest(kept, self._medium.size) if kept else None
        except ManifestError:
            return None

    def forget_what_was_kept(self) -> None:
        """Drop what this computer keeps of the drive from before, when this build keeps nothing here."""
        if self._image.manifest_offset is not None or not self.keeps:
            self._shelf.clear()

    def taken(self, kind: Kind, count: int, digest: bytes = UNKNOWN) -> None:
        """Note that `count` bytes were flushed, whose blocks have hashes with this `digest`.

        On a drive that is surely there after the next flush.
        """
        image = self._image
        if not self.keeps:
            return
        starts = tuple(partition.offset for partition in image.partitions) if image.manifest_room else ()
        data = pack_unfinished(Unfinished(kind, image.fingerprint, count, starts, digest), image.sector_size)
        if image.manifest_offset is not None:
            self._medium.write_at(image.manifest_offset, memoryview(data))
        else:
            self._shelf.put(data)

    def holds(self, manifest: bytes) -> bool:
        """Tell whether this very manifest is kept."""
        if self._image.manifest_offset is None:
            return (self._shelf.get() or b"") == manifest
        return self._medium.read_at(self._image.manifest_offset, len(manifest)) == manifest

    def write(self, manifest: bytes, *, verify: bool) -> None:
        """Write the manifest.

        Its first sector last: until then the record of progress is there, and an interrupted build continues.
        """
        image, sector = self._image, self._image.sector_size
        if image.manifest_offset is None:
            if manifest:
                self._shelf.put(manifest)
            return
        write_checked(self._medium, image.manifest_offset + sector, manifest[sector:], "manifest", verify=verify)
        write_checked(self._medium, image.manifest_offset, manifest[:sector], "manifest", verify=verify)


def write_checked(medium: Medium, offset: int, data: bytes, name: str, *, verify: bool) -> None:
    """Write and flush `data`, and read it back. Raises DriveError when the drive did not keep it."""
    if not data:
        return
    medium.write_at(offset, memoryview(data))
    medium.flush()
    if verify:
        medium.forget_cache()
        if medium.read_at(offset, len(data)) != data:
            raise DriveError(f"The {name} was not kept by the drive (byte {offset}).", advice="Use another drive.")
