"""Proving a source whole before anything is erased: by a sum that came with it, and by its own integrity tables."""

from __future__ import annotations

from pathlib import Path

from ..common.errors import SourceError
from ..common.progress import Progress
from ..content.contents import seekable, stream
from ..content.ranges import FileRange
from ..content.source_file import SourceFile
from ..fetching.link import Link
from ..fetching.summing import PIECE, sum_of_pieces
from ..sources.decoded import measure
from ..sources.decoders import damaged
from ..sources.diskimage import DiskImage
from ..sources.diskimage_sums import verify
from ..sources.locating import naming_the_file
from ..sources.scanning import scan, source_device
from ..sources.source import Source
from ..sources.summed import own_sum
from ..wim.read import InstallImage
from .families import facts_of, family_of


def verify_source(source: Source, sha256: str | None, progress: Progress, *, integrity: bool) -> list[str]:
    """Read the source against `sha256` (of the image file) and, with `integrity`, its install images' own tables.

    Returns one line for each proof made or not possible; raises SourceError naming the damaged file.
    """
    try:
        return _proofs(source, sha256, progress, integrity=integrity)
    except SourceError as error:
        raise naming_the_file(error, source) from error


def _proofs(source: Source, sha256: str | None, progress: Progress, *, integrity: bool) -> list[str]:
    proofs: list[str] = []
    for remote in source.remote_files:
        remote.read_in_order([])
    if integrity and source_device(source) is not None:
        scan(source, progress)
        proofs.append("every sector of the disc can be read")
    if sha256 is not None:
        _verify_sum(source, sha256.lower(), progress)
        proofs.append(f"{source.path.name} has the SHA-256 given")
    if integrity and source.packing is not None:
        file = source.packing.file
        size = measure(file.stored, file.form, progress, "verifying")
        if size != source.packing.file.size:
            raise damaged(file.stored, file.form.name, f"{size} bytes result from decoding it, not {file.size}")
        proofs.append(f"the {file.form.name} stream decodes to its end, and its sums are right")
    if integrity:
        proofs += _sums_of_the_archive(source, progress)
    family = family_of(source)
    images = family.disk_images(source) if integrity and family is not None else ()
    for disk in images:
        proofs += _checksums(disk, progress)
    if integrity and family is not None:
        proofs += family.prove(source, progress)
    found = facts_of(source)
    for facts in (*found.images, *found.boot_images) if integrity else ():
        found_file = source.root.find_file(facts.path)
        if found_file is None:
            continue
        if not facts.has_integrity:
            proofs.append(f"{facts.path} has no integrity table to be checked by")
            continue
        image = InstallImage(seekable(found_file.content), f"{source.path.name}: {facts.path}")
        image.verify_integrity(lambda done, whole: progress("verifying the source", done, whole))
        proofs.append(f"{facts.path} matches its integrity table")
    return proofs


def _sums_of_the_archive(source: Source, progress: Progress) -> list[str]:
    """Read every file of which the source, an archive, has a sum. Raises SourceError behind one that is wrong."""
    summed = [file for _, file in source.root.files() if own_sum(file.content) is not None]
    done, whole = 0, sum(file.size for file in summed)
    for file in summed:
        for piece in stream(file.content):
            done += len(piece)
            progress("verifying the source", done, whole)
    files = "file has" if len(summed) == 1 else "files have"
    return [f"{len(summed):,} {files} the sums that {source.path.name} says they have"] if summed else []


def _checksums(image: DiskImage, progress: Progress) -> list[str]:
    """Compare a disk image with its own checksums. Raises SourceError for one that is wrong."""
    found = verify(image, progress)
    if found.wrong:
        raise SourceError(
            f"{image.path} is damaged: {found.wrong[0]}", advice="Download or copy it again, and compare its checksum."
        )
    right = [f"{image.path.name}: the checksums of {', '.join(found.right)} are right"] if found.right else []
    return [*right, *(f"{image.path.name}: {words}" for words in found.unverified)]


def _verify_sum(source: Source, sha256: str, progress: Progress) -> None:
    if isinstance(source.path, Link):
        source.prove_remote(progress)
        return
    if source.path.is_dir():
        raise SourceError(
            f"{source.path} is a folder; a SHA-256 can only be checked of a disc image.",
            advice="Leave out --sha256, or use the disc image.",
        )
    found = sum_of(source, progress)
    if found != sha256:
        raise SourceError(
            f"{source.path}: SHA-256 is {found}, {sha256} was given.",
            advice="The image is damaged, incomplete or another one: download it again.",
        )


def sum_of(source: Source, progress: Progress) -> str:
    """Return the SHA-256 of a source that is one file on this computer, or a disc. Raises SourceError."""
    assert isinstance(source.path, Path)
    whole = next((file for file in source.files if file.path == source.path), None) or SourceFile(source.path)
    # Behind the volume of a disc in a drive lies a run-out that is not part of it, and often cannot be read.
    size = min(whole.size, source.volume_size or whole.size) if whole.is_device else whole.size
    return sum_of_pieces(stream(FileRange(whole, 0, size), PIECE), size, progress, "verifying the source")
