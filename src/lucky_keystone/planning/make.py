"""From a source, choices and a drive to a plan: the family wishes, the wishes are fitted, everything has its reason."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from types import MappingProxyType

import msgspec
from msgspec.structs import replace

from ..common.errors import DoesNotFit, KeystoneError, Share, SourceError, UsageError
from ..common.units import shown_size
from ..content.extents import MIB
from ..families.choices import Choices, check_choices
from ..families.families import family_for, known_family
from ..families.family import By, Decision, DriveShape, DriveWish, Earlier, Family
from ..machine.known import KnownMachine
from ..sources.source import Source
from ..starting.outlook import Outlook
from ..starting.rules import outlooks
from ..starting.trust import ANY_MACHINE, Machine
from ..tables.styles import STYLES
from ..volumes.kind import StandingVolume
from .fitting import FROM_SCRATCH, STAYS, Fitted, areas_of, fit, fit_again
from .identity import names_of, numbers_of
from .plan import FittedVolume, Plan
from .proposing import proposed

_LISTED = 3
NOTHING_EARLIER: Mapping[str, Earlier] = MappingProxyType({})


def make_plan(
    source: Source,
    choices: Choices,
    drive: DriveShape,
    standing: Sequence[StandingVolume] = (),
    machine: Machine = ANY_MACHINE,
    earlier: Mapping[str, Earlier] = NOTHING_EARLIER,
    machines: Sequence[KnownMachine] = (),
) -> Plan:
    """Decide everything that is not chosen. Raises UsageError or SourceError when no drive can be built.

    With `standing` volumes the drive is to be updated: they stay, and so does what did not change on them. `machine` is
    what the drive is to start, for the forecast. `earlier` says of choices that were not made on the command line who
    made them; `machines` decide what is still open so that the drive starts them.
    """
    check_choices(choices, drive.sector_size)
    family = family_for(source, choices)
    facts = (family.facts(source), *(known_family(each).facts(each) for each in source.further))
    if unusable := next((each for each in facts if each.unusable), None):
        raise SourceError(unusable.unusable, advice=unusable.unusable_advice)
    damage = tuple(fault for each in facts for fault in each.damage)
    if damage and not choices.as_is:
        raise SourceError(
            f"{source.path} is incomplete or damaged: {' '.join(damage[:_LISTED])}",
            advice="Get it again and compare its checksum. To build from it all the same, add --as-is.",
        )
    for asked, given in (("--drivers", source.drivers), ("--answer-file", source.answer_file)):
        if given and asked not in family.read_beside:
            raise UsageError(f"{asked}: it has no effect on this kind of drive.", advice="Leave it out.")
    open_choices = proposed(source, choices, drive, machines, is_update=bool(standing))
    choices, wish, earlier = open_choices.choices, open_choices.wish, {**earlier, **open_choices.earlier}
    identity = choices.identity if choices.identity is not None else drive.name
    if not identity:
        raise UsageError("The identity word is empty.", advice="Choose one with --identity WORD.")
    if standing:
        if choices.use is not None:
            raise UsageError(STAYS, advice=FROM_SCRATCH)
        use = "whole" if drive.size is not None else "needed"
        fitted = fit_again(wish, drive, standing)
    else:
        use = choices.use or ("whole" if drive.size is not None else "needed")
        fitted = _fitted(source, family, choices, wish, drive, use)
    main = _main(fitted) if fitted.volumes else None
    settled = wish.choices
    if main is not None:
        settled = msgspec.structs.replace(settled, cluster=main.planned.cluster_size, use=use, identity=identity)
    shape = DriveShape(drive.name, fitted.drive_size, drive.sector_size)
    bootable = wish.bootable
    if wish.settle is not None:
        bootable = wish.settle(names_of(numbers_of(source, settled, shape), fitted.volumes, wish.table))
    if family.must_start and not choices.as_is:
        _refuse_what_starts_nowhere(source, outlooks(bootable, ANY_MACHINE))
    decisions = [
        *wish.decisions,
        *_measured(choices, wish, fitted, use),
        *_always(choices, source, identity, wish, fitted),
        *(Decision("not whole", "built although it is incomplete", what, "you", "as_is") for what in damage),
    ]
    return Plan(
        source=source,
        choices=settled,
        identity=identity,
        drive=shape,
        table=wish.table,
        decisions=tuple(_marked(decision, earlier) for decision in decisions),
        areas=areas_of(wish, fitted, drive.sector_size),
        needed=fitted.needed,
        unused=fitted.drive_size - fitted.end,
        forecast=outlooks(bootable, machine),
        bootable=bootable,
        splits=wish.splits,
        laid_over=wish.laid_over,
        volumes=fitted.volumes,
        image=wish.image,
        manifest_offset=fitted.manifest_offset,
        manifest_room=fitted.manifest_room,
        damage=damage,
    )


def _fitted(source: Source, family: Family, choices: Choices, wish: DriveWish, drive: DriveShape, use: str) -> Fitted:
    """Fit the wishes onto the drive; what does not fit is told with what each part takes, and what to leave out."""
    try:
        return fit(wish, drive, use)
    except DoesNotFit as error:
        joined = family.joined(source) if source.further else source
        shares = [*family.shares(joined, choices)]
        shares += [share for each in joined.further for share in known_family(each).shares(each, choices)]
        if len(shares) < 2:
            raise
        advice = f"{_to_leave_out(shares, error.lacking)} {error.advice}"
        raise DoesNotFit(error.message, advice=advice, lacking=error.lacking, shares=shares) from error


def _to_leave_out(shares: Sequence[Share], lacking: int) -> str:
    """Return what is best left out: the smallest part that is enough, or else the largest ones together."""
    ranked = sorted(shares, key=lambda share: share.size)
    enough = [share for share in ranked if share.size >= lacking][:1]
    while not enough or sum(share.size for share in enough) < lacking:
        if len(enough) == len(ranked):
            return "Leave out what this drive does not need to have."
        enough.append(ranked[-1 - len(enough)])
    named = " and ".join(f"{share.edition} of {share.source}" if share.edition else share.source for share in enough)
    return f"{shown_size(lacking)} too many: without {named} it fits."


def size_needed(source: Source, choices: Choices | None = None) -> tuple[int | None, str]:
    """Return the bytes a drive must have, or None and why none can be built; without choices the tool decides all."""
    try:
        return make_plan(source, choices or Choices(), DriveShape("any drive", None)).needed, ""
    except KeystoneError as error:
        return None, str(error)


def _refuse_what_starts_nowhere(source: Source, forecast: Sequence[Outlook]) -> None:
    """Raise SourceError, before anything is erased, where no firmware at all would start the drive."""
    if forecast and all(row.verdict == "will not start" for row in forecast):
        reasons = dict.fromkeys(f"{row.firmware}: {row.reason}" for row in forecast)
        raise SourceError(
            f"{source.path} makes a drive that starts nowhere. {'. '.join(list(reasons)[:_LISTED])}.",
            advice="Get it again and compare its checksum. To build from it all the same, add --as-is.",
        )


def _main(fitted: Fitted) -> FittedVolume:
    """Return the volume that takes what the others leave."""
    return next(volume for volume in fitted.volumes if volume.wish.takes_rest)


def _marked(decision: Decision, earlier: Mapping[str, Earlier]) -> Decision:
    """Say of a decision who made it, where that was not on the command line."""
    if decision.by == "you" and decision.choice in earlier:
        made = earlier[decision.choice]
        return replace(decision, by=made.by, reason=made.reason)
    return decision


def _by(choices: Choices, name: str) -> By:
    return "you" if getattr(choices, name) is not None else "tool"


def _measured(choices: Choices, wish: DriveWish, fitted: Fitted, use: str) -> list[Decision]:
    """Return what follows from the dimensions: partitions, and the clusters of the main volume."""
    if not fitted.volumes:
        return []
    style, several = STYLES[wish.table], len(fitted.volumes) > 1
    made: list[Decision] = []
    clusters: list[Decision] = []
    for number, volume in enumerate(fitted.volumes, 1):
        asked, planned = volume.wish, volume.planned
        words = [planned.kind.shown if several else "one", style.shown_active if asked.active else ""]
        words += [style.shown_use(asked.use), shown_size(planned.size)]
        reason = _whole_reason(wish, fitted, use) if asked.takes_rest else asked.reason
        by = _by(choices, "use") if asked.takes_rest else "tool"
        topic = f"partition {number}" if several else "partition"
        made.append(Decision(topic, ", ".join(filter(None, words)), reason, by, "use" if asked.takes_rest else ""))
        if asked.takes_rest:
            reason = "usual for a volume of this size" if choices.cluster is None else "as chosen"
            size = shown_size(planned.cluster_size)
            clusters.append(Decision("cluster size", size, reason, _by(choices, "cluster"), "cluster"))
    return [*made, *clusters]


def _whole_reason(wish: DriveWish, fitted: Fitted, use: str) -> str:
    if use == "needed":
        return "as small as the source allows"
    gap = wish.volumes[-1].gap_behind
    is_last = wish.volumes[-1].takes_rest
    beyond = fitted.drive_size - fitted.end - gap
    reason = "the whole drive, so that what is left stays usable"
    if gap and is_last:
        reason += f"; {shown_size(gap)} stay free after it, as its own system leaves them"
    if beyond > 64 * MIB:
        limit = "an MBR" if wish.table == "mbr" else f"a {_main(fitted).planned.kind.shown} volume"
        reason += f"; {shown_size(beyond)} lie beyond what {limit} can describe"
    return reason


def _kept(fitted: Fitted) -> Decision:
    """Say where the manifest of a raw image goes."""
    if fitted.manifest_offset is not None:
        return Decision("manifest", "in the drive's last MiB", "the beginning belongs to the image")
    reason = (
        "the drive has no MiB left after the image; on other computers, or with the record switched off, it cannot "
        "be compared with what was written"
    )
    return Decision("manifest", "in this computer's record", reason)


def _always(choices: Choices, source: Source, identity: str, wish: DriveWish, fitted: Fitted) -> list[Decision]:
    made: list[Decision] = []
    if wish.image is not None:
        made.append(_kept(fitted))
    else:
        reason = "serial number and disk signature derive from it"
        made.append(Decision("identity", identity, reason, _by(choices, "identity"), "identity"))
    if source.added:
        made.append(
            Decision("added", ", ".join(str(path) for path in source.added), "added on top of the source", "you")
        )
    return made
