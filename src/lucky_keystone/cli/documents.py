"""The JSON documents that commands print, declared once: their schemas are made from these (tools/make-schemas).

Sizes and offsets are in bytes, times in seconds, rates in bytes a second.
"""

from __future__ import annotations

from typing import Any, Literal, Self

import msgspec
from msgspec import UNSET, UnsetType

from ..building.build import BuildResult
from ..checking.report import Finding, VolumeSummary
from ..doing.parts import DrivePart
from ..drawing.areas import Part
from ..families.asking import Shortfall
from ..families.choices import Choices
from ..families.facts import SourceFacts
from ..families.family import Decision, SplitImage
from ..families.signing import LoaderSignature
from ..fetching.catalogue import CatalogueImage, Offer
from ..gauging.capacity import Verdict as CapacityVerdict
from ..gauging.gauge import Mode
from ..machine.outlook import MachineOutlook
from ..machine.requirements import Requirement
from ..starting.outlook import Outlook
from ..wim.read import Edition
from .events import Document, ProgressEvent
from .shop_documents import (
    BatchDocument,
    DataDocument,
    LogDocument,
    LogPruneDocument,
    MachineDocument,
    PresetsDocument,
)


class DriveBody(msgspec.Struct, kw_only=True):
    """A drive as `drives` lists it."""

    tag: str
    """Four characters from its model, serial and size; the same in every port."""
    model: str
    serial: str
    size: int
    sector_size: int
    physical_sector_size: int
    bus: str
    speed: str
    removable: bool
    path: str
    contents: str
    """What is on it, in words."""
    held_back: tuple[str, ...]
    """Why it is not written to; empty when it is free."""


class DrivesDocument(Document, kw_only=True):
    """`drives`."""

    command: Literal["drives"] = "drives"
    bay: str | None
    """The folder of simulated drives; null for this computer."""
    drives: list[DriveBody]
    optical: list[OpticalBody]


class OpticalBody(msgspec.Struct, kw_only=True):
    """An optical drive: its disc is a source."""

    path: str
    model: str
    state: str
    """'a disc', 'no disc', 'tray open', 'not ready', 'not known'."""
    size: int
    """Bytes of the disc; 0 where the drive says nothing."""


class DriveEvent(Document, kw_only=True):
    """A line of `drives --watch`."""

    command: Literal["drives"] = "drives"
    event: Literal["appeared", "disappeared"]
    drive: DriveBody


class InspectDocument(Document, kw_only=True):
    """`inspect SOURCE`."""

    command: Literal["inspect"] = "inspect"
    source: str
    facts: SourceFacts
    fingerprint: str
    proofs: list[str]
    """What was verified, a line each."""
    signatures: tuple[LoaderSignature, ...]
    """Of the UEFI loaders; a loader without one is unsigned."""
    needed: int | None
    """What a drive must have; null when none can be built."""
    cannot_be_built: str
    """Why none can be built; empty when one can."""
    model: Requirement | None = None
    """With --for: whether the release is for that Mac."""
    parts: tuple[DrivePart, ...] = ()
    """Of a drive that was built from several sources: what they are."""


class FoundInstaller(msgspec.Struct, kw_only=True):
    """An installer that `inspect --find` found."""

    path: str
    family: str
    """What it is, in words."""
    release: str
    refused: str
    """Why it cannot be read; empty when it can."""


class FindDocument(Document, kw_only=True):
    """`inspect --find`."""

    command: Literal["inspect"] = "inspect"
    places: list[str]
    """The folders that were looked through."""
    found: list[FoundInstaller]


class ListedEntry(msgspec.Struct, kw_only=True):
    """A file or folder of an edition."""

    path: str
    kind: Literal["file", "folder", "link"]
    size: int
    sha1: str
    """Of its bytes; empty where it has none."""
    modified: str
    """UTC, ISO 8601, to the second."""
    attributes: int
    """As NTFS has them."""
    short_name: str
    streams: list[str]
    """Names of its further streams."""


class EditionDocument(Document, kw_only=True):
    """`inspect --edition --list`."""

    command: Literal["inspect"] = "inspect"
    image: str
    edition: Edition
    entries: list[ListedEntry]


