"""What is asked for: a source or a saved plan, choices, and one or several drives; decided for every drive."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Self

import msgspec
from msgspec import Struct, field
from msgspec.structs import replace

from ..building.build import claim_of, is_built
from ..building.compose import compose_drive
from ..building.keeping import Keeper
from ..building.update import Standing, read_standing
from ..common.errors import KeystoneError, UsageError
from ..common.progress import Progress, silent
from ..content.blank import is_blank
from ..drives.guards import refuse_source_as_target
from ..drives.readback import read_back
from ..families.choices import Choices, given
from ..families.families import family_for
from ..families.family import DriveShape, Earlier
from ..fetching.link import Link, Place
from ..fetching.remote import Terms
from ..machine.known import KnownMachine
from ..manifest.format import ManifestError, read_manifest, unpack_manifest
from ..planning.fitting import FROM_SCRATCH
from ..planning.make import make_plan
from ..planning.plan import Plan
from ..planning.planfile import SavedPlan, open_planned_source, read_plan
from ..sources.opening import open_source
from ..sources.source import Source
from ..starting.trust import ANY_MACHINE, Machine
from ..volumes.kind import StandingVolume
from .given import AskedFor, GivenSource, is_plan_file
from .targets import Chosen, reading


class Request(Struct, frozen=True):
    """What was asked for."""

    path: Place
    """Of the source, or of a plan file."""
    choices: Choices
    added: tuple[Path, ...] = ()
    drivers: tuple[Path, ...] = ()
    """Folders with driver packages for setup."""
    answer_file: Path | None = None
    further: tuple[Place, ...] = ()
    """Sources whose volumes go onto the same drives."""
    size: int | None = None
    """Bytes of an image file to be made."""
    update: bool = False
    saved: SavedPlan | None = None
    earlier: Mapping[str, Earlier] = field(default_factory=dict)
    """The choices that a plan or a shop's preset made."""
    machine: Machine = ANY_MACHINE
    """What the drives are to start, for the forecast."""
    machines: tuple[KnownMachine, ...] = ()
    """The machines they are for, which decide what nobody chose, unless a plan has decided it."""
    terms: Terms = field(default_factory=Terms)
    """How images are read."""
    link: Link | None = None
    """Where the image of a plan is now."""

    @classmethod
    def of(cls, path: Place, known: AskedFor, given: GivenSource, terms: Terms, size: int | None = None) -> Self:
        """Return what is asked for with what was given beside a source."""
        return cls(
            path=path,
            choices=known.choices,
            earlier=known.earlier,
            machine=known.machine,
            machines=known.machines,
            added=given.added,
            drivers=given.drivers,
            answer_file=given.answer_file,
            further=given.further,
            size=size,
            terms=terms,
        )

    @property
    def is_plan(self) -> bool:
        """True when the path is a plan file's."""
        return is_plan_file(self.path)


class WantedDrive(Struct, frozen=True):
    """One drive as it is to become."""

    plan: Plan
    standing: Standing | None = None
    """What is on it, when it is to be updated."""
    machines: tuple[KnownMachine, ...] = ()
    """Those it is for."""
    continues: bool = False
    """True when it holds the beginning of this very build, nothing yet, or all of it and nothing else."""


def with_saved_plan(request: Request, *, several: bool) -> Request:
    """Return the request with what its plan file says, if it has one; a word of identity given beside it counts."""
    if not request.is_plan:
        if request.link is not None:
            raise UsageError("--link goes with a plan.", advice="Give the link itself as the source.")
        return request
    assert isinstance(request.path, Path)
    beside = given(request.choices).keys() - {"identity", "as_is"}
    if request.added or request.further or request.drivers or request.answer_file or beside:
        raise UsageError(
            "A plan has its choices already.", advice="Edit the plan file, or build from the source itself."
        )
    saved = read_plan(request.path)
    choices, identity = saved.choices, request.choices.identity
    if identity is not None or several:
        # Two drives of one identity word would collide in one computer: each takes its own tag.
        choices = msgspec.structs.replace(choices, identity=identity)
    if request.choices.as_is:
        choices = msgspec.structs.replace(choices, as_is=True)
    if request.update:  # the volume is there already: its dimensions are not a plan's to choose
        choices = msgspec.structs.replace(choices, use=None, cluster=None)
    size = request.size or saved.drive.size
    return replace(request, choices=choices, size=size, saved=saved, earlier=saved.decided)


def open_requested(request: Request, progress: Progress = silent) -> Source:
    """Open the source that is asked for. Raises SourceError, also when it is no longer the one that was planned."""
    if request.saved is not None:
        assert isinstance(request.path, Path)
        return open_planned_source(request.saved, request.path, progress, request.terms, request.link)
    return open_source(
        request.path,
        request.added,
        progress,
        request.further,
        drivers=request.drivers,
        answer_file=request.answer_file,
        terms=request.terms,
    )


