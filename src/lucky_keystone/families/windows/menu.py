"""The boot manager's own list of several setup environments: an installer's, and those of rescue discs beside it.

Each runs in memory, from an image and the file that its RAM disk begins with. The stores that list them are made here;
a drive with one environment keeps its source's own.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from ...common.errors import UsageError
from ...content.contents import Literal
from ...content.tree import File, Folder
from ...setup.folders import ENTRY_FOLDER
from ...sources.source import Source
from ...starting.boot_store import STORES
from ...starting.loaders import loader_path
from ...starting.store_making import MEMORY_TESTS, MenuEntry, WantedMenu, make_menu
from ...volumes.ntfs.attributes import filetime
from ...wim.read import Edition
from ...wim.whole import WholeImage
from ..choices import Choices, option
from ..family import By, Decision
from .carried import NOTHING, Change
from .facts import facts_of, is_rescue
from .install_image import setup_images_of

_BASE = "boot/boot.sdi"
_USUAL_TIMEOUT = 30
_LONGEST_TIMEOUT = 999
_LONGEST_NAME = 60
"""Characters that fit a line of the boot manager's list."""
_ENDINGS = {"bios": "exe", "uefi": "efi"}
_LOADERS = ("windows/system32/boot/winload", "windows/system32/winload")
"""Where an environment's image has its loader, the usual place first."""
_FIRMWARE = {"bios": "BIOS", "uefi": "UEFI {}"}
_CHOICES = ("entry_name", "default_entry", "menu_timeout")


class Environment(Struct, frozen=True):
    """A setup environment that a drive has."""

    name: str
    image: WholeImage
    path: str
    """Of its image on the drive, and of the file that its RAM disk begins with."""
    base: str

    edition: Edition
    """What the image starts."""
    loaders: Mapping[str, str]
    """By firmware: what starts it, within the image; missing where the image has none."""

    @property
    def architecture(self) -> str:
        return self.edition.architecture

    @property
    def build(self) -> int:
        return self.edition.build


def menu(source: Source, root: Folder, choices: Choices) -> Change:
    """Return the further environments' files, and the stores that list all. Raises UsageError or SourceError."""
    rescue = [each for each in source.joined if is_rescue(each)]
    if not rescue and not source.merged:
        made = next((name for name in _CHOICES if getattr(choices, name) is not None), None)
        if made is not None:
            raise UsageError(
                f"{option(made)}: the drive has one setup environment, so there is no list.",
                advice="Leave it out, or add rescue discs with --with.",
            )
        return NOTHING
    files: list[tuple[str, File]] = []
    environments = _named([*_own(source, root), *_further(rescue, root, files)], choices)
    of_others = tuple(path for path, _ in files)
    default = _default(environments, choices)
    stores = {firmware: _listed(firmware, environments, root) for firmware in _ENDINGS}
    for firmware, listed in stores.items():
        if len(listed) > 1:
            files.append(_store(firmware, listed, default, root, choices))
    decisions = _decisions(source, environments, default, stores, choices)
    return Change(tuple(files), tuple(decisions), of_others=of_others)


def with_environments(source: Source) -> Folder:
    """Return the source's files, with those of the rescue discs that are joined to it where a drive has them."""
    files: list[tuple[str, File]] = []
    rescue = [each for each in source.joined if is_rescue(each)]
    for _ in _further(rescue, source.root, files):
        pass
    root = source.root
    for path, file in files:
        root = root.replaced(path, File(path.rpartition("/")[2], file.content, file.modified, file.special))
    return root


def _own(source: Source, root: Folder) -> Iterator[Environment]:
    """Yield the environments that the source has itself: one for each architecture."""
    facts = facts_of(source)
    for image in setup_images_of(source):
        path = image.first.place
        # The one in the root is on every volume that firmware reads.
        base = next((each for each in (_BASE, _beside(path, _BASE)) if root.find_file(each) is not None), _BASE)
        made = _environment(source, image, path, base)
        installs = [
            edition for each in facts.images for edition in each.editions if edition.architecture == made.architecture
        ]
        yield replace(made, name=f"Windows setup {installs[0].build or made.build}") if installs else made


