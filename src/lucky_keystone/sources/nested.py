"""Opens disk images that lie in something else: in an app, in a volume, on a drive that is checked."""

from __future__ import annotations

from msgspec import Struct

from ..common.errors import SourceError
from ..content.contents import SizedReadable
from ..content.ranges import ContentFile, FileRange, RangedFile
from ..volumes.volume import UnreadVolume, VolumeError
from .diskimage import DiskImage, is_disk_image, refuse_encrypted
from .image_volumes import READERS, VolumeInImage
from .inside import volumes_in

_AGAIN = "The installer is incomplete or damaged: download or copy it again."


class OpenedImage(Struct, frozen=True):
    """A disk image, and its volume as far as it is read."""

    name: str
    """Where it is, for people."""
    disk: RangedFile
    volume: VolumeInImage | None
    """Its volume; None where there is none that is read."""
    unread: str = ""
    """Why its volume is not read; '' when it is."""


def open_image(content: SizedReadable, name: str) -> OpenedImage:
    """Open a disk image, compressed or plain; `name` says where it is. Raises SourceError for one that is damaged."""
    refuse_encrypted(content, name)
    disk: RangedFile = DiskImage(content, name) if is_disk_image(content) else ContentFile(content, name)
    volumes = volumes_in(FileRange(disk, 0, disk.size))
    found = next((volume for volume in volumes if volume.kind in READERS), None)
    if found is not None:
        try:
            return OpenedImage(name, disk, READERS[found.kind](disk, found.offset, found.size))
        except UnreadVolume as error:
            return OpenedImage(name, disk, None, _as_reason(error.message))
        except VolumeError as error:
            cut = "" if isinstance(disk, DiskImage) else "it has no trailer, and "
            raise SourceError(
                f"{name} is cut or damaged: {cut}{error.message[0].lower()}{error.message[1:]}", advice=_AGAIN
            ) from error
    unread = next((volume.known for volume in volumes if volume.known is not None), None)
    if unread is not None:
        return OpenedImage(name, disk, None, f"its volume is {unread.shown}, which is not supported")
    if not volumes and not isinstance(disk, DiskImage):
        raise SourceError(
            f"{name} is not a disk image: it has neither a trailer nor a known volume.",
            advice=_AGAIN,
        )
    return OpenedImage(name, disk, None, "it holds no HFS+ or APFS volume")


def _as_reason(message: str) -> str:
    return message[0].lower() + message[1:].rstrip(".")