class TakenFile(msgspec.Struct, kw_only=True):
    """A file that was taken out of an edition."""

    path: str
    into: str
    size: int
    sha1: str
    streams: int
    """Named streams that it has, which were left out."""


class TakenDocument(Document, kw_only=True):
    """`inspect --edition --take`."""

    command: Literal["inspect"] = "inspect"
    image: str
    edition: Edition
    files: list[TakenFile]


class PlannedSource(msgspec.Struct, kw_only=True):
    """The source of a plan."""

    path: str
    label: str
    fingerprint: str


class PlannedFor(msgspec.Struct, kw_only=True):
    """The drive a plan is for."""

    name: str
    size: int | None
    sector_size: int


class AreaBody(msgspec.Struct, kw_only=True):
    """A stretch of the drive."""

    name: str
    part: Part
    offset: int
    size: int
    note: str
    title: str


class PlanBody(msgspec.Struct, kw_only=True):
    """A plan: decisions with reasons, where everything lies, where the drive will start."""

    source: PlannedSource
    drive: PlannedFor
    choices: Choices
    decisions: tuple[Decision, ...]
    layout: list[AreaBody]
    splits: tuple[SplitImage, ...]
    needed: int
    free: int
    """What stays free in the volume that takes the rest."""
    unused: int
    """What no partition reaches."""
    forecast: tuple[Outlook, ...]


class PlanDocument(PlanBody, kw_only=True):
    """`plan`."""

    schema: Literal[1] = 1
    command: Literal["plan"] = "plan"
    on_machines: tuple[MachineOutlook, ...]
    """On each machine that was given with --machine."""
    shortfalls: tuple[Shortfall, ...]
    """Where these machines do not have what the release asks for."""


class CheckBody(msgspec.Struct, kw_only=True):
    """What a check found."""

    healthy: bool
    findings: list[Finding]
    built_from: str
    """Name of the source by the manifest; empty without one."""
    built_by: str
    volumes: list[VolumeSummary]
    bytes_checked: int
    """Bytes compared with the manifest."""
    starts: tuple[Outlook, ...]
    on_machines: tuple[MachineOutlook, ...]
    """On each machine that was given with --machine."""
    looked_at: list[str]
    """What was examined, a line each."""
    unknown: list[str]
    """What could not be known, and why."""


class CheckDocument(CheckBody, kw_only=True):
    """`check`."""

    schema: Literal[1] = 1
    command: Literal["check"] = "check"
    drive: str


class Fault(msgspec.Struct, kw_only=True):
    """An error: what happened, what to do, and the program's exit code for it."""

    message: str
    advice: str
    exit_code: int


class ErrorDocument(Document, kw_only=True):
    """What every command prints in place of its document when it fails."""

    error: Fault


class BuiltDrive(msgspec.Struct, kw_only=True):
    """The result for one drive of a build. For a build of one drive these fields are at the top as well."""

    name: str | UnsetType = UNSET
    plan: PlanBody | UnsetType = UNSET
    drive: str | UnsetType = UNSET
    result: BuildResult | UnsetType | None = UNSET
    """Null when it failed."""
    retries: int | UnsetType = UNSET
    own_pass: bool | UnsetType = UNSET
    """True when it was too slow for the others and was finished separately."""
    check: CheckBody | UnsetType | None = UNSET
    notes: list[str] | UnsetType = UNSET
    error: Fault | UnsetType | None = UNSET


class BuildDocument(BuiltDrive, kw_only=True):
    """`build`."""

    schema: Literal[1] = 1
    command: Literal["build"] = "build"
    proofs: list[str]
    """What was verified of the source, a line each."""
    drives: list[BuiltDrive]


class RehearsalDocument(Document, kw_only=True):
    """`rehearse`: the drive's BIOS boot code in a processor emulation."""

    command: Literal["rehearse"] = "rehearse"
    drive: str
    firmware: str
    starts: bool
    steps: tuple[str, ...]
    end: str
    """Where it ended and why, as one sentence."""
    sectors_read: int


