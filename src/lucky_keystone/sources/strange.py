"""What a file is that is not an image: by its name and first bytes, so that a technician knows what to do."""

from __future__ import annotations

import re

from msgspec import Struct

from ..content.blank import is_blank
from ..volumes.known import DISC, known_at
from ..wim.records import MAGIC
from .source import Source

_HEAD = 64 << 10


class Strange(Struct, frozen=True):
    """What a file is, completing 'FILE …', and what to do about it."""

    what: str
    advice: str


_AGAIN = "Download it again, from a link that is still valid, and compare its checksum."
_UNPACK = "Unpack it first, and use the result."
_CONVERT = (
    "Convert it on a Mac into a read-only image (Disk Utility, Images, Convert), or copy the installer app out of it."
)
_MAGICS: tuple[tuple[int, bytes, Strange], ...] = (
    (0, b"7z\xbc\xaf\x27\x1c", Strange("is a 7z archive", _UNPACK)),
    (0, b"Rar!\x1a\x07", Strange("is a RAR archive", _UNPACK)),
    (0, b"\x1f\x9d", Strange("is compressed with compress (.Z)", _UNPACK)),
    (0, b"\x04\x22\x4d\x18", Strange("is compressed with lz4", _UNPACK)),
    (0, b"LZIP", Strange("is compressed with lzip", _UNPACK)),
    (0, b"MSCF", Strange("is a cabinet archive", _UNPACK)),
    (257, b"ustar", Strange("is a tar archive", _UNPACK)),
    (
        0,
        MAGIC,
        Strange(
            "is an install image on its own, without the setup environment that starts from a drive",
            "Use the installer's disc image, or the folder with all of its files. To have a Windows that runs from the "
            "drive itself, add --purpose portable.",
        ),
    ),
    (0, b"MZ", Strange("is a Windows program, not an image", "Perhaps it downloads or unpacks one: use that.")),
    (0, b"%PDF", Strange("is a PDF document, not an image", _AGAIN)),
    (
        0,
        b"sprs",
        Strange("is a sparse disk image of macOS, whose pieces lie in any order", _CONVERT),
    ),
    (0, b"conectix", Strange("is a disk of a virtual machine (VHD)", "Use an installer's image.")),
    (0, b"vhdxfile", Strange("is a disk of a virtual machine (VHDX)", "Use an installer's image.")),
    (0, b"KDMV", Strange("is a disk of a virtual machine (VMDK)", "Use an installer's image.")),
    (0, b"QFI\xfb", Strange("is a disk of a virtual machine (QCOW)", "Use an installer's image.")),
)
_UNFINISHED_NAMES = re.compile(r"\.(tmp|temp)$", re.IGNORECASE)
_WEB_PAGE = re.compile(rb"\s*(<\?xml[^>]*>\s*)?<(!doctype\s+html|html|head|body)\b", re.IGNORECASE)


def describe_strange(source: Source) -> Strange | None:
    """Return what a source is that no family knows; None when nothing more can be said."""
    if source.image is None:
        is_bundle = "bands" in source.root.entries and source.root.find_file("Info.plist") is not None
        return Strange("is a sparse bundle: a disk image of macOS in pieces", _CONVERT) if is_bundle else None
    image = source.image
    head = image.read_at(0, min(_HEAD, image.size))
    if _WEB_PAGE.match(head[:1024].removeprefix(b"\xef\xbb\xbf")):
        return Strange("is a web page, not an image: the link has expired, or it leads to a page", _AGAIN)
    if source.disk_image is not None:
        return Strange(
            "is a macOS disk image, but holds no installer", "Use the installer app, or the image that holds it."
        )
    for offset, magic, strange in _MAGICS:
        if head[offset : offset + len(magic)] == magic:
            return strange
    if (known := known_at(image, 0, image.size)) and known != DISC:
        return Strange(f"is a volume ({known}) and no installer", "Use an installer's image.")
    unfinished = _UNFINISHED_NAMES.search(source.path.name)
    if unfinished is not None:
        return Strange(
            f"is an unfinished download, by its name ({unfinished.group(0)})",
            "Let the download finish, and use the whole file.",
        )
    if not any(head) and is_blank(image):
        return Strange(
            "holds only zeros wherever it was sampled: space was reserved for it, but nothing arrived", _AGAIN
        )
    return None
