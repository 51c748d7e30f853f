"""What is written, in whole sectors and in order: each step with the bytes that are then there."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct

from ..content.contents import Content, SizedReadable, stream
from .draft import Draft
from .remedy import Change, Order

_LARGEST = 1 << 20
"""Bytes of a step, and of a piece of a file."""


class Step(Struct, frozen=True):
    """Whole sectors that are written at once, or a file's bytes, written front to back."""

    order: Order
    offset: int
    data: bytes | Content

    @property
    def size(self) -> int:
        return len(self.data) if isinstance(self.data, bytes) else self.data.size

    def pieces(self) -> Iterator[tuple[int, bytes]]:
        """Yield what is written: byte of the drive, and bytes."""
        if isinstance(self.data, bytes):
            yield self.offset, self.data
            return
        at = self.offset
        for piece in stream(self.data, _LARGEST):
            yield at, bytes(piece)
            at += len(piece)


def make_steps(drive: SizedReadable, changes: Sequence[Change], sector_size: int) -> list[Step]:
    """Return the steps of changes to a drive; none where they change nothing."""
    steps: list[Step] = []
    draft = Draft(drive)
    for order in Order:
        mine = [change for change in changes if change.order is order]
        before = {number: draft.read_at(number * sector_size, sector_size) for number in _sectors(mine, sector_size)}
        for change in mine:
            draft.put(change)
            if not isinstance(change.data, bytes):
                steps.append(Step(order, change.offset, change.data))
        after = {number: draft.read_at(number * sector_size, sector_size) for number in before}
        touched = sorted(number for number in before if before[number] != after[number])
        steps += [
            Step(order, run[0] * sector_size, b"".join(after[number] for number in run))
            for run in _neighbours(touched, _LARGEST // sector_size)
        ]
    _refuse_other_end(drive, changes, draft)
    return steps


def _sectors(changes: Iterable[Change], sector_size: int) -> set[int]:
    """Return the sectors of changes that are bytes."""
    return {
        number
        for change in changes
        if isinstance(change.data, bytes)
        for number in range(change.offset // sector_size, -(-change.end // sector_size))
    }


def _neighbours(numbers: Sequence[int], most: int) -> Iterator[list[int]]:
    """Yield runs of numbers that follow each other, none of more than `most`."""
    run: list[int] = []
    for number in numbers:
        if run and (number != run[-1] + 1 or len(run) == most):
            yield run
            run = []
        run.append(number)
    if run:
        yield run


def _refuse_other_end(drive: SizedReadable, changes: Sequence[Change], draft: Draft) -> None:
    """Make sure that the order of writing leads to the very drive that was examined."""
    meant = Draft(drive, changes)
    for change in changes:
        if isinstance(change.data, bytes) and (
            draft.read_at(change.offset, change.size) != meant.read_at(change.offset, change.size)
        ):
            raise AssertionError(f"in the order of writing, {change.what} would not be what was examined")
