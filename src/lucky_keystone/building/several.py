"""Several drives in one pass: the source is read once for all that are laid out alike, each drive has its own fate."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Sequence

from blake3 import blake3
from msgspec import Struct, field

from ..common.errors import Interrupted, KeystoneError
from ..common.progress import Progress, silent
from ..content.contents import Content, Literal
from ..content.regions import TRAITS, Region
from ..drives.medium import Medium
from ..manifest.shelf import NoShelf, Shelf
from .build import UNSEALED, BuildResult, build, nothing_to_prove
from .feed import PATIENCE, Block, Feed
from .image import DriveImage
from .stream import own_blocks


class Job(Struct, kw_only=True):
    """One drive of several. After `build_all` either `result` or `error` is there."""

    name: str
    image: DriveImage
    medium: Medium
    progress: Progress = silent
    """Called with its progress."""
    shelf: Shelf = field(default_factory=NoShelf)
    prove: Callable[[Progress], None] = nothing_to_prove
    """Raises SourceError where what was read of the source turns out to be wrong in the end."""
    give_up: Callable[[], None] = lambda: None
    """Ends all waiting for a source that is slow to answer."""
    result: BuildResult | None = None
    error: KeystoneError | None = None
    fell_back: bool = False
    """True when it was too slow for the others and continued in a pass of its own."""
    ended: threading.Event = field(default_factory=threading.Event)


class _Stop(Struct):
    event: threading.Event = field(default_factory=threading.Event)
    fault: BaseException | None = None


def build_all(jobs: Sequence[Job], *, verify: bool = True, resume: bool = True, patience: float = PATIENCE) -> None:
    """Build every job's drive; a drive that fails does not hurt the others. Raises Interrupted when the user stops it.

    Drives whose files are laid out alike (same clusters, so mostly: same size) share one reading of the source.
    """
    stop = _Stop()
    for job in jobs:
        job.ended.clear()
    workers: list[tuple[Job, threading.Thread]] = []
    for group in _groups(jobs):
        regions, base = _shared_regions(group[0].image)
        feed = Feed(regions, len(group), patience=patience) if len(group) > 1 else None
        for number, job in enumerate(group):
            blocks = _blocks(job, feed, number, regions, base) if feed else None
            arguments = (job, blocks, feed, number, stop, verify, resume)
            workers.append((job, threading.Thread(target=_work, args=arguments, name=f"drive {job.name}", daemon=True)))
    try:
        for _, thread in workers:
            thread.start()
        interrupted = _wait(jobs, stop)
    finally:  # whatever happens here, nothing continues writing behind the caller's back
        stop.event.set()
        for job, thread in workers:
            if thread.ident is not None:
                job.ended.wait()
    if stop.fault is not None:
        raise stop.fault
    if interrupted:
        raise Interrupted("Stopped before the end.", advice=UNSEALED)


def _wait(jobs: Sequence[Job], stop: _Stop) -> bool:
    """Return when all jobs have ended; True when the user stopped them meanwhile.

    Not by joining threads: where a join is interrupted, some versions of Python take the thread for ended.
    """
    interrupted = False
    while True:
        try:
            for job in jobs:
                while not job.ended.wait(0.2):
                    pass
            return interrupted
        except KeyboardInterrupt:
            interrupted = True
            stop.event.set()
            for job in jobs:
                job.give_up()


def _groups(jobs: Sequence[Job]) -> list[list[Job]]:
    """Put together what can share a pass."""
    groups: dict[tuple[tuple[int, tuple[int, bytes]], ...], list[Job]] = {}
    for job in jobs:
        regions, base = _shared_regions(job.image)
        key = tuple((extent.offset - base, _alike(extent.content)) for region in regions for extent in region.extents)
        groups.setdefault(key, []).append(job)
    return list(groups.values())


def _alike(content: Content) -> tuple[int, bytes]:
    """Return what tells contents at the same place apart: small ones made for a drive may have the same size."""
    return content.size, blake3(content.data).digest() if isinstance(content, Literal) else b""


def _shared_regions(image: DriveImage) -> tuple[list[Region], int]:
    """Return the regions that drives laid out alike have in common, and where the first of them starts.

    The others are small and differ by identity.
    """
    regions = [region for region in image.regions if TRAITS[region.kind].shared]
    return regions, regions[0].offset if regions else 0


def _blocks(job: Job, feed: Feed, number: int, regions: Sequence[Region], base: int) -> Iterator[Block]:
    shift = _shared_regions(job.image)[1] - base

    def fell_back() -> None:
        job.fell_back = True

    return own_blocks(job.image.regions, feed.follow(number), shift, regions, fell_back)


def _work(
    job: Job, blocks: Iterator[Block] | None, feed: Feed | None, number: int, stop: _Stop, verify: bool, resume: bool
) -> None:
    def progress(stage: str, done: int, total: int) -> None:
        if stop.event.is_set():
            raise Interrupted("Stopped before the end.")
        job.progress(stage, done, total)

    try:
        job.result = build(
            job.image,
            job.medium,
            progress,
            verify=verify,
            resume=resume,
            blocks=blocks,
            shelf=job.shelf,
            prove=job.prove,
        )
    except KeystoneError as error:
        job.error = error
    except BaseException as fault:  # noqa: BLE001 - raised again by the main thread
        stop.fault = fault
        stop.event.set()
    finally:
        if feed is not None:
            feed.leave(number)
        job.ended.set()
