"""Options that several commands share, turned into the core's own types."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Callable, Iterable
from datetime import date, datetime
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar, cast

import click
from click.shell_completion import CompletionItem

from ..common.nearest import nearest
from . import manner
from .completion import complete_drive, complete_edition, complete_preset, complete_words
from .manner import PROGRESS_MODES

if TYPE_CHECKING:
    from ..common.outputs import Replacing
    from ..doing.given import GivenMachines, GivenPreset, GivenSource
    from ..drives.guards import Guard
    from ..fetching.link import Place
    from ..fetching.remote import Terms

_F = TypeVar("_F", bound=Callable[..., Any])


class Size(click.ParamType[int]):
    """A size like 64GB or 3800M, in bytes."""

    name = "size"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int:
        from ..common.units import parse_size

        return value if isinstance(value, int) else parse_size(str(value))

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        known = (
            ("4K", "8K", "16K", "32K", "64K") if param.name == "cluster" else ("8GB", "16GB", "32GB", "64GB", "128GB")
        )
        return [CompletionItem(size) for size in known if size.startswith(incomplete.upper())]


class SourcePlace(click.ParamType["Place"]):
    """A path, a name or the first digits of a sum in the store, or a link; '-': a link is read from standard input."""

    name = "source"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Place:
        from ..fetching.link import parse_link, place_of

        if not isinstance(value, str):
            return cast("Place", value)
        if value == "-":
            return parse_link(sys.stdin.readline().strip())
        place = place_of(value)
        if isinstance(place, Path) and place.name == value and not place.exists():
            from ..fetching.store import Store

            stored = Store().find(value)
            return stored.path if stored is not None else place
        return place

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        return [CompletionItem(incomplete, type="file")]


class Word(click.Choice[Any]):
    """One of a few words, in any case; of a mistyped one the nearest is named."""

    def __init__(self, words: Iterable[Any]) -> None:
        super().__init__(words, case_sensitive=False)

    def get_invalid_choice_message(self, value: Any, ctx: click.Context | None) -> str:
        known = [str(choice) for choice in self.choices]
        meant = nearest(str(value), known)
        return f"'{value}' is not one of: {', '.join(known)}.{f' Did you mean {meant}?' if meant else ''}"


class _AnyCase(click.ParamType[str]):
    """One of the words that are the core's to judge, in any case."""

    name = "word"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> str:
        return str(value).lower()


class Sha256(click.ParamType[str]):
    """A SHA-256 as 64 hexadecimal digits."""

    name = "sum"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> str:
        text = str(value).strip().lower()
        if re.fullmatch("[0-9a-f]{64}", text) is None:
            kinds = {32: "an MD5", 40: "a SHA-1", 128: "a SHA-512"}
            kind = kinds.get(len(text), "") if re.fullmatch("[0-9a-f]+", text) else ""
            looks = f"it looks like {kind} sum" if kind else f"it has {len(text)} characters"
            self.fail(f"a SHA-256 has 64 hexadecimal digits; {looks}.", param, ctx)
        return text


def gathered(name: str, make: Callable[..., Any], *fields: str) -> Callable[[_F], _F]:
    """Let a command get several of its options as one value, `make(**them)`, under this name."""

    def wrapped(function: _F) -> _F:
        @wraps(function)
        def call(*arguments: Any, **named: Any) -> Any:
            own = {field: named.pop(field) for field in fields if field in named}
            return function(*arguments, **named, **{name: make(**own)})

        return cast("_F", call)

    return wrapped


def replacing_of(overwrite: bool, *never: Path) -> Replacing:
    """Return what a command's outputs may replace: never what it works with, nor the shop's record."""
    from ..common import places
    from ..common.outputs import Replacing

    record = places.record()
    return Replacing(overwrite, (*never, *([record] if record else [])))


def overwrite_option(function: _F) -> _F:
    """--overwrite."""
    return click.option(
        "--overwrite", is_flag=True, help="Replace a file that is there, even one that this program did not make."
    )(function)