class StartDocument(Document, kw_only=True):
    """`rehearse --firmware`: the drive under real firmware in an emulator."""

    command: Literal["rehearse"] = "rehearse"
    drive: str
    firmware: str
    picture: str | None
    """Where the picture of the screen was written."""
    serial: str
    """Text from the serial port."""
    screen: str
    """Text on a BIOS's screen."""
    ended: bool
    """True when the machine switched itself off."""
    seconds: float


class RatesBody(msgspec.Struct, kw_only=True):
    """Rates over a drive's length."""

    typical: int
    slowest: int
    fastest: int
    bad: list[tuple[int, int]]
    """Offset and size of each area that failed."""
    samples: list[tuple[int, int, float]]
    """Offset, size, seconds."""


class GaugeDocument(Document, kw_only=True):
    """`gauge`."""

    command: Literal["gauge"] = "gauge"
    drive: str
    mode: Mode
    healthy: bool
    claimed_size: int
    capacity: CapacityVerdict
    real_size: int | None
    """What it really holds; null when not known."""
    summary: str
    reading: RatesBody
    writing: RatesBody | None


class RestoreDocument(Document, kw_only=True):
    """`gauge --restore`."""

    command: Literal["gauge"] = "gauge"
    drive: str
    mode: Literal["restore"] = "restore"
    places_restored: int


class ReclaimDocument(Document, kw_only=True):
    """`reclaim`."""

    command: Literal["reclaim"] = "reclaim"
    drive: str
    label: str
    file_system: str
    result: BuildResult
    notes: list[str]


class WriteBody(msgspec.Struct, kw_only=True):
    """Bytes of the drive that a repair replaces."""

    offset: int
    size: int
    what: str


class RemedyBody(msgspec.Struct, kw_only=True):
    """What is written about a finding."""

    finding: Finding
    what: str
    evidence: str
    """Why it is certain; empty where the finding says it."""
    writes: list[WriteBody]


class LeftBody(msgspec.Struct, kw_only=True):
    """A finding that is not mended."""

    finding: Finding
    why: str
    advice: str


MendState = Literal["nothing to mend", "planned", "mended"]
"""The result of repairing a drive."""


class MendDocument(Document, kw_only=True):
    """`mend`."""

    command: Literal["mend"] = "mend"
    drive: str
    state: MendState
    remedies: list[RemedyBody]
    left: list[LeftBody]
    starts: list[Outlook]
    """Where the mended drive starts."""
    differing: list[Finding] | None
    """What a comparison of the bytes found where nothing else is to be mended; null where none was made."""
    journal: str | None
    """The file that --undo takes; null when nothing was written."""
    bytes_written: int
    notes: list[str]


class MendUndoneDocument(Document, kw_only=True):
    """`mend --undo`."""

    command: Literal["mend"] = "mend"
    drive: str
    journal: str
    state: Literal["undone"] = "undone"
    bytes_written: int


class UndoFile(msgspec.Struct, frozen=True):
    """A file by which a repair can be taken back."""

    path: str
    drive: str
    """Tag, or name of an image file."""
    moment: str
    state: Literal["not begun", "written", "cut off", "undone"]


class MendListDocument(Document, kw_only=True):
    """`mend --list`."""

    command: Literal["mend"] = "mend"
    state: Literal["listed"] = "listed"
    undo_files: list[UndoFile]


class ReportDocument(Document, kw_only=True):
    """`report`."""

    command: Literal["report"] = "report"
    drive: str
    page: str
    """The file that was written."""
    check: CheckBody


class PartBody(msgspec.Struct, kw_only=True):
    """A part of a split install image."""

    path: str
    size: int
    resources: int
    was_there: bool
    """True where it was there already, byte for byte: nothing was written."""


class SplitDocument(Document, kw_only=True):
    """`split`."""

    command: Literal["split"] = "split"
    image: str
    parts: list[PartBody]


class FetchDocument(Document, kw_only=True):
    """`fetch`."""

    command: Literal["fetch"] = "fetch"
    path: str
    size: int
    sha256: str
    proven: bool
    """True where it is the sum that was given."""
    origin: str
    """Scheme, server and path of the link, without anything that may be secret."""
    resumed_at: int
    """Bytes that were here already."""
    interruptions: int
    damaged: int
    """Bytes here that had changed, and were fetched again."""
    connections: int
    """How many were used at the same time, at most."""
    stored: bool
    """True where it went into the store."""
    was_there: bool
    """True where it was in the store already: nothing was downloaded."""


