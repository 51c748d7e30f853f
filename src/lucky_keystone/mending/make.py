"""Decides what is written onto a drive to mend it, before anything is.

The drive is examined as `check` does; each finding has a remedy or a reason why it stays. Remedies are tried on a
draft, which is examined in turn: boot sectors that are back may show what else is wrong. A remedy is dropped when the
finding is still there on the draft, when it brings a fault that was not there before, or when a file that could be
read no longer can be.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct

from ..checking.bootwalk import is_plain
from ..checking.check import Examined, examine_drive
from ..checking.codes import Code
from ..checking.report import Finding, Place
from ..common.errors import DriveError
from ..common.progress import Progress
from ..content.contents import SizedReadable
from ..starting.bios import LOADER
from ..starting.foreign import Does
from .draft import Draft
from .judging import harm, readable_files
from .remedy import Case, Change, NotMended, Remedy, Wishes
from .rules import CONSEQUENCES, LEFT_NOTES, MENDED_NOTES, remedy_for
from .watched import Watched

_ROUNDS = 8
"""Of remedies on top of each other; a drive that needs more is not understood."""
_DIAGNOSES = 3

Examine = Callable[[SizedReadable], Examined]
_Key = tuple[str, int | None, str]
_Counts = Counter[_Key]
NOTHING_ASKED = Wishes()


class Mending(Struct, frozen=True):
    """What is to be done about a drive."""

    before: Examined
    after: Examined
    """The drive as it will be."""
    remedies: tuple[Remedy, ...]
    left: tuple[NotMended, ...]
    firmware: str = ""
    """What the drive was asked to start on, as `check_drive` takes it."""

    @property
    def leaves_faults(self) -> bool:
        """True when the mended drive is not healthy, or nothing starts it."""
        return self.after.report.exit_code != 0

    @property
    def changes(self) -> tuple[Change, ...]:
        """Everything that is written; of changes to the same bytes the later one counts."""
        return tuple(change for remedy in self.remedies for change in remedy.changes)


def make_mending(
    drive: SizedReadable,
    sector_size: int,
    progress: Progress,
    *,
    kept: bytes | None = None,
    firmware: str = "",
    wishes: Wishes = NOTHING_ASKED,
) -> Mending:
    """Return what mends `drive`, without writing to it. The parameters are those of `check_drive`.

    What rests on a read that failed and then did not is decided again. Raises DriveError for a drive where that
    happens each time.
    """

    def examine(view: SizedReadable) -> Examined:
        return examine_drive(view, sector_size, kept=kept, firmware=firmware)

    for _ in range(_DIAGNOSES):
        watched = Watched(drive)
        try:
            mending = _Maker(watched, examine, wishes, firmware, progress).make()
        except DriveError:
            if (place := watched.passed()) is None:
                raise
        else:
            if (place := watched.passed()) is None:
                return mending
    raise DriveError(
        f"The drive can be read at one moment and not at the next (at byte {place}, among others).",
        advice="Try another port or cable, then mend again. If it stays like this, the drive is worn out.",
    )


class _Maker:
    """Continues from state to state of one drive."""

    def __init__(
        self, drive: SizedReadable, examine: Examine, wishes: Wishes, firmware: str, progress: Progress
    ) -> None:
        self._drive, self._examine, self._wishes, self._progress = drive, examine, wishes, progress
        self._asked = self._firmware = firmware
        self._taken: list[Remedy] = []
        self._reasons: dict[_Key, NotMended] = {}
        """Why findings stay, as things are."""
        self._refused: dict[_Key, NotMended] = {}
        """Why findings stay whose remedy was tried on a draft."""

    def make(self) -> Mending:
        before = now = self._examine(self._drive)
        about = before.manifest.about if before.manifest else None
        if not self._firmware and about is not None and len(about.starts_on) == 1:
            self._firmware = about.starts_on[0]
        self._files = readable_files(before.volumes)
        for number in range(_ROUNDS):
            self._progress("examining", number, _ROUNDS)
            following = self._round(now)
            if following is None:
                break
            now = following
        self._progress("examining", 1, 1)
        left = [self._left(now, finding) for finding in self._findings(now) if self._is_asked_for(finding)]
        notes = () if self._wishes.replace_code else now.report.findings
        left += [NotMended(each, "it may be there on purpose", "") for each in notes if each.code in LEFT_NOTES]
        return Mending(before, now, tuple(self._taken), tuple(left), self._asked)

    def _round(self, now: Examined) -> Examined | None:
        """Take the remedies for what is found now; return the drive as it would be, None when nothing more is done."""
        proposed = self._proposed(now)
        if not proposed:
            return None
        together = self._try(now, proposed)
        if together is not None:
            return together
        for remedy in proposed:  # one of them does harm, or nothing at all: find out which
            alone = self._try(now, [remedy])
            if alone is not None:
                return alone
            why = self._fault
            self._refused[_key(remedy.finding)] = NotMended(remedy.finding, why, remedy.finding.advice)
        return None

    def _proposed(self, now: Examined) -> list[Remedy]:
        """Return a remedy for each finding that has one; none that touches what another one does."""
        case = Case(self._draft([]), now, self._wishes)
        chosen: list[Remedy] = []
        for finding in self._findings(now):
            if not self._is_asked_for(finding) or finding.code in CONSEQUENCES or _key(finding) in self._refused:
                continue
            outcome = remedy_for(case, finding)
            if isinstance(outcome, NotMended):
                self._reasons[_key(finding)] = outcome
            elif not any(_overlap(outcome, other) for other in chosen):
                chosen.append(outcome)
        return chosen

    def _try(self, now: Examined, proposed: Sequence[Remedy]) -> Examined | None:
        """Return the drive as it would be with these remedies as well; None, the reason kept, if it must not be."""
        after = self._examine(self._draft(proposed))
        self._fault = self._objection(now, after, proposed)
        if self._fault:
            return None
        self._taken += proposed
        return after

    def _objection(self, now: Examined, after: Examined, proposed: Sequence[Remedy]) -> str:
        here, there = self._faults(now), self._faults(after)
        for remedy in proposed:
            if there[_key(remedy.finding)] >= here[_key(remedy.finding)]:
                return "the remedy there is does not help here"
        if worse := [key for key in there if there[key] > here[key] and _is_harm(key, now, after)]:
            return f"mending it would bring another fault ({worse[0][0]})"
        remedies = [*self._taken, *proposed]
        changes = [change for remedy in remedies for change in remedy.changes]
        replaced = {key for remedy in remedies for key in remedy.replaces}
        return harm(self._files, readable_files(after.volumes), changes, replaced)

    def _draft(self, proposed: Sequence[Remedy]) -> Draft:
        return Draft(self._drive, (change for remedy in (*self._taken, *proposed) for change in remedy.changes))

    def _findings(self, examined: Examined) -> list[Finding]:
        """Return what a check found and, on request, others' boot code that is to be replaced."""
        found = list(examined.report.findings)
        return found + (list(_foreign_code(examined)) if self._wishes.replace_code else [])

    def _faults(self, examined: Examined) -> _Counts:
        return Counter(_key(finding) for finding in self._findings(examined) if is_to_be_mended(finding))

    def _is_asked_for(self, finding: Finding) -> bool:
        """Leave out what only other firmware misses than the one that was asked for."""
        other = finding.level == "start" and self._firmware in ("bios", "uefi") and finding.firmware
        return is_to_be_mended(finding) and (not other or finding.firmware == self._firmware)

    def _left(self, now: Examined, finding: Finding) -> NotMended:
        known = self._refused.get(_key(finding)) or self._reasons.get(_key(finding))
        if known is not None:
            return NotMended(finding, known.why, known.advice)
        if is_plain(now.walked):
            return NotMended(finding, "there is nothing on it to start", finding.advice)
        return NotMended(finding, "the cause is unknown", finding.advice)


