"""What a family is: it recognises a source, says what is in it, and what it wishes of a drive.

A further family is one more module and a line in `families.FAMILIES`. Planning fits the wishes onto a drive and knows
no family.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, ClassVar, Literal, Protocol
from uuid import UUID

from msgspec import Struct

from ..common.errors import Share
from ..common.progress import Progress
from ..content.contents import Seekable
from ..content.tree import File, Folder
from ..starting.bios import SECTOR_SIZE
from ..starting.bootable import Bootable
from ..tables.mbr import MOST_SECTORS
from ..tables.partition import Use
from ..volumes.kind import ComposedKind
from .choices import Choices, TakenChoices

if TYPE_CHECKING:
    from ..machine.facts import MachineFacts
    from ..sources.diskimage import DiskImage
    from ..sources.source import Source
    from .facts import SourceFacts


class DriveShape(Struct, frozen=True):
    """What planning needs to know of the drive."""

    name: str
    """Tag or file name; the identity word unless one is chosen."""
    size: int | None
    """Bytes; None when an image file is to be made as large as needed."""
    sector_size: int = 512
    is_shared: bool = False
    """True when volumes of another source go onto it as well."""
    is_image_file: bool = False
    """True for an image file that is there."""
    reading: int = 0
    """Bytes a second that it was measured to give; 0 where it never was. Nothing is decided by that."""
    writing: int = 0
    """The same of writing."""

    @property
    def beyond_mbr(self) -> int:
        """Bytes at its end that an MBR cannot name."""
        return max((self.size or 0) // self.sector_size - MOST_SECTORS, 0) * self.sector_size

    @property
    def bios_fault(self) -> str:
        """Why no BIOS machine starts from such a drive; '' where they can."""
        if self.sector_size == SECTOR_SIZE:
            return ""
        return f"BIOS firmware reads sectors of {SECTOR_SIZE} bytes only, this drive has {self.sector_size}"


By = Literal["you", "plan", "preset", "machines", "tool"]


class Decision(Struct, frozen=True):
    """One decision with its reason."""

    topic: str
    value: str
    reason: str
    by: By = "tool"
    """The technician chose it, a saved plan, a preset or the machines to start have it so, or the tool decided."""
    choice: str = ""
    """The field of Choices it settles, '' for what follows from others."""


class Earlier(Struct, frozen=True):
    """Who made a choice before planning began, and why."""

    by: By
    reason: str


class SplitImage(Struct, frozen=True):
    """An install image that goes onto the drive in parts."""

    path: str
    size: int
    parts: tuple[tuple[str, int], ...]
    """Name and size in bytes of each part."""


class VolumeWish(Struct, frozen=True, kw_only=True):
    """A volume that a family asks for."""

    name: str
    """Tells the drive's volumes apart; serial numbers derive from it."""
    kind: ComposedKind
    tree: Folder
    label: str
    cluster: int | None = None
    """Bytes; None for what is usual."""
    takes_rest: bool = False
    """One volume of a drive takes what the others leave of it; they are as small as can be."""
    spare: int = 0
    """Bytes that stay free on a volume that does not take the rest, at least."""
    gap_behind: int = 0
    """Bytes left free between the volume and what follows it, the drive's end above all."""
    use: Use
    active: bool = False
    reason: str = ""
    """Why it is there."""
    note: str = ""
    """What is on it, in the layout; '' to have its parts listed."""


class DriveBytes(Struct, frozen=True):
    """Bytes that make a drive as they are, from its first one on."""

    content: Seekable

    def head(self, size: int) -> bytes:
        """Return the first `size` bytes, filled up with zeros where the image is shorter."""
        return self.content.read_at(0, min(size, self.content.size)).ljust(size, b"\0")


class PartitionPlace(Struct, frozen=True):
    """Where a partition is."""

    first_byte: int
    guid: UUID
    """Its own, which a GPT has of it."""


class DriveNames(Struct, frozen=True):
    """How a finished drive and its partitions are named by what is on it."""

    table: str
    signature: int
    """Of an MBR."""
    disk: UUID
    """Of a GPT."""
    partitions: Mapping[str, PartitionPlace]
    """By the names of volumes."""
    guid: Callable[[str], UUID]
    """Returns a GUID of the drive's own for any purpose."""