class ListedOffer(msgspec.Struct, kw_only=True):
    """An image or a release of a catalogue."""

    file: str
    title: str
    release: str
    build: str
    language: str
    architecture: str
    editions: list[str]
    posted: str
    """The day on which it was put into the catalogue; empty where that is not said."""
    size: int
    model: Requirement | None = None
    """With --for: whether the release is for that Mac."""

    @classmethod
    def of(cls, offer: Offer, model: Requirement | None = None) -> Self:
        names = (name for name in cls.__struct_fields__ if name != "model")
        return cls(**{name: getattr(offer, name) for name in names}, model=model)


class OffersDocument(Document, kw_only=True):
    """`fetch --list`."""

    command: Literal["fetch"] = "fetch"
    offers: list[ListedOffer]
    """The newest first."""


class FetchedPartBody(msgspec.Struct):
    """A part of a release that was fetched."""

    path: str
    size: int
    sha256: str
    """Empty of one that was there, and is known by another sum."""
    proven: bool
    """True where it has the sum that the catalogue names."""
    was_there: bool


class ReleaseDocument(Document, kw_only=True):
    """`fetch` from a catalogue of macOS releases."""

    command: Literal["fetch"] = "fetch"
    release: str
    build: str
    product: str
    """Its number in the catalogue."""
    source: str
    """What a drive is built from."""
    parts: list[FetchedPartBody]


class RecordDocument(Document, kw_only=True):
    """`fetch --record`."""

    command: Literal["fetch"] = "fetch"
    catalogue: str
    added: bool
    """False where it was in it already."""
    image: CatalogueImage


class StoredBody(msgspec.Struct, kw_only=True):
    """An image of the store. Moments in UTC, ISO 8601; empty where they are not known."""

    name: str
    path: str
    size: int
    sha256: str
    proven: bool
    """True where the sum was known before the image came."""
    damaged: bool
    """True where it no longer has its sum (--verify)."""
    words: str
    """What it is, where a catalogue said it."""
    origin: str
    fetched: str
    used: str
    checked: str
    """When it was last compared with its sum."""


class ImagesDocument(Document, kw_only=True):
    """`images`."""

    command: Literal["images"] = "images"
    store: str
    images: list[StoredBody]
    forgotten: list[str]
    """Names of the images that were deleted."""


class CommandRun(msgspec.Struct, kw_only=True):
    """A command that was run, with the document that it printed."""

    command_line: str
    exit_code: int
    document: Any


class DemoDocument(Document, kw_only=True):
    """`demo`."""

    command: Literal["demo"] = "demo"
    folder: str
    steps: list[CommandRun]


class CollectDocument(Document, kw_only=True):
    """`collect`."""

    command: Literal["collect"] = "collect"
    program: str
    """Version of this program."""
    python: str
    system: str
    """Name and version of the operating system."""
    processor: str
    runs: list[CommandRun]
    """Serial numbers in their documents are shortened."""


DOCUMENTS: dict[str, tuple[type[msgspec.Struct], ...]] = {
    "drives": (DrivesDocument, DriveEvent),
    "inspect": (InspectDocument, FindDocument, EditionDocument, TakenDocument),
    "plan": (PlanDocument,),
    "build": (BuildDocument, BatchDocument),
    "check": (CheckDocument,),
    "rehearse": (RehearsalDocument, StartDocument),
    "gauge": (GaugeDocument, RestoreDocument),
    "machine": (MachineDocument,),
    "mend": (MendDocument, MendUndoneDocument, MendListDocument),
    "reclaim": (ReclaimDocument,),
    "presets": (PresetsDocument,),
    "report": (ReportDocument,),
    "log": (LogDocument, LogPruneDocument),
    "split": (SplitDocument,),
    "fetch": (FetchDocument, RecordDocument, OffersDocument, ReleaseDocument),
    "images": (ImagesDocument,),
    "data": (DataDocument,),
    "collect": (CollectDocument,),
    "demo": (DemoDocument,),
    "error": (ErrorDocument,),
    "progress": (ProgressEvent,),
}
"""Which documents each command prints."""
