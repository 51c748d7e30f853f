"""The facts about a machine, and the file that keeps them (TOML, documented in docs/formats.md).

Every key may be left out: what is not known is not guessed. A machine that started in BIOS mode may well be able to
start by UEFI, so how it started and what it can start are two keys.
"""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

import msgspec

from ..common.errors import UsageError
from ..common.later import tomlkit
from ..common.outputs import OutputKind, Replacing, refuse_output, write_output
from ..common.settings import read_settings, unknown_key
from ..common.units import parse_size, shown_size

FORMAT = 1
Architecture = Literal["x64", "x86", "arm64"]
SecureBoot = Literal["on", "off", "setup mode", "off or setup mode", "none"]
SecurityModule = Literal["2.0", "1.2", "none"]
Flag = Literal["yes", "no"]
Bytes = Annotated[int, msgspec.Meta(ge=0, le=(1 << 63) - 1)]


class MachineFacts(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """What is known of a machine. None: not known."""

    name: str = ""
    model: str = ""
    """As its maker calls it; of a Mac as MacBookPro14,1."""
    board: str = ""
    """Of a Mac: the board id of its firmware."""
    architecture: Architecture | None = None
    """Of its processor."""
    started_by: Literal["bios", "uefi"] | None = None
    """How it started when it was looked at."""
    bios: Flag | None = None
    """Whether it can start by BIOS."""
    uefi: Flag | None = None
    uefi_width: Literal[32, 64] | None = None
    """Bits of its UEFI firmware, which may be fewer than the processor's."""
    secure_boot: SecureBoot | None = None
    trusts: tuple[str, ...] = ()
    """Files with what its Secure Boot allows (db), beside the machine's own file."""
    refuses: tuple[str, ...] = ()
    """The same of what it refuses (dbx)."""
    security_module: SecurityModule | None = None
    memory: Bytes | None = None
    """Bytes that its system can use: some percent less than what is built in."""
    storage: Bytes | None = None
    """Bytes of its largest internal disk."""
    processor: str = ""
    popcnt: Flag | None = None
    sse4_2: Flag | None = None

    @property
    def shown(self) -> str:
        """What it is called."""
        return self.name or self.model or "this machine"


_WORDS: dict[str, tuple[str, str]] = {
    "name": ('"Counter 3"', "what the shop calls it"),
    "model": ('"TidewellBook7,2"', "as its maker calls it; a Mac's decides what it starts"),
    "board": ('"Mac-2B1EF49A0C7D3586"', "a Mac's board id, by which releases list it too"),
    "architecture": ('"x64"', "of the processor: x64, x86 or arm64"),
    "started_by": ('"uefi"', "how it started when it was looked at: bios or uefi"),
    "bios": ('"yes"', "whether it can start by BIOS (a legacy or CSM entry in its setup): yes or no"),
    "uefi": ('"yes"', "whether it can start by UEFI: yes or no"),
    "uefi_width": ("64", "bits of its UEFI firmware: 64, or 32 as on some tablets"),
    "secure_boot": ('"on"', "on, off, setup mode (no keys yet), off or setup mode, or none"),
    "trusts": ('["counter-3.db"]', "files with what its Secure Boot allows, beside this file: certificates or lists"),
    "refuses": ('["counter-3.dbx"]', "the same of what it refuses"),
    "security_module": ('"2.0"', "TPM: 2.0, 1.2 or none"),
    "memory": ('"8 GiB"', "that is built in"),
    "storage": ('"256 GB"', "its largest internal disk"),
    "processor": ('"…"', "its name"),
    "popcnt": ('"yes"', "whether the processor knows POPCNT; builds from 26100 on need it"),
    "sse4_2": ('"yes"', "the same of SSE4.2"),
}
"""An example and what is meant, of each key."""


def blank() -> str:
    """Return a file to be filled in by hand: every key as a comment."""
    lines = [
        "# A machine, for 'plan', 'build' and 'check' with --machine. Take the # away where you know the answer,",
        "# and leave out what you do not know.",
        f"machine = {FORMAT}",
        "",
    ]
    return "\n".join([*lines, *(f"# {key} = {example}    # {words}" for key, (example, words) in _WORDS.items()), ""])


def save_machine(facts: MachineFacts, path: Path, replacing: Replacing) -> None:
    """Save facts. Raises ProtectError where something else is in the way."""
    refuse_output(path, OutputKind.MACHINE, replacing)
    document = tomlkit.document()
    document.add(tomlkit.comment("A machine, as 'lucky-keystone machine' found it. What is left out is not known."))
    document.add("machine", tomlkit.item(FORMAT))
    for key, (_, words) in _WORDS.items():
        value = getattr(facts, key)
        if value in (None, "", ()):
            document.add(tomlkit.comment(f"{key}: not known ({words})"))
            continue
        stored = tomlkit.item(shown_size(value) if key in ("memory", "storage") else value)
        stored.comment(words)
        document.add(key, stored)
    write_output(path, tomlkit.dumps(document).encode(), OutputKind.MACHINE, replacing)


def read_machine(path: Path) -> MachineFacts:
    """Read a machine's file. Raises UsageError naming the line and key that are wrong."""
    advice = "Name a file that 'lucky-keystone machine --save' or --blank made, or correct it."
    text, given = read_settings(path, "a machine's file", "machine", FORMAT, advice)
    for key in given:
        if key not in _WORDS:
            raise unknown_key(path, text, key, _WORDS, "'machine --blank' lists the keys.")
    for key in ("memory", "storage"):
        if isinstance(given.get(key), str):
            given[key] = parse_size(given[key])
    try:
        return msgspec.convert(given, MachineFacts, strict=True)
    except msgspec.ValidationError as error:
        raise UsageError(f"{path}: {error}.", advice="'machine --blank' says what each key may be.") from error