def is_to_be_mended(finding: Finding) -> bool:
    """Tell whether a finding is one that mending is for."""
    return finding.level in ("fault", "start") or finding.code in MENDED_NOTES


def _key(finding: Finding) -> _Key:
    return finding.code, finding.place.volume, finding.place.file


def _foreign_code(examined: Examined) -> Iterator[Finding]:
    """Yield a finding for boot code of others on the way to BOOTMGR, which a check takes as it is."""
    drive = examined.walked
    bearers = [volume for volume in drive.volumes if volume.find(LOADER) is not None]
    if drive.table != "mbr" or drive.sector_size != 512 or not bearers:
        return
    if drive.record == "other" and drive.record_code.does is not Does.GIVES_UP:
        yield Finding("start", Code.START_FOREIGN_MBR_CODE, "start", "sector 0 has another maker's boot code.")
    for volume in bearers:
        if volume.boot_code == "other" and volume.code.does is not Does.GIVES_UP:
            what, place = "the volume's boot sector has another maker's boot code.", Place(volume.partition.number)
            yield Finding("start", Code.START_FOREIGN_CODE, "start", what, place=place)


def _is_harm(key: _Key, now: Examined, after: Examined) -> bool:
    """Tell a fault that a remedy brings from one that it makes visible: of a volume that could not be read before."""
    if key[0] in CONSEQUENCES:
        return False
    seen = {each.partition.number for each in now.walked.volumes}
    return key[1] in seen if key[1] is not None else len(after.volumes) <= len(now.volumes)


def _overlap(one: Remedy, other: Remedy) -> bool:
    return any(a.offset < b.end and b.offset < a.end for a in one.changes for b in other.changes)
