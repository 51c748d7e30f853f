"""What is put onto a drive for setup to read: answers and waivers, the list of editions, driver packages."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from ...common.errors import SourceError, UsageError
from ...common.units import counted
from ...content.contents import Literal, seekable
from ...content.tree import File, Folder
from ...setup import answer_file
from ...setup.drivers import FOLDER, DriverPackage, packages_in
from ...setup.folders import SETUP_FOLDERS
from ...setup.waivers import FIRST_BUILD, FIRST_WITH_POPCNT, Waiver, waivers_of
from ...sources.source import Source
from ..choices import Choices
from ..facts import SourceFacts
from ..family import Decision
from .carried import NOTHING, Change
from .facts import facts_of

_EDITION_LIST = "ei.cfg"
_ASKS = b"[EditionID]\r\n\r\n[Channel]\r\nRetail\r\n\r\n[VL]\r\n0\r\n"
"""No edition is named, so setup shows the list where a key in the firmware would have chosen. Not proven here."""
_TOLD = 4


def answers(source: Source, root: Folder, choices: Choices) -> Change:
    """Return the answer file that is given or waives checks. Raises UsageError where it cannot do what is wanted."""
    given, waived = source.answer_file, waivers_of(choices.waive) if choices.waive is not None else ()
    if given is None and not waived:
        return NOTHING
    facts = facts_of(source)
    if waived:
        _refuse_waivers(facts, choices.waive or "")
    asked = "--waive" if given is None else "--answer-file"
    own = next((path for path in _answer_files(root) if root.find_file(path)), None)
    if own is not None:
        raise UsageError(
            f"{asked}: the source has an answer file of its own, {own}, which stays as it is.",
            advice=f"Leave the choice out; or copy the disc's files into a folder, take {own} out there, and give it "
            "changed as you need it with --answer-file.",
        )
    architectures = _setup_architectures(facts)
    commands = [each.command for each in waived]
    decisions: list[Decision] = []
    if given is None:
        data, modified = answer_file.made_answer_file(architectures, commands), root.modified
    else:
        if given.size > answer_file.LARGEST:
            raise UsageError(f"{given.name} has {given.size:,} bytes: too many for an answer file.", advice="Check it.")
        data, modified = seekable(given.content).read_at(0, given.size), given.modified
        notes = answer_file.check_answer_file(data, given.name, architectures)
        why = "; ".join(("well-formed, and for this setup environment", *notes))
        decisions.append(Decision("answers", f"{given.name} answers setup's questions", why, "you"))
        if waived:
            data = answer_file.with_commands(data, architectures, commands)
    if waived:
        decisions.append(_waived(waived, facts))
    file = File(answer_file.NAME, Literal(data), modified)
    return Change(tuple((path, file) for path in _answer_files(root)), tuple(decisions))


def _refuse_waivers(facts: SourceFacts, wanted: str) -> None:
    editions = [edition for image in facts.images for edition in image.editions]
    if not editions:
        raise UsageError(
            f"--waive {wanted}: the source installs nothing, so nothing is checked.", advice="Leave it out."
        )
    if all(edition.is_server for edition in editions):
        raise UsageError(
            f"--waive {wanted}: setup of server editions does not check the machine.", advice="Leave it out."
        )
    newest = max(edition.build for edition in editions)
    if newest < FIRST_BUILD:
        release = f"this release (build {newest})" if newest else "this release (its build is unknown)"
        raise UsageError(
            f"--waive {wanted}: setup of {release} has no such checks; they begin with build {FIRST_BUILD}.",
            advice="Leave it out.",
        )


def _waived(waived: Sequence[Waiver], facts: SourceFacts) -> Decision:
    reason = (
        "the vendor does not support it, and may hold back updates; it acts when setup is started from the drive, "
        "not on an upgrade from a running system"
    )
    newest = max(edition.build for image in facts.images for edition in image.editions)
    if newest >= FIRST_WITH_POPCNT:
        reason += "; processors without POPCNT and SSE4.2 do not start this release, which nothing waives"
    return Decision("waived checks", ", ".join(each.shown for each in waived), reason, "you", "waive")


def _setup_architectures(facts: SourceFacts) -> list[str]:
    """Return what answer files have to be written for: the setup environments' architectures."""
    named = [edition.architecture for image in facts.boot_images for edition in image.editions]
    known = [name for name in dict.fromkeys(named or facts.architectures) if name in answer_file.PROCESSORS]
    if not known:
        raise UsageError(
            "The setup environment does not say which architecture it is for, so no answer file can be made for it.",
            advice="Leave --waive and --answer-file out.",
        )
    return known