def _environment(source: Source, image: WholeImage, path: str, base: str) -> Environment:
    index = image.first.header.boot_index
    edition = next((each for each in image.editions if each.index == index), image.editions[-1])
    tree = image.tree(edition)
    loaders = {
        firmware: f"{place}.{ending}"
        for firmware, ending in _ENDINGS.items()
        for place in reversed(_LOADERS)  # the usual place counts where there are both
        if tree.find(f"{place}.{ending}") is not None
    }
    return Environment(_stem(source), image, path, base, edition, loaders)


def _further(sources: Sequence[Source], root: Folder, files: list[tuple[str, File]]) -> Iterator[Environment]:
    """Yield those of rescue discs; their files are added to `files`."""
    number = 0
    for source in sources:
        for image in setup_images_of(source):
            number += 1
            folder = ENTRY_FOLDER.format(number)
            file = source.root.find_file(image.first.place)
            own = (_beside(image.first.place, _BASE), _BASE)
            base = next((found for each in own if (found := source.root.find_file(each)) is not None), None)
            if base is None and (base := root.find_file(_BASE)) is None:
                raise UsageError(
                    f"--with: {source.path.name} has no {_BASE}, which its RAM disk begins with, and no other source "
                    "has one.",
                    advice="Take the file from another Windows disc: they are all alike.",
                )
            assert file is not None
            files.append((f"{folder}/boot.wim", file))
            files.append((f"{folder}/boot.sdi", base))
            yield _environment(source, image, f"{folder}/boot.wim", f"{folder}/boot.sdi")


def _beside(path: str, name: str) -> str:
    """Return the path of a file in the folder that holds an environment's `sources`."""
    above = path.rpartition("/")[0].rpartition("/")[0]
    return f"{above}/{name}" if above else name


def _stem(source: Source) -> str:
    name = source.path.name
    return name.rpartition(".")[0] or name


def _named(environments: list[Environment], choices: Choices) -> list[Environment]:
    """Return them with the names that the technician gave, or with names that tell them apart."""
    if choices.entry_name is not None:
        names = [name.strip() for name in choices.entry_name.split(",")]
        if len(names) != len(environments):
            listed = "; ".join(each.name for each in environments)
            raise UsageError(
                f"--entry-name: {len(names)} given, and the list has {len(environments)} entries ({listed}).",
                advice="Give one for each, in this order, and none with a comma; or leave the option out.",
            )
    else:
        names = [each.name for each in environments]
        names = [
            f"{name} ({each.architecture})" if names.count(name) > 1 or len(_architectures(environments)) > 1 else name
            for name, each in zip(names, environments, strict=True)
        ]
        names = [
            f"{name} {number}" if names.index(name) != number - 1 else name for number, name in enumerate(names, 1)
        ]
        names = [name[:_LONGEST_NAME] for name in names]
    for name in names:
        if not name or len(name) > _LONGEST_NAME or not name.isprintable():
            raise UsageError(
                f"--entry-name {name!r}: a name has 1 to {_LONGEST_NAME} printable characters.",
                advice="Give it another name.",
            )
    if len({name.lower() for name in names}) < len(names):
        raise UsageError("--entry-name: two entries have the same name.", advice="Give each a name of its own.")
    return [replace(each, name=name) for name, each in zip(names, environments, strict=True)]


def _architectures(environments: Sequence[Environment]) -> set[str]:
    return {each.architecture for each in environments}


