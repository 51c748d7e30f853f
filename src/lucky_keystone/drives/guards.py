"""The guards: why a drive may not be written. Pure: drives in, refusals out; nothing is opened and nothing is asked.

Each guard has its reason, and a way out where there is a legitimate one. The disks that carry the running system or the
source have none: no option, no confirmation and no other name of theirs makes them writable.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager, suppress
from enum import Enum
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from ..common.errors import ProtectError
from ..common.units import exact_size
from .drive import Drive


class Guard(Enum):
    """What holds a drive back. The value is the option that lifts it, '' where nothing does."""

    SYSTEM = ("system", "")
    SOURCE = ("source", "")
    IN_USE = ("in use", "--unmount")
    DEPENDED_ON = ("depended on", "")
    MEMBER = ("member", "--allow-member")
    INTERNAL = ("internal", "--allow-internal")
    READ_ONLY = ("read-only", "")
    TOO_SMALL = ("too small", "")
    AMBIGUOUS = ("ambiguous", "")

    @property
    def override(self) -> str:
        """The option that lifts this guard, '' where nothing does."""
        return self.value[1]


_FINAL = (Guard.SYSTEM, Guard.TOO_SMALL)
"""What nothing lifts, not even hands."""
OVERRIDABLE = frozenset(guard for guard in Guard if guard.override)
NONE_LIFTED: frozenset[Guard] = frozenset()


class Refusal(Struct, frozen=True):
    """One guard that holds a drive back."""

    guard: Guard
    reason: str
    """Completes 'it …'."""
    way_out: str
    """What a technician can do about it."""


def refusals(
    drive: Drive, *, among: Sequence[Drive] = (), needed: int = 0, holds_source: bool = False
) -> tuple[Refusal, ...]:
    """Return every guard that holds `drive` back, the gravest first.

    `among` are all drives listed at the same moment, `needed` the bytes a plan wants, `holds_source` whether the
    source lies on this drive.
    """
    found: list[Refusal] = []

    def hold(guard: Guard, reason: str, way_out: str) -> None:
        found.append(Refusal(guard, reason, way_out))

    if drive.holds_system:
        hold(Guard.SYSTEM, "holds this computer's system", "Choose another drive; this one is never written.")
    if holds_source:
        hold(
            Guard.SOURCE,
            "holds the source that is built from",
            "Copy the source to another disk, or choose another drive.",
        )
    if drive.internal:
        hold(Guard.INTERNAL, "is built into this computer", "If you really mean this drive, add --allow-internal.")
    if drive.mounts:
        hold(Guard.IN_USE, "is in use: " + ", ".join(drive.mounts), "Unmount it, or add --unmount.")
    for use in drive.uses:
        hold(Guard.DEPENDED_ON, use, "Stop what runs on it first: its RAID, LVM or encrypted volumes.")
    for member in drive.members:
        hold(Guard.MEMBER, member, "If its contents may be lost, add --allow-member.")
    if drive.read_only:
        hold(Guard.READ_ONLY, "is read-only", "Check for a write-protect switch on the stick or card.")
    alike = [other for other in among if other.tag == drive.tag]
    if sum(_traits(other) == _traits(drive) for other in alike) > 1:
        hold(
            Guard.AMBIGUOUS,
            "cannot be told apart from another drive with the same model, serial and size",
            "Unplug one of them: which is which cannot be told from here.",
        )
    elif len(alike) > 1:
        hold(Guard.AMBIGUOUS, f"has the tag {drive.tag}, and so has another drive by chance", "Unplug that one.")
    if needed > drive.size:
        hold(
            Guard.TOO_SMALL, f"is too small: {needed:,} bytes are needed, it has {drive.size:,}", "Use a larger drive."
        )
    return tuple(found)


def _traits(drive: Drive) -> tuple[str, str, int]:
    return drive.model, drive.serial, drive.size


def held_back(drive: Drive, among: Sequence[Drive] = ()) -> tuple[str, ...]:
    """Return why `drive` may not be written, in words; empty when it may."""
    return tuple(refusal.reason for refusal in refusals(drive, among=among))


def admit(
    confirmed: Drive,
    now: Sequence[Drive],
    *,
    needed: int = 0,
    lifted: Collection[Guard] = NONE_LIFTED,
    holds_source: bool = False,
) -> Drive:
    """Return the drive of the listing `now` that is the `confirmed` one and may be written.

    Raises ProtectError when it is gone, when anything about it changed since it was confirmed, or when a guard is
    that `lifted` does not lift. What is mounted may have changed: that is judged as it is now.
    """
    if not OVERRIDABLE.issuperset(lifted):
        raise AssertionError("a guard was to be lifted that has no override")
    same = [drive for drive in now if drive.tag == confirmed.tag]
    if not same:
        raise ProtectError(f"Drive {confirmed.tag} was disconnected.", advice="Plug it in, and list the drives again.")
    drive = same[0]
    standing = [
        refusal
        for refusal in refusals(drive, among=now, needed=needed, holds_source=holds_source)
        if refusal.guard not in lifted
    ]
    if standing:
        final = [refusal for refusal in standing if refusal.guard in _FINAL]
        raise ProtectError(
            f"Drive {confirmed.tag} ({confirmed.model}) is protected: it "
            + "; it ".join(r.reason for r in standing)
            + ".",
            # Where nothing lifts one of them, no option that lifts another one helps.
            advice=" ".join(dict.fromkeys(r.way_out for r in final or standing))
            + " 'lucky-keystone drives' shows which are free.",
        )
    words = _difference(confirmed, drive)
    if words:
        raise ProtectError(
            f"Drive {confirmed.tag} has changed since it was listed: {words}.",
            advice="List the drives again and look at it.",
        )
    return drive


def _difference(before: Drive, now: Drive) -> str:
    """What changed, in words; mounts are left to their own guard."""
    if replace(now, mounts=before.mounts, letters=before.letters) == before:
        return ""
    for name, words in (
        ("path", "its path changed"),
        ("size", "its size changed"),
        ("volumes", "something else is on it"),
    ):
        if getattr(before, name) != getattr(now, name):
            return f"{words} ({getattr(before, name) or 'nothing'} then, {getattr(now, name) or 'nothing'} now)"
    return "its description changed"


def refuse_changed_handle(confirmed: Drive, opened: object) -> None:
    """Raise ProtectError when the opened handle belongs to another drive than the confirmed one."""
    if opened != confirmed.identity:
        raise ProtectError(
            f"What was opened as {confirmed.path} is not drive {confirmed.tag} "
            f"({confirmed.model}, {exact_size(confirmed.size)}).",
            advice="Drives were plugged in or out meanwhile: list them again.",
        )


@contextmanager
def _looking_at(path: Path) -> Iterator[None]:
    """Raise ProtectError, within the block, for a target that cannot be looked at: it may be anything."""
    try:
        yield
    except FileNotFoundError:
        raise
    except OSError as error:
        raise ProtectError(
            f"{path} cannot be looked at: {error.strerror or error}.", advice="Choose another drive or image file."
        ) from error


def refuse_source_as_target(
    sources: Collection[Path], identities: Collection[tuple[int, int]], target_path: Path
) -> None:
    """Raise ProtectError when the target is one of the sources itself, or a file in a folder that is built from.

    `identities` are device and number of every file of the source: other names of theirs (hard links, other mounts) are
    theirs as well.
    """
    target = target_path.resolve()
    for path in (source.resolve() for source in sources):
        if target == path or path in target.parents:
            raise ProtectError(
                f"{target_path} is the source itself or lies in it.", advice="Choose another drive or image file."
            )
    with suppress(FileNotFoundError), _looking_at(target_path):
        facts = target.stat()
        if (facts.st_dev, facts.st_ino) in identities:
            raise ProtectError(
                f"{target_path} is the source itself, or a file of it, under another name.",
                advice="Choose another drive or image file.",
            )
