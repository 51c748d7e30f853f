"""A flat package with an installer app: payload and disk image put together as the package's installer would.

A further form of payload is a line in _FORMS.
"""

from __future__ import annotations

import zlib
from collections.abc import Callable, Sequence

from ..common.errors import SourceError
from ..content.bundles import SUPPORT, bundles_in
from ..content.contents import Seekable, stream
from ..content.ranges import ContentFile, RangedFile
from ..content.tree import File, Folder, Special, UnixFacts
from . import pbzx
from .cpio import MAGIC, read_cpio
from .deflated import DeflatedFile
from .pbzx import PbzxFile
from .xar import XarArchive

_PAYLOAD = "Payload"
_PIECE = 1 << 20
_MOST_PAYLOAD = 4 << 30
_THE_APP = (
    "Take the installer app instead: let a Mac install this package (it only puts the app into Applications), "
    "and copy the app from there."
)


def read_package(content: Seekable, name: str) -> Folder | None:
    """Return a tree with the installer app of a package; None of a package without one.

    Raises SourceError for a damaged payload, and for one whose form is unknown.
    """
    archive = XarArchive(content, name)
    images = _images(archive)
    app = _app(archive, name) if images else None
    if app is None:
        return None
    return Folder("", entries={app.name: _with_images(app, archive, images)})


def app_in_package(content: Seekable, name: str) -> Folder | None:
    """Return the app of a package whose images are elsewhere; None where it has none. Raises SourceError."""
    return _app(XarArchive(content, name), name)


def image_in_package(content: Seekable, name: str) -> Seekable | None:
    """Return the disk image that a package carries; None where it carries none, or several."""
    archive = XarArchive(content, name)
    images = _images(archive)
    return archive.member(images[0]) if len(images) == 1 else None


def _images(archive: XarArchive) -> list[str]:
    return [path for path in archive.names() if path.lower().endswith(".dmg")]


def _app(archive: XarArchive, name: str) -> Folder | None:
    for path in archive.names():
        if path.rpartition("/")[2] == _PAYLOAD and (payload := archive.member(path)) is not None:
            app = next(bundles_in(_payload(payload, f"{name}: {path}")), None)
            if app is not None:
                return app
    return None


def _payload(payload: Seekable, name: str) -> Folder:
    head = payload.read_at(0, min(6, payload.size))
    opened = next((form(payload, name) for magic, form in _FORMS if head.startswith(magic)), None)
    if opened is None:
        raise SourceError(f"{name}: the form of this payload is unknown.", advice=_THE_APP)
    return read_cpio(opened, name)


def _plain(payload: Seekable, name: str) -> RangedFile:
    _prove(payload)
    return ContentFile(payload, name)


def _deflated(payload: Seekable, name: str) -> RangedFile:
    return DeflatedFile(payload, _gzip_size(payload, name), name, wbits=31)


def _in_chunks(payload: Seekable, name: str) -> RangedFile:
    _prove(payload)
    return PbzxFile(payload, name)


def _prove(payload: Seekable) -> None:
    """Read all of it in order: its sum is compared behind its last byte."""
    for _ in stream(payload):
        pass


_FORMS: Sequence[tuple[bytes, Callable[[Seekable, str], RangedFile]]] = (
    (MAGIC, _plain),
    (b"\x1f\x8b", _deflated),
    (pbzx.MAGIC, _in_chunks),
)
"""First bytes, and what makes the cpio archive of it."""


def _gzip_size(payload: Seekable, name: str) -> int:
    """Decode once: gzip does not say its size where it is larger than 4 GiB, and may lie."""
    decoder, size = zlib.decompressobj(31), 0
    try:
        for piece in stream(payload, _PIECE):  # in order: its sum is compared behind its last byte
            waiting = bytes(piece)
            while waiting and not decoder.eof:
                size += len(decoder.decompress(waiting, _PIECE))
                waiting = decoder.unconsumed_tail
                if size > _MOST_PAYLOAD:
                    raise SourceError(f"{name}: it decodes to more than a payload can hold.", advice=_THE_APP)
    except zlib.error as error:
        raise SourceError(f"{name} is damaged: {error}.", advice="Download the package again.") from error
    if not decoder.eof:
        raise SourceError(f"{name} is cut.", advice="Download the package again.")
    return size


def _with_images(app: Folder, archive: XarArchive, images: list[str]) -> Folder:
    """Put the package's disk images into the app's SharedSupport, beside what is there."""
    here = app.made_folder(SUPPORT.split("/"), _mode(0o755))
    if here is None:
        raise SourceError(f"{app.name}: {SUPPORT} is not a folder.", advice="Download the package again.")
    for path in images:
        content, name = archive.member(path), path.rpartition("/")[2]
        assert content is not None
        here.entries.setdefault(name, File(name, content, app.modified, _mode(0o644)))
    return app


def _mode(mode: int) -> Special:
    return Special(unix=UnixFacts(mode=mode))


def package_in(root: Folder) -> File | None:
    """Return the package in a volume's root, or in a folder of it; None where there is none, or an app beside it."""
    return next((file for path, file in root.files() if path.lower().endswith(".pkg") and path.count("/") <= 1), None)