def _default(environments: Sequence[Environment], choices: Choices) -> Environment:
    word = choices.default_entry
    if word is None:
        return environments[0]
    for number, each in enumerate(environments, 1):
        if word.strip().lower() in (each.name.lower(), str(number)):
            return each
    listed = "; ".join(f"{number}: {each.name}" for number, each in enumerate(environments, 1))
    raise UsageError(f"--default-entry {word}: the list has no such entry.", advice=f"Choose one of: {listed}.")


def _listed(firmware: str, environments: Sequence[Environment], root: Folder) -> list[Environment]:
    """Return those that the boot manager of a firmware can start; none where the drive has no boot manager for it."""
    if firmware == "bios":
        there = root.find_file("bootmgr") is not None
        return [each for each in environments if each.architecture != "arm64"] if there else []
    return [each for each in environments if root.find_file(loader_path(each.architecture)) is not None]


def _store(
    firmware: str, listed: Sequence[Environment], default: Environment, root: Folder, choices: Choices
) -> tuple[str, File]:
    path = STORES[firmware]
    there = root.find_file(path)
    languages = [language for each in listed for edition in each.image.editions for language in edition.languages]
    timeout = _USUAL_TIMEOUT if choices.menu_timeout is None else choices.menu_timeout
    if not 1 <= timeout <= _LONGEST_TIMEOUT:
        raise UsageError(
            f"--menu-timeout {timeout}: the list stays for 1 to {_LONGEST_TIMEOUT} seconds.",
            advice="Choose how many, or leave it out for 30.",
        )
    entries = [
        MenuEntry(
            name=each.name,
            image=each.path,
            base=each.base,
            loader=each.loaders.get(firmware, f"{_LOADERS[0]}.{_ENDINGS[firmware]}"),
        )
        for each in listed
    ]
    wanted = WantedMenu(
        firmware=firmware,
        entries=entries,
        default=listed.index(default) if default in listed else 0,
        timeout=timeout,
        language=(*languages, "en-US")[0],
        has_memory_test=root.find_file(MEMORY_TESTS[firmware]) is not None,
        time=filetime(root.modified),
    )
    return path, File(path.rpartition("/")[2], Literal(make_menu(wanted)), there.modified if there else root.modified)


def _decisions(
    source: Source,
    environments: Sequence[Environment],
    default: Environment,
    stores: dict[str, list[Environment]],
    choices: Choices,
) -> Iterator[Decision]:
    def by(choice: str) -> By:
        return "you" if getattr(choices, choice) is not None else "tool"

    if source.merged:
        names = ", ".join(each.path.name for each in (source, *source.merged))
        why = "each disc has its own folder, and setup of each looks there: not proven here"
        yield Decision("architectures", f"{' and '.join(sorted(_architectures(environments)))}: {names}", why, "you")
    reason = f"the boot manager of {source.path.name} lists them and starts each"
    if newer := [each.name for each in environments if each.build > environments[0].build]:
        are = "is" if len(newer) == 1 else "are"
        reason += f"; {', '.join(newer)} {are} newer than that boot manager, which may refuse it"
    value = f"{len(environments)} entries; {default.name} when nobody chooses"
    yield Decision("start menu", value, reason, by("default_entry"), "default_entry")
    seconds = _USUAL_TIMEOUT if choices.menu_timeout is None else choices.menu_timeout
    why = "usual" if choices.menu_timeout is None else "as chosen"
    yield Decision("time to choose", f"{seconds} seconds", why, by("menu_timeout"), "menu_timeout")
    for number, each in enumerate(environments, 1):
        on = [firmware for firmware, listed in stores.items() if each in listed]
        machines = " and ".join(_FIRMWARE[firmware].format(each.architecture) for firmware in on) or "no machine"
        why = f"{each.path}, in memory; {machines} can start it"
        without = [f"winload.{_ENDINGS[firmware]}" for firmware in on if firmware not in each.loaders]
        if without:
            why += f"; the image has no {' and no '.join(without)}"
        yield Decision(f"entry {number}", each.name, why, by("entry_name"), "entry_name" if number == 1 else "")
