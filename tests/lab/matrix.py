"""Every shape under every firmware.

What the forecast says, what happens, and the table of both that stands in the docs.

python -m tests.lab.matrix      starts all of them and writes docs/starts.md again
"""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from msgspec.structs import replace

from lucky_keystone.common.errors import KeystoneError
from lucky_keystone.common.progress import silent
from lucky_keystone.demo.disc import write_disc
from lucky_keystone.demo.tidewell import LABEL, MOMENT, installer
from lucky_keystone.families.choices import Choices
from lucky_keystone.families.family import DriveShape
from lucky_keystone.planning.make import make_plan
from lucky_keystone.rehearsal.emulator import start_drive
from lucky_keystone.sources.opening import open_source
from lucky_keystone.sources.source import Source
from lucky_keystone.starting.outlook import Outlook
from lucky_keystone.starting.signature_lists import read_database
from lucky_keystone.starting.trust import Machine
from lucky_keystone.starting.uefi import UNMARKED

from ..helpers.drives import Built, build_drive
from .emulator import LIMIT, has_given_up

DOCUMENT = Path(__file__).parents[2] / "docs" / "starts.md"
TABLES, FIRMWARES, FILE_SYSTEMS = ("mbr", "gpt"), ("bios", "uefi", "both"), ("fat32", "ntfs", "fat32+ntfs")
ROWS = {
    "BIOS": "bios",
    "UEFI 64-bit": "uefi-x64",
    "UEFI 64-bit, Secure Boot": "uefi-x64",
    "UEFI 32-bit": "uefi-x86",
    "UEFI ARM64": "uefi-arm64",
    "UEFI ARM64, Secure Boot": "uefi-arm64",
    "BIOS (Bochs)": "bios-bochs",
    "UEFI ARM64 (U-Boot)": "uefi-arm64-u-boot",
}
"""Rows that firmware here can prove, and the firmware; the last two are of the forecast's first of that kind.

No 32-bit firmware here comes with a test key. The other makers' firmware starts the drive as a fixed disk, and its
reader of FAT volumes does not find names beyond ASCII, so that not all files can be read through it.
"""
KEY = Path("/usr/share/ovmf/PkKek-1-snakeoil.key")
SECURE = {
    "uefi-x64": (Path("/usr/share/OVMF/OVMF_CODE_4M.secboot.fd"), Path("/usr/share/OVMF/OVMF_VARS_4M.snakeoil.fd")),
    "uefi-arm64": (Path("/usr/share/AAVMF/AAVMF_CODE.snakeoil.fd"), Path("/usr/share/AAVMF/AAVMF_VARS.snakeoil.fd")),
}
"""Firmware that enforces Secure Boot, with a published test key and nothing else to trust."""
DONE = {
    "bios": "TIDEWELL BIOS DONE",
    "bios-bochs": "TIDEWELL BIOS DONE",
    "uefi-arm64-u-boot": "Tidewell stand-in loader, UEFI",
}


def certificate_of(key: Path = KEY) -> Path:
    """The test key's certificate."""
    return key.with_suffix(".pem")


def sign(loader: bytes, folder: Path) -> bytes:
    """Return `loader` signed with the test key, by another program."""
    (folder / "plain.efi").write_bytes(loader)
    opened = folder / "key.pem"
    subprocess.run(
        ["openssl", "rsa", "-in", KEY, "-passin", "pass:snakeoil", "-out", opened], check=True, capture_output=True
    )
    command = [
        "sbsign",
        "--key",
        opened,
        "--cert",
        certificate_of(),
        "--output",
        folder / "signed.efi",
        folder / "plain.efi",
    ]
    subprocess.run(command, check=True, capture_output=True)
    return (folder / "signed.efi").read_bytes()


def lab_source(folder: Path, *, signed: bool) -> Source:
    """A small installer with loaders for three architectures, signed with the test key if that is wanted."""
    disc = folder / "lab.iso"
    write_disc(
        disc,
        installer(hollow_size=4 << 20, hollow_count=1, files=12, architectures=("x64", "x86", "arm64")),
        LABEL,
        MOMENT,
        silent,
    )
    source = open_source(disc)
    if not signed:
        return source
    over = folder / "over" / "efi" / "boot"
    over.mkdir(parents=True)
    for path, file in source.root.files():
        if path.startswith("efi/boot/"):
            data = file.content.read_at(0, file.size)  # type: ignore[attr-defined]
            (over / path.rpartition("/")[2]).write_bytes(sign(data, folder))
    return open_source(disc, [folder / "over"])


