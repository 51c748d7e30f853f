"""Compares what is on a drive with a source, file by file: `check --against`.

An install image that lies on the drive in parts is compared resource by resource, each found in the source by the sum
that both lookup tables give it.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Callable, Iterator, Mapping, Sequence

from msgspec import Struct, field

from ..boot.records import crossing
from ..common.errors import KeystoneError, SourceError
from ..common.later import np
from ..common.progress import Progress
from ..content.contents import BLOCK, Content, Seekable, SizedReadable, seekable, stream
from ..content.source_file import UnreadableSource
from ..content.tree import File
from ..sources.locating import naming_the_file
from ..sources.source import Source, named_sources
from ..starting.pe import REMOVABLE_LOADERS
from ..volumes.volume import Entry, FileOnVolume
from ..wim.read import InstallImage
from ..wim.records import SIZE_MASK
from ..wim.split import part_names
from .codes import Code
from .found import FoundVolume
from .report import Place, Report
from .telling import REBUILD

_OnDrive = Mapping[tuple[int, str], tuple[FoundVolume, Entry]]
"""Everything on the drive, by number of the partition and path as it is compared."""

_LISTED = 8
_STAGE = "comparing with the source"


class _Compared(Struct):
    missing: list[str] = field(default_factory=list)
    different: list[tuple[str, int, str]] = field(default_factory=list)
    """Path, number of the partition, and how it differs."""
    extra: list[str] = field(default_factory=list)


def compare_with_source(
    source: Source,
    drive: SizedReadable,
    found: Sequence[FoundVolume],
    progress: Progress,
    report: Report,
    laid_over: Sequence[str] = (),
    parts: Sequence[str] = (),
) -> None:
    """Compare every file of `source` with the drive's, and note what differs. Raises SourceError.

    Files `laid_over` are not the source's: the manifest answers for them. A source without files that are read is
    compared as the image that it is. Further sources are compared with the volumes that are theirs. `parts` names the
    sources that the drive was built from, where there were several.
    """
    advice = REBUILD
    if len(parts) > len(named_sources(source)):
        advice = f"The drive was built from {', '.join(parts)}: name each of them with --against, in this order."
    if not source.root.entries:
        _compare_image(source, drive, progress, report)
        return
    for each, volumes in _with_volumes(source, found):
        try:
            _compare_files(each, volumes, progress, report, laid_over, advice)
        except UnreadableSource as error:
            raise naming_the_file(error, each) from error
    if laid_over:
        report.looked_at.append(f"not compared, because the build put them there: {', '.join(laid_over)}")


def _with_volumes(source: Source, found: Sequence[FoundVolume]) -> Iterator[tuple[Source, Sequence[FoundVolume]]]:
    """Yield each source with the volumes that are its own: one for each installer for Macs, all others for PCs."""
    if not source.further:
        yield source, found
        return
    macs = [volume for volume in found if volume.kind.names_loaders]
    for each in (source, *source.further):
        if each.root.special.unix.starts_with:
            yield each, macs[:1]
            macs = macs[1:]
        else:
            yield each, [volume for volume in found if not volume.kind.names_loaders]


def _key(path: str) -> str:
    """Return what paths are compared by: no case, accents put together."""
    return unicodedata.normalize("NFC", path).lower()


def _compare_files(
    source: Source,
    found: Sequence[FoundVolume],
    progress: Progress,
    report: Report,
    laid_over: Sequence[str],
    advice: str,
) -> None:
    compared = _Compared()
    ours = {_key(path) for path in laid_over}
    folders = tuple(path for path in ours if path.endswith("/"))

    def is_ours(path: str) -> bool:
        return path in ours or path.startswith(folders)

    total = sum(file.size for _, file in source.root.files())
    done = 0

    def hear(size: int) -> None:
        nonlocal done
        done += size
        progress(_STAGE, min(done, total), total)

    on_drive: _OnDrive = {
        (volume.partition.number, _key(entry.path)): (volume, entry) for volume in found for entry in volume.entries
    }
    wanted = set[str]()
    for path, file in source.root.files():
        if is_ours(_key(path)):
            continue
        names = _compare_file(path, file, found, on_drive, compared, hear)
        wanted |= {_key(name) for name in names}
    for (_, path), (volume, entry) in on_drive.items():
        if not entry.is_folder and path not in wanted and not is_ours(path):
            compared.extra.append(f"{entry.path} (partition {volume.partition.number})")
    progress(_STAGE, total, total)
    report.bytes_checked += done
    shown = " and ".join(each.path.name for each in (source, *source.merged, *source.joined))
    report.looked_at.append(f"source: {len(list(source.root.files())):,} files of {shown}, byte by byte")
    _tell(compared, report, advice)


def _compare_file(
    path: str,
    file: File,
    found: Sequence[FoundVolume],
    on_drive: _OnDrive,
    compared: _Compared,
    hear: Callable[[int], None],
) -> list[str]:
    """Compare a file on every volume that has it; return under which names it lies on the drive."""
    places = [(volume.partition.number, _key(path)) for volume in found]
    held = [on_drive[place] for place in places if place in on_drive]
    for volume, entry in held:
        content = FileOnVolume(volume.volume, entry)
        if _is_crossing(path, content):
            continue
        why = "it is a folder" if entry.is_folder else _difference(file.content, file.size, content, entry.size, hear)
        if why:
            compared.different.append((path, volume.partition.number, why))
    if held:
        return [path]
    parts = _parts(path, found, on_drive)
    if parts is None:
        compared.missing.append(path)
        hear(file.size)
        return [path]
    volume, names, contents = parts
    why = _parts_differ(path, file, contents, names, hear)
    if why:
        compared.different.append((path, volume.partition.number, why))
    return [path, *names]


def _is_crossing(path: str, content: SizedReadable) -> bool:
    """True for our helper, which has the name of a loader that lies on the volume beside it."""
    for architecture, name in REMOVABLE_LOADERS.items():
        if path.lower() == f"efi/boot/{name}":
            ours = crossing(architecture)
            try:
                return content.size == len(ours) and content.read_at(0, len(ours)) == ours
            except KeystoneError:  # what cannot be read is not ours, and is compared as any file is
                return False
    return False


def _difference(
    wanted: Content, wanted_size: int, content: SizedReadable, size: int, hear: Callable[[int], None]
) -> str:
    """Return how the drive's bytes differ from the source's, '' when they do not."""
    if wanted_size != size:
        hear(wanted_size)
        return f"it has {size:,} bytes, in the source {wanted_size:,}"
    at, why = 0, ""
    for piece in stream(wanted):
        hear(len(piece))
        if not why:
            try:
                here = content.read_at(at, len(piece))
            except KeystoneError as error:
                why = error.message.rstrip(".")
            else:
                why = "" if here == piece else f"the first byte that differs is {at + _first_other(here, piece):,}"
        at += len(piece)
    return why


def _first_other(one: bytes, other: memoryview) -> int:
    size = min(len(one), len(other))
    if not size:
        return 0
    wrong = np.flatnonzero(np.frombuffer(one, np.uint8, size) != np.frombuffer(other, np.uint8, size))
    return int(wrong[0]) if len(wrong) else size


# -- install images in parts -----------------------------------------------------------------------------------------


def _parts(
    path: str, found: Sequence[FoundVolume], on_drive: _OnDrive
) -> tuple[FoundVolume, list[str], list[Seekable]] | None:
    """Return the volume with the parts of an install image, their paths and contents; None when there are none."""
    folder, _, name = path.rpartition("/")
    if not name.lower().endswith((".wim", ".esd")):
        return None
    for volume in found:
        names: list[str] = []
        contents: list[Seekable] = []
        for part in part_names(name, 10_000):
            place = f"{folder}/{part}" if folder else part
            held = on_drive.get((volume.partition.number, _key(place)))
            if held is None:
                break
            names.append(place)
            contents.append(FileOnVolume(volume.volume, held[1]))  # type: ignore[arg-type]
        if names:
            return volume, names, contents
    return None


def _parts_differ(
    path: str, file: File, contents: Sequence[Seekable], names: Sequence[str], hear: Callable[[int], None]
) -> str:
    """Compare every resource in the parts with the source's; return how they differ, '' when they do not."""
    whole = InstallImage(seekable(file.content), path)
    left = {sha1: (offset, size) for sha1, offset, size in _resources(whole)}
    for name, content in zip(names, contents, strict=True):
        try:
            part = InstallImage(content, name)
            if part.header.part_count != len(names):
                return f"{len(names)} parts are there, {name} is one of {part.header.part_count}"
            for sha1, offset, size in _resources(part):
                place = left.pop(sha1, None)
                if place is None or place[1] != size:
                    return f"{name} holds a resource that is not in the source, or holds it twice"
                if not _same_bytes(whole.content, place[0], content, offset, size, hear):
                    return f"{name}: resource {sha1.hex()} is a different one"
        except SourceError as error:
            return error.message.rstrip(".")
    return f"{len(left):,} resources of it are in none of the parts" if left else ""