def output_options(function: _F) -> _F:
    """--json, -q, -v, --plain and --progress: how a command speaks; `manner` keeps them."""
    for option in (
        click.option(
            "--progress",
            type=Word(PROGRESS_MODES),
            expose_value=False,
            callback=_change("progress"),
            help="How progress is shown, on standard error. json: one JSON line per update. Default: automatic.",
        ),
        click.option(
            "--plain",
            is_flag=True,
            envvar="LUCKY_KEYSTONE_PLAIN",
            expose_value=False,
            callback=_change("plain"),
            help="For screen readers: one fact a line, no columns, no bars; also LUCKY_KEYSTONE_PLAIN=1.",
        ),
        click.option(
            "-v", "--verbose", is_flag=True, expose_value=False, callback=_change("verbose"), help="Show more."
        ),
        click.option(
            "-q",
            "--quiet",
            is_flag=True,
            expose_value=False,
            callback=_change("quiet"),
            help="Show results and errors only.",
        ),
        click.option(
            "--json",
            is_flag=True,
            expose_value=False,
            callback=_change("as_json"),
            help="Print one JSON document instead of text (see 'lucky-keystone schema').",
        ),
    ):
        function = option(function)
    return function


def _change(field: str) -> Callable[[click.Context, click.Parameter, Any], None]:
    def heard(_context: click.Context, _parameter: click.Parameter, value: Any) -> None:
        if value:
            manner.change(**{field: value})

    return heard


def bay_option(function: _F) -> _F:
    """--bay."""
    return click.option(
        "--bay",
        type=click.Path(path_type=Path),
        envvar="LUCKY_KEYSTONE_BAY",
        is_eager=True,
        metavar="FOLDER",
        help="A folder of simulated drives; also LUCKY_KEYSTONE_BAY.",
    )(function)


def drive_argument(function: _F) -> _F:
    """DRIVE, which is asked for in a terminal when it is left out; `bay_option` has been read then."""

    def asked(_context: click.Context, _parameter: click.Parameter, given: str | None) -> str:
        from .guided import drive_asked_for

        return given if given is not None else drive_asked_for(_context.params.get("bay"))

    return click.argument("drive", required=False, shell_complete=complete_drive, callback=asked)(function)


def guard_options(function: _F) -> _F:
    """--unmount, --allow-internal, --allow-member as `lifted`, and --yes: the ways past a guard, each explicit."""
    function = gathered("lifted", _lifted, "unmount", "allow_internal", "allow_member")(function)
    for option in (
        click.option("--yes", is_flag=True, help="Do not ask before writing. For scripts."),
        click.option(
            "--allow-member",
            is_flag=True,
            help="Write on a drive that carries a part of a RAID, LVM or pool that does not run.",
        ),
        click.option(
            "--allow-internal",
            is_flag=True,
            help="Write on a drive that is built into this computer. Never its system's.",
        ),
        click.option("--unmount", is_flag=True, help="Unmount the drive's volumes first."),
    ):
        function = option(function)
    return function


def _lifted(**given: bool) -> frozenset[Guard]:
    from ..drives.guards import OVERRIDABLE

    return frozenset(guard for guard in OVERRIDABLE if given[guard.override.removeprefix("--").replace("-", "_")])


def _entry_names(_context: click.Context, _option: click.Parameter, names: tuple[str, ...]) -> str | None:
    """Return the names in one; what tells them apart may be in none of them."""
    wrong = next((name for name in names if "," in name), None)
    if wrong is not None:
        raise click.BadParameter(f"'{wrong}' has a comma, which no name of an entry can have.")
    return ",".join(names) or None