@dataclass(frozen=True)
class Tried:
    """A row of the forecast and what came of it."""

    shape: str
    firmware: str
    forecast: Outlook
    started: bool


def build_shape(source: Source, folder: Path, table: str, firmware: str, file_system: str) -> Built | KeystoneError:
    """Build one shape, or return why it is refused."""
    choices = Choices(table=table, firmware=firmware, file_system=file_system)
    path = folder / f"{table}-{firmware}-{file_system.replace('+', '-')}.img"
    try:
        make_plan(source, choices, DriveShape(path.name, None))
    except KeystoneError as error:
        return error
    return build_drive(source, path, choices)


def try_rows(built: Built, rows: Iterable[str] = tuple(ROWS)) -> Iterator[Tried]:
    """Start a drive under each firmware that is here; the forecast knows the test key's certificate."""
    trusted = read_database(certificate_of())
    plan = make_plan(built.source, built.plan.choices, built.plan.drive, machine=Machine(trusted))
    told = {row.firmware: row for row in plan.forecast}
    told["BIOS (Bochs)"] = told["BIOS"]
    arm = told["UEFI ARM64"]
    told["UEFI ARM64 (U-Boot)"] = replace(arm, verdict="will not start") if UNMARKED in arm.reason else arm
    choices = built.plan.choices
    for row in rows:
        firmware = ROWS[row]
        image, store = SECURE[firmware] if "Secure Boot" in row else (None, None)
        serial = start_drive(built.path, firmware, seconds=LIMIT, until=has_given_up, image=image, store=store).serial
        started = DONE.get(firmware, "TIDEWELL UEFI DONE") in serial
        yield Tried(f"{choices.table}, {choices.firmware}, {choices.file_system}", row, told[row], started)


def write_table(folder: Path) -> bool:
    """Try everything and write the document; return whether every forecast held."""
    lines = [
        "# Where each shape starts",
        "",
        "Made by `python -m tests.lab.matrix`, which builds every combination of table, firmware and file system",
        "from a small installer with signed stand-in loaders, and starts each as a USB stick under SeaBIOS, OVMF",
        "(64-bit, 32-bit) and the ARM64 firmware, with Secure Boot enforced by a test key where the row says so; and",
        "as a fixed disk under the firmware of two other makers: Bochs' BIOS, and U-Boot's UEFI, which goes by marks.",
        "*yes* means that the loader ran and read its files to their end; *no* that it did not. Every row is as it",
        "was forecast unless it says otherwise.",
        "",
        "| table | for | file system | " + " | ".join(ROWS) + " |",
        "|---" * (3 + len(ROWS)) + "|",
    ]
    refused: list[str] = []
    all_held = True
    source = lab_source(folder, signed=True)
    for table in TABLES:
        for firmware in FIRMWARES:
            for file_system in FILE_SYSTEMS:
                built = build_shape(source, folder, table, firmware, file_system)
                if isinstance(built, KeystoneError):
                    lines.append(f"| {table} | {firmware} | {file_system} |" + " refused |" * len(ROWS))
                    refused.append(f"- {table}, {firmware}, {file_system}: {built.message} {built.advice}")
                    continue
                cells = []
                for tried in try_rows(built):
                    held = tried.started == (tried.forecast.verdict == "starts")
                    all_held = all_held and held
                    cells.append(
                        ("yes" if tried.started else "no") + ("" if held else f" (forecast: {tried.forecast.verdict})")
                    )
                    print(tried.shape, tried.firmware, cells[-1], tried.forecast.reason, flush=True)
                lines.append(f"| {table} | {firmware} | {file_system} | " + " | ".join(cells) + " |")
                built.path.unlink()
    lines += ["", "Refused, with the reason and the nearest choice:", "", *dict.fromkeys(refused)]
    DOCUMENT.write_text("\n".join(lines) + "\n", "utf-8")
    return all_held


if __name__ == "__main__":
    with TemporaryDirectory() as name:
        sys.exit(0 if write_table(Path(name)) else 1)