def _resources(image: InstallImage) -> Iterator[tuple[bytes, int, int]]:
    for entry in image.resources:
        yield bytes(entry["sha1"]), int(entry["offset"]), int(entry["size_and_flags"]) & SIZE_MASK


def _same_bytes(one: Seekable, at: int, other: Seekable, place: int, size: int, hear: Callable[[int], None]) -> bool:
    for start in range(0, size, BLOCK):
        take = min(BLOCK, size - start)
        hear(take)
        if one.read_at(at + start, take) != other.read_at(place + start, take):
            return False
    return True


def _compare_image(source: Source, drive: SizedReadable, progress: Progress, report: Report) -> None:
    image = source.image
    assert image is not None
    if drive.size < image.size:
        what = f"the drive has {drive.size:,} bytes, the image {image.size:,}."
        report.fault(Code.AGAINST_DIFFERENT, "source", what, REBUILD)
        return
    at = 0
    for piece in stream(image):
        here = drive.read_at(at, len(piece))
        if here != piece:
            place = at + _first_other(here, piece)
            what = f"the drive is not {source.path.name}: the first byte that differs is {place:,}."
            report.fault(Code.AGAINST_DIFFERENT, "source", what, REBUILD, Place(offset=place, size=1))
            return
        at += len(piece)
        progress(_STAGE, at, image.size)
    report.bytes_checked += image.size


def _tell(compared: _Compared, report: Report, advice: str) -> None:
    for path, number, why in compared.different[:_LISTED]:
        what = f"{path} differs from the source: {why}."
        report.fault(Code.AGAINST_DIFFERENT, "source", what, advice, Place(number, file=path))
    for path in compared.missing[:_LISTED]:
        report.fault(Code.AGAINST_MISSING, "source", f"{path} is missing.", advice, Place(file=path))
    if (more := len(compared.different) - _LISTED) > 0:
        report.fault(Code.AGAINST_DIFFERENT, "source", f"{more:,} more differ.", advice)
    if (more := len(compared.missing) - _LISTED) > 0:
        report.fault(Code.AGAINST_MISSING, "source", f"{more:,} more are missing.", advice)
    if compared.extra:
        listed = ", ".join(compared.extra[:_LISTED])
        rest = f" and {len(compared.extra) - _LISTED:,} more" if len(compared.extra) > _LISTED else ""
        report.note(Code.AGAINST_EXTRA, "source", f"only on the drive: {listed}{rest}.")