_CHOICES: list[tuple[str, dict[str, Any]]] = [
    ("--firmware", {"metavar": "bios|uefi|both", "help": "Firmware the drive must start on."}),
    ("--table", {"metavar": "mbr|gpt", "help": "Partition table."}),
    (
        "--file-system",
        {
            "metavar": "fat32|ntfs|fat32+ntfs",
            "help": "Of the installer's volume; the last one is two partitions: NTFS, and FAT32 for firmware.",
        },
    ),
    ("--label", {"metavar": "TEXT", "help": "Volume label: FAT32 up to 11 characters, NTFS 32."}),
    ("--cluster", {"type": Size(), "metavar": "SIZE", "help": "Cluster size."}),
    ("--part-size", {"type": Size(), "metavar": "SIZE", "help": "Largest part of a split install image."}),
    (
        "--loader-signing",
        {
            "metavar": "2011|2023",
            "help": "Take UEFI loaders signed under this generation of certificates, from the setup environment "
            "where the source itself has others.",
        },
    ),
    ("--use", {"metavar": "whole|needed", "help": "Use the whole drive, or as little as the source needs."}),
    (
        "--identity",
        {"metavar": "WORD", "help": "What serial number and signature derive from; else the drive's tag or file name."},
    ),
    (
        "--as-is",
        {
            "is_flag": True,
            "default": None,
            "help": "Build even from a source known to be incomplete or damaged. Every later check will say so.",
        },
    ),
    (
        "--waive",
        {
            "metavar": "LIST",
            "shell_complete": complete_words("tpm", "secure-boot", "memory", "processor", "storage", "all", "none"),
            "help": "Hardware checks of setup to leave out: tpm, secure-boot, memory, processor, storage; all; none. "
            "The vendor does not support it.",
        },
    ),
    (
        "--ask-edition",
        {"is_flag": True, "default": None, "help": "Have setup ask which edition to install, whatever key it finds."},
    ),
    (
        "--purpose",
        {
            "metavar": "install|portable",
            "help": "What the drive is for: to install from, or with a Windows on it that runs from the drive itself.",
        },
    ),
    (
        "--edition",
        {
            "metavar": "NAME",
            "multiple": True,
            "callback": lambda _context, _option, names: ",".join(names) or None,
            "shell_complete": complete_edition,
            "help": "Of a Windows installer: keep this edition, by number, name or a part of it (repeatable); the "
            "others are left out. With --purpose portable: the edition to apply.",
        },
    ),
    (
        "--entry-name",
        {
            "metavar": "NAME",
            "multiple": True,
            "callback": _entry_names,
            "help": "Of a drive with several setup environments: the name of each in the boot manager's list, the "
            "source's first (repeatable).",
        },
    ),
    (
        "--default-entry",
        {"metavar": "NAME", "help": "The entry, by name or number, that is started when nobody chooses."},
    ),
    (
        "--menu-timeout",
        {"metavar": "SECONDS", "type": int, "help": "How long the boot manager's list waits for a choice (30)."},
    ),
    (
        "--internal-disks",
        {
            "metavar": "offline|online",
            "help": "With --purpose portable: whether the system uses the disks of the machine it is started on.",
        },
    ),
]


def choice_options(function: _F) -> _F:
    """All choices, as `choices` by name; each is decided when it is not given."""
    fields = (name.removeprefix("--").replace("-", "_") for name, _ in _CHOICES)
    function = gathered("choices", dict, *fields)(function)
    for name, settings in reversed(_CHOICES):
        of_words: dict[str, Any] = {"type": _AnyCase()} if "|" in str(settings.get("metavar", "")) else {}
        function = click.option(name, **settings, **of_words)(function)
    return function


def _paths_option(
    name: str, *field: str, metavar: str, text: str, kind: click.ParamType[Any] | None = None
) -> Callable[[_F], _F]:
    kind = kind or click.Path(path_type=Path)
    return click.option(name, *field, type=kind, multiple=True, metavar=metavar, help=f"{text} Repeatable.")


def authority_option(function: _F) -> _F:
    """--authority."""
    return click.option(
        "--authority",
        type=click.Path(path_type=Path),
        metavar="FILE",
        help="Certificates of an authority of your own (PEM), trusted for links beside the system's.",
    )(function)


def terms_of(sha256: str | None, authority: Path | None, bay: Path | None = None) -> Terms:
    """Return how images are read: discs of the bay with their drives' faults; breaks of a connection are told."""
    from ..common.errors import NotYet
    from ..content.source_file import SourceFile
    from ..doing.targets import host_of
    from ..fetching.patience import Events
    from ..fetching.remote import Terms
    from .stages import tell

    def disc(path: Path) -> SourceFile | None:
        try:
            return host_of(bay).disc(path)
        except NotYet:  # a system whose drives are not found
            return None

    return Terms(sha256 or "", authority, Events(told=tell), disc=disc)