def _answer_files(root: Folder) -> Iterator[str]:
    """Yield where setup looks: the root of removable drives, and the folders it is started from."""
    yield answer_file.NAME
    for folder in SETUP_FOLDERS:
        if root.find_folder(folder):
            yield f"{folder}/{answer_file.NAME}"


def edition_list(source: Source, root: Folder, choices: Choices) -> Change:
    """Return the file that has setup ask for the edition. Raises UsageError where that would change nothing."""
    if not choices.ask_edition:
        return NOTHING
    folders = [folder for folder in SETUP_FOLDERS if root.find_folder(folder)]
    own = next((f"{folder}/{_EDITION_LIST}" for folder in folders if root.find_file(f"{folder}/{_EDITION_LIST}")), None)
    if own is not None:
        raise UsageError(f"--ask-edition: the source has its own {own}, which stays as it is.", advice="Leave it out.")
    facts = facts_of(source)
    if max((len(image.editions) for image in facts.images), default=0) < 2:
        raise UsageError("--ask-edition: the source has no second edition to choose from.", advice="Leave it out.")
    file = File(_EDITION_LIST, Literal(_ASKS), root.modified)
    reason = "a key in the machine's firmware would choose it without asking"
    decision = Decision("edition", f"setup asks for it ({_EDITION_LIST})", reason, "you", "ask_edition")
    return Change(tuple((f"{folder}/{_EDITION_LIST}", file) for folder in folders), (decision,))


def drivers(source: Source) -> Change:
    """Return driver packages, where setup takes them. Raises SourceError for a folder without any that fit."""
    files: list[tuple[str, File]] = []
    decisions: list[Decision] = []
    wanted = set(_setup_architectures(facts_of(source))) if source.drivers else set()
    taken: set[str] = set()
    for given in source.drivers:
        packages = list(packages_in(given.root))
        if not packages:
            raise SourceError(
                f"--drivers {given.path}: no .inf file is in it, so no driver package.",
                advice="Unpack the vendor's download: setup reads packages with an .inf file, not installers.",
            )
        fitting = [each for each in packages if each.architectures & wanted]
        if not fitting:
            found = sorted({name for each in packages for name in each.architectures}) or ["no architecture"]
            raise SourceError(
                f"--drivers {given.path}: its packages are for {', '.join(found)}, the source is "
                f"{', '.join(sorted(wanted))}.",
                advice="Get the drivers for this architecture.",
            )
        name = _free_name(given.path.resolve().name or "drivers", taken)
        files += [(f"{FOLDER}/{name}/{path}", file) for path, file in given.root.files()]
        decisions.append(Decision("drivers", f"{given.path}: {_counted(fitting)}", _why(packages, wanted), "you"))
    return Change(tuple(files), tuple(decisions), f"{FOLDER}/")


def _free_name(name: str, taken: set[str]) -> str:
    number, free = 1, name
    while free.lower() in taken:
        number += 1
        free = f"{name} {number}"
    taken.add(free.lower())
    return free


def _counted(packages: Sequence[DriverPackage]) -> str:
    classes = sorted({each.device_class or "without class" for each in packages})
    listed = ", ".join(classes[:_TOLD]) + (", …" if len(classes) > _TOLD else "")
    return f"{counted(len(packages), 'package')} ({listed}) into {FOLDER}"


def _why(packages: Sequence[DriverPackage], wanted: set[str]) -> str:
    """Return what a technician should know of packages that setup will pass over."""
    odd = [f"{each.path}: {each.fault}" for each in packages if each.fault]
    others = [
        f"{each.path} is for {', '.join(sorted(each.architectures)) or 'no known architecture'}"
        for each in packages
        if not each.fault and not each.architectures & wanted
    ]
    told = [*odd, *others]
    if not told:
        return "setup takes them by itself"
    more = f" and {len(told) - _TOLD:,} more" if len(told) > _TOLD else ""
    return f"setup takes them by itself, but may leave out: {'; '.join(told[:_TOLD])}{more}"