def plan_all(
    request: Request,
    source: Source,
    targets: Sequence[Chosen],
) -> list[WantedDrive]:
    """Decide for every drive. Raises as `make_plan` does, and ProtectError where a drive cannot be updated."""
    wanted: list[WantedDrive] = []
    if request.update:
        family_for(source, request.choices).refuse_update()
    for target in targets:
        refuse_source_as_target(source.places, source.identities, target.path)
        if not request.update:
            _refuse_other_size(request, target)
            begun = _begun(request, source, target)
            finished = _finished(request, source, target) if not begun else None
            plan = begun or finished or _plan(request, source, target.shape(request.size))
            keeps = begun is not None or (finished is not None and _is_untouched(target))
            wanted.append(WantedDrive(plan, machines=request.machines, continues=keeps))
            continue
        if not target.exists:
            raise UsageError(
                f"{target.name} does not exist, so it cannot be updated.", advice="Build it, without --update."
            )
        with reading(target) as medium:
            standing = read_standing(medium, target.sector_size)
        choices = _kept_identity(request.choices, standing)
        plan = _plan(replace(request, choices=choices), source, target.shape(None), standing.volumes)
        wanted.append(WantedDrive(plan, standing, request.machines))
    for file in source.files:  # a plan that lacks what could not be read would be another one
        if file.failure is not None:
            raise file.failure
    return wanted


def _plan(request: Request, source: Source, shape: DriveShape, standing: Sequence[StandingVolume] = ()) -> Plan:
    machines = () if request.saved else request.machines  # of a saved plan everything is decided
    return make_plan(source, request.choices, shape, standing, request.machine, request.earlier, machines)


def _refuse_other_size(request: Request, target: Chosen) -> None:
    """Raise UsageError for a size that was asked for of an image file that is there already."""
    asked = request.size if request.saved is None else None
    if asked is not None and target.exists and target.is_image_file and target.size != asked:
        raise UsageError(
            f"--size: the image file {target.name} is there already, with {target.size:,} bytes.",
            advice="Remove the file to have one made of that size, give another name, or leave out --size.",
        )


def _begun(
    request: Request,
    source: Source,
    target: Chosen,
) -> Plan | None:
    """Return the plan that an unfinished image file was made by; None when it holds anything else.

    It was planned before there was a file, and the second run must not plan for the file's size. What decides is the
    record that the unfinished drive carries, or, before there is one, that the file has the planned size and is blank.
    """
    if not target.exists or not target.is_image_file:
        return None
    with reading(target) as medium:
        if any(medium.read_at(0, min(target.sector_size, medium.size))):
            return None
        plan = _plan(request, source, DriveShape(target.name, request.size, target.sector_size))
        if plan.drive.size != target.size:
            return None
        image = compose_drive(plan)
        keeper = Keeper(image, medium, target.shelf())
        state = keeper.unfinished()
        if state is None and keeper.manifest() is None:
            return plan if is_blank(medium) else None
        is_ours = state is not None and (state.kind, state.fingerprint) == ("build", image.fingerprint)
        return plan if is_ours or claim_of(image, medium, keeper).size else None


def _finished(
    request: Request,
    source: Source,
    target: Chosen,
) -> Plan | None:
    """Return the plan that a finished image file was made by, when there was none; None when it holds anything else.

    Its size and its seal decide, which has the numbers of this very drive; whatever else may be damaged.
    """
    if not target.exists or not target.is_image_file:
        return None
    with reading(target) as medium:
        try:
            plan = _plan(request, source, DriveShape(target.name, request.size, target.sector_size))
        except KeystoneError:  # what was chosen may need a drive that is there
            return None
        if plan.drive.size != medium.size:
            return None
        seal = compose_drive(plan).seal
        return plan if medium.read_at(0, len(seal)) == seal else None


def built_before(request: Request, source: Source, target: Chosen) -> Plan | None:
    """Return the plan that a finished drive was made by, where that is what is asked for; None for any other drive.

    An image file was planned before there was one, so it is planned for in both ways.
    """
    if not target.exists:
        return None
    with reading(target) as medium:
        try:
            kept = read_manifest(medium, target.sector_size)
        except ManifestError:
            return None
        if kept is None and target.shelf().get() is None:
            return None
        shapes = [target.shape(request.size)]
        if target.is_image_file:
            shapes.append(DriveShape(target.name, request.size, target.sector_size))
        for shape in shapes:
            plan = _plan(request, source, shape)
            if plan.drive.size != medium.size:
                continue
            image = compose_drive(plan)
            if is_built(image, medium, Keeper(image, medium, target.shelf())):
                return plan
    return None


def _is_untouched(target: Chosen) -> bool:
    """Tell whether a finished drive is as it was built: nothing that somebody put there would be lost."""
    with reading(target) as medium:
        try:
            kept = read_manifest(medium, target.sector_size)
        except ManifestError:
            return False
        if kept is None and (data := target.shelf().get()):
            kept = unpack_manifest(data, medium.size)
        blocks = [(offset, size, digest) for _, offset, size, digest in kept.blocks()] if kept is not None else []
        return bool(blocks) and not read_back(blocks, medium, silent)


def _kept_identity(choices: Choices, standing: Standing) -> Choices:
    """A drive keeps its table, and the identity word it was built with unless another one is chosen."""
    if standing.manifest is None:
        return choices
    about = standing.manifest.about
    if choices.table not in (None, about.table):
        raise UsageError(f"An update keeps the table as it is: {about.table}.", advice=FROM_SCRATCH)
    return msgspec.structs.replace(choices, identity=choices.identity or about.identity, table=about.table)
