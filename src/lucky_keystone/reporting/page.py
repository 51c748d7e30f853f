"""What is on a drive's page, before anything is drawn: a title, and sections from top to bottom."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

from msgspec import Struct

from ..checking.check import Examined
from ..checking.report import Finding
from ..common.units import counted, exact_size, shown_rates, shown_size, sold_size
from ..drawing.areas import DrawnBlock
from ..machine.outlook import MachineOutlook
from ..shop.built import KeptBuild
from ..shop.log import LogEntry
from ..shop.trends import Trend
from ..starting.how import how_to_start
from ..starting.outlook import Outlook, Verdict, without_repeats
from ..tables.styles import STYLES

_FINDINGS, _ENTRIES, _MACHINES = 6, 6, 10
"""That are listed; of more the rest is counted."""
_LEVELS = {"fault": "FAULT", "start": "START", "used": "used", "note": "note"}
_FIRMWARE = {"bios": "BIOS", "uefi": "UEFI"}


class Facts(Struct, frozen=True):
    """Names with what is known."""

    heading: str
    rows: tuple[tuple[str, str], ...]


class Picture(Struct, frozen=True):
    """The whole drive, to scale."""

    heading: str
    size: int
    blocks: tuple[DrawnBlock, ...]


class Verdicts(Struct, frozen=True):
    """Where it starts."""

    heading: str
    rows: tuple[tuple[str, Verdict, str], ...]
    """Firmware or machine, verdict, reason."""


class Words(Struct, frozen=True):
    """Paragraphs."""

    heading: str
    paragraphs: tuple[str, ...]


Section = Facts | Picture | Verdicts | Words


class Page(Struct, frozen=True):
    """A page to keep with a drive."""

    title: str
    subtitle: str
    result: str
    """What the check made of it, in one line."""
    is_good: bool
    sections: tuple[Section, ...]
    closing: str


class Subject(Struct, frozen=True, kw_only=True):
    """The drive that the page is of."""

    name: str
    """Tag, or name of an image file."""
    model: str = ""
    serial: str = ""
    size: int
    source_sum: str = ""
    """SHA-256 of the source, where it was taken for this page."""
    source_fault: str = ""
    """Why the source that was given is not the one it was built from."""


def page_of(
    subject: Subject,
    seen: Examined,
    built: KeptBuild | None,
    history: Sequence[LogEntry],
    worse: Sequence[Trend],
    moment: datetime,
) -> Page:
    """Put together what is known of a drive that was checked. `history`: the newest first."""
    report = seen.report
    fullest = max(report.volumes, key=lambda volume: volume.file_count, default=None)
    label = fullest.label if fullest is not None else ""
    size = f"{sold_size(subject.size)} as sold, {shown_size(subject.size)} as shown by systems"
    hardware = ", ".join(filter(None, (subject.model, subject.serial and f"serial {subject.serial}")))
    sections: list[Section] = [
        Facts("What it is", tuple(_about(seen))),
        Facts("From which source", tuple(_source(subject, seen, built))),
        Picture("The whole drive, to scale", subject.size, tuple(_blocks(seen, subject.size))),
    ]
    if built is not None and built.decisions:
        rows = tuple((each.topic, f"{each.value} ({each.reason})") for each in built.decisions)
        sections.append(Facts("What was decided, and why", rows))
    if report.starts:
        sections.append(Verdicts("Where it starts", tuple(_outlooks(report.starts))))
    if report.on_machines:
        sections.append(Verdicts("On your machines", tuple(map(_on_machine, report.on_machines[:_MACHINES]))))
    if how := how_to_start(report.starts, _labels_for_macs(seen)):
        sections.append(Words("How to start from it", tuple(how)))
    if report.findings or report.unknown:
        sections.append(Words("What the check found", tuple(_findings(report.findings, report.unknown))))
    if history:
        sections.append(Facts("What was done to it", tuple(_history(history))))
    if worse:
        sections.append(Words("Getting worse", tuple(f"{each.what}. {each.advice}" for each in worse)))
    return Page(
        title=f"{subject.name}{f': {label}' if label else ''}",
        subtitle="; ".join(filter(None, (hardware, size))),
        result=_result(seen),
        is_good=report.exit_code == 0,
        sections=tuple(section for section in sections if not isinstance(section, Facts) or section.rows),
        closing=f"Checked on {moment:%Y-%m-%d} at {moment:%H:%M}. This page says what was seen then.",
    )


def _result(seen: Examined) -> str:
    report = seen.report
    faults = sum(finding.level == "fault" for finding in report.findings)
    if faults:
        return f"{counted(faults, 'fault')} found: do not use it before that is mended"
    if report.exit_code:
        return "Whole, but no firmware starts it"
    compared = f"; {exact_size(report.bytes_checked)} compared with its manifest" if report.bytes_checked else ""
    return f"No faults found{' in what could be checked' if report.unknown else ''}{compared}"


def _about(seen: Examined) -> Iterator[tuple[str, str]]:
    manifest = seen.manifest
    style = STYLES[seen.table.style].shown if seen.table.style else "none"
    yield "Partition table", f"{style}, sectors of {seen.sector_size} bytes"
    for number, volume in enumerate(seen.report.volumes, 1):
        name = f"Volume {number}" if len(seen.report.volumes) > 1 else "Volume"
        files = f"{counted(volume.file_count, 'file')}, {counted(volume.folder_count, 'folder')}"
        yield name, f"{volume.file_system} '{volume.label}', {files}, {shown_size(volume.free)} free"
    if manifest is not None:
        if manifest.about.starts_on:
            yield "Built to start on", " and ".join(_FIRMWARE[each] for each in manifest.about.starts_on)
        yield "Identity", f"{manifest.about.identity} (serial numbers and signatures derive from it)"
        yield "Built by", manifest.about.tool


def _source(subject: Subject, seen: Examined, built: KeptBuild | None) -> Iterator[tuple[str, str]]:
    if seen.manifest is None:
        yield "Source", "not known: the drive has no manifest"
        return
    source = seen.manifest.about.source
    label = f", labelled {source.label}" if source.label and source.label not in source.name else ""
    yield "Source", f"{source.name}{label}"
    if built is not None and built.source != source.name:
        yield "It lay at", built.source
    for number, part in enumerate(seen.manifest.about.parts, 1):
        words = [part.what, part.release, part.build and f"build {part.build}", "/".join(part.architectures)]
        needs = f"; asks for {part.needs}" if part.needs else ""
        yield f"Part {number}", f"{part.name}: {', '.join(filter(None, words))}; {shown_size(part.size)}{needs}"
    yield "Fingerprint", f"{source.fingerprint} (names, sizes and times of its files)"
    digest = subject.source_sum or (built.sha256 if built is not None else "")
    yield "SHA-256", digest or "not taken; 'report --source FILE' takes it"
    if subject.source_fault:
        yield "Careful", subject.source_fault
    if seen.manifest.about.laid_over:
        yield "Added", ", ".join(seen.manifest.about.laid_over)


def _blocks(seen: Examined, size: int) -> Iterator[DrawnBlock]:
    volumes = {volume.offset: volume for volume in seen.report.volumes}
    end = 0
    for number, each in enumerate(seen.partitions, 1):
        start, length = each.first_lba * seen.sector_size, each.sector_count * seen.sector_size
        volume = volumes.get(start)
        kind = volume.file_system if volume is not None else ""
        name = f"{kind} '{volume.label}'" if volume is not None else f"partition, {each.type_shown}"
        used = length - volume.free if volume is not None else length
        yield DrawnBlock(str(number), kind, name, start, length, max(used, 0), "active" if each.active else "")
        end = max(end, start + length)
    image_size = seen.manifest.about.image_size if seen.manifest is not None else 0
    if not seen.partitions and image_size:
        yield DrawnBlock("1", "image", "image, byte for byte", 0, image_size, image_size, "")
        end = image_size
    if size - end > size // 100:
        yield DrawnBlock("", "", "unused", end, size - end, 0, "")


def _outlooks(rows: Sequence[Outlook]) -> Iterator[tuple[str, Verdict, str]]:
    for row in without_repeats(rows):
        offers = f"; on its screen: {', '.join(row.offers)}" if row.offers else ""
        yield row.firmware, row.verdict, row.reason + offers


def _on_machine(row: MachineOutlook) -> tuple[str, Verdict, str]:
    return row.machine, row.verdict, f"{f'by {row.by}: ' if row.by else ''}{row.reason}"


def _labels_for_macs(seen: Examined) -> list[str]:
    return [found.volume.label() for found in seen.volumes if found.kind.names_loaders]


def _findings(findings: Sequence[Finding], unknown: Sequence[str]) -> Iterator[str]:
    order = list(_LEVELS)
    ranked = sorted(findings, key=lambda each: order.index(each.level))
    for finding in ranked[:_FINDINGS]:
        area = "" if finding.area == finding.level else f"{finding.area}: "
        advice = f" {finding.advice}" if finding.advice else ""
        yield f"{_LEVELS[finding.level]}: {area}{finding.what}{advice}"
    if len(ranked) > _FINDINGS:
        yield f"And {len(ranked) - _FINDINGS} more: 'lucky-keystone check' lists all."
    yield from (f"Not known: {line}" for line in unknown)


def _history(entries: Sequence[LogEntry]) -> Iterator[tuple[str, str]]:
    for entry in entries[:_ENTRIES]:
        measured = shown_rates(entry.reading, entry.writing)
        words = (
            entry.result,
            f"from {entry.label or entry.source}" if entry.source else "",
            measured,
            entry.detail.rstrip("."),
        )
        yield f"{entry.moment[:10]} {entry.command}", "; ".join(filter(None, words))
    if len(entries) > _ENTRIES:
        yield "Before", f"{counted(len(entries) - _ENTRIES, 'entry', 'entries')} more in the shop's record"