class DriveWish(Struct, frozen=True, kw_only=True):
    """What a family asks of a drive: volumes behind a table, or one image with everything."""

    choices: Choices
    """Settled as far as the family can; the clusters follow when the drive is measured."""
    table: str
    """'none' with an image."""
    volumes: Sequence[VolumeWish] = ()
    """In the order they lie on the drive; none with an image."""
    image: DriveBytes | None = None
    decisions: Sequence[Decision] = ()
    splits: tuple[SplitImage, ...] = ()
    laid_over: tuple[str, ...] = ()
    """Paths of files, and of folders with a '/' behind, that the source itself does not have, or has otherwise."""
    bootable: Bootable
    """What firmware will see."""
    settle: Callable[[DriveNames], Bootable] | None = None
    """Is told the drive's names as soon as everything has its place, settles contents that hold them, and returns what
    firmware will see then; None where nothing on the drive names it."""


class Proposal(Struct, frozen=True):
    """Values for choices that are open, for machines that a drive is to serve."""

    values: Mapping[str, str]
    reason: str = ""
    """'' where it follows from trying them."""


class Supply(Struct, frozen=True):
    """A file that a source gives for a place on a drive."""

    file: File
    where: str
    """Where it comes from, in words."""


class Question(Struct, frozen=True):
    """A choice that is still open, for a person who can be asked: a row for each answer."""

    words: str
    heads: tuple[str, ...]
    rows: Sequence[tuple[str, ...]]
    answers: Sequence[Choices]
    """The choices as each answer makes them."""


INSTALL = "install"
"""The purpose of a drive when none is chosen."""


class Family(Protocol):
    """A kind of source, and the drives it becomes. What has a body here is what most families answer."""

    name: ClassVar[str]
    """In JSON."""
    shown: ClassVar[str]
    purpose: ClassVar[str] = INSTALL
    """The word of --purpose that makes such drives."""
    takes: ClassVar[TakenChoices]
    """The choices there are for its drives."""
    alone: ClassVar[str] = ""
    """Why nothing else fits onto a drive of it, completing 'FILE is …'; '' where something does."""
    must_start: ClassVar[bool] = True
    """True when a drive of it that starts nowhere is of no use."""
    read_beside: ClassVar[frozenset[str]] = frozenset()
    """Options whose files are read by what is on the drive: --answer-file, --drivers."""
    lacking: ClassVar[str] = ""
    """Of a family that is asked for by its purpose: what a source that is not of it lacks, completing 'FILE …'."""
    without_purpose: ClassVar[str] = ""
    """Of such a family: what a source is called that no other family knows, while the purpose is not chosen."""

    def recognises(self, source: Source) -> bool:
        """Tell whether `source` is of this family, by a look at its names or first bytes."""

    def facts(self, source: Source) -> SourceFacts:
        """Return what a technician and the planner need to know of it. Reads no contents."""

    def wish(self, source: Source, choices: Choices, drive: DriveShape) -> DriveWish:
        """Decide everything that is not chosen.

        Raises UsageError or SourceError with the reason, and the nearest choice that works.
        """

    def joined(self, source: Source) -> Source:
        """Return the source with those of the further ones that go into its own volumes as `joined`."""
        return source

    def on_drive(self, source: Source) -> Folder:
        """Return what of the source lies on its drives, file by file, to compare a drive with."""
        return source.root

    def is_on(self, drive: Bootable) -> bool:
        """Tell whether a drive is of this family, although its source is one of a family with another purpose."""
        return False

    def shares(self, source: Source, choices: Choices) -> Sequence[Share]:
        """Return the parts of a source that can be left out, each with the bytes that a drive saves without it."""
        return (Share(source.path.name, "", sum(file.size for _, file in source.root.files())),)

    def supplied(self, source: Source, path: str) -> Supply | None:
        """Return the file that belongs at `path` of a drive which has lost it; None where the source has none."""
        return None

    def disk_images(self, source: Source) -> Sequence[DiskImage]:
        """Return the disk images in a source that carry checksums of their own, the source itself too."""
        return (source.disk_image,) if source.disk_image else ()

    def prove(self, source: Source, progress: Progress) -> Sequence[str]:
        """Read what a source of this kind has sums of, beside disk images; return a line for each proof.

        Raises SourceError for what is damaged.
        """
        return ()

    def question(self, source: Source, choices: Choices) -> Question | None:
        """Return what is still to be chosen before a drive can be planned, None where nothing is."""
        return None

    def for_secure_boot(self) -> Sequence[Proposal]:
        """Return what may let machines start a drive of it that have Secure Boot on."""
        return ()

    def for_shortfalls(self, source: Source, machines: Sequence[MachineFacts]) -> Sequence[Proposal]:
        """Return what lets a release be used on machines that lack what it asks for."""
        return ()

    def refuse_update(self) -> None:
        """Raise UsageError with the reason when such a drive cannot be updated."""
        return