def machine_options(function: _F) -> _F:
    """--trust, --revoked, --machine-model and --machine, as `machines`."""
    function = gathered("machines", _machines, "trust", "revoked", "model", "machines")(function)
    text = "A machine to start, by a file of 'lucky-keystone machine': the forecast says whether it starts."
    function = _paths_option("--machine", "machines", metavar="FILE", text=text)(function)
    function = click.option(
        "--machine-model",
        "model",
        default="",
        metavar="MODEL",
        help="The Mac to start, as MacBookPro14,1 (About This Mac, System Report) or its board id, for the forecast.",
    )(function)
    for name, word, base in (("--revoked", "refuses", "dbx"), ("--trust", "trusts", "db")):
        text = f"What the machine {word} ({base}), for the Secure Boot forecast: a certificate, or signature lists."
        function = _paths_option(name, metavar="FILE", text=text)(function)
    return function


def add_option(text: str) -> Callable[[_F], _F]:
    """--add; `text` says what for."""
    return _paths_option("--add", "added", metavar="FOLDER", text=text)


def setup_options(function: _F) -> _F:
    """--answer-file and --drivers."""
    function = _paths_option(
        "--drivers",
        "drivers",
        metavar="FOLDER",
        text="Driver packages (.inf) that setup takes from the drive by itself.",
    )(function)
    return click.option(
        "--answer-file",
        type=click.Path(path_type=Path),
        metavar="FILE",
        help="Answers to setup's questions (autounattend.xml); checked, and merged with --waive.",
    )(function)


def with_option(function: _F) -> _F:
    """--with."""
    text = "Another installer for the same drive, with volumes of its own: a macOS app beside a Windows image, say."
    return _paths_option("--with", "further", metavar="SOURCE", text=text, kind=SourcePlace())(function)


def _machines(**given: Any) -> GivenMachines:
    from ..doing.given import GivenMachines

    return GivenMachines(given["trust"], given["revoked"], given["model"], given["machines"], today())


def preset_options(function: _F) -> _F:
    """--preset and --config, as `preset`."""
    function = gathered("preset", _preset, "preset", "config")(function)
    function = click.option(
        "--config",
        type=click.Path(dir_okay=False, path_type=Path),
        metavar="FILE",
        help="The file with the shop's presets; by default LUCKY_KEYSTONE_CONFIG, or the system's place for settings.",
    )(function)
    return click.option(
        "--preset",
        metavar="NAME",
        shell_complete=complete_preset,
        help="Use the shop's defaults under this name for what is not chosen; by default LUCKY_KEYSTONE_PRESET.",
    )(function)


def _preset(preset: str | None, config: Path | None) -> GivenPreset:
    from ..doing.given import GivenPreset
    from ..planning.presets import PRESET

    return GivenPreset(preset, os.environ.get(PRESET), config)


def today() -> date:
    """Return the day by this computer's clock."""
    return datetime.now().astimezone().date()


def _given(**given: Any) -> GivenSource:
    from ..doing.given import GivenSource

    return GivenSource(**given)


def source_options(function: _F) -> _F:
    """--add, --sha256, --verify-source, --catalogue and --authority; with --with and those of setup, as `given`."""
    fields = ("added", "further", "drivers", "answer_file", "sha256", "verify", "catalogues", "authority")
    function = gathered("given", _given, *fields)(function)
    function = authority_option(function)
    function = click.option(
        "--catalogue",
        "catalogues",
        type=SourcePlace(),
        multiple=True,
        metavar="FILE-or-LINK",
        help="Prove a link by this catalogue, block by block; the source may be an image's name in it. Repeatable.",
    )(function)
    function = click.option(
        "--verify-source", "verify", is_flag=True, help="Read the source against its own integrity tables first."
    )(function)
    function = click.option(
        "--sha256",
        type=Sha256(),
        metavar="SUM",
        help="The disc image must have this SHA-256; checked before anything is erased (of a link: before the drive "
        "is finished).",
    )(function)
    return add_option("Add this folder's files to the source (drivers, scripts).")(function)
