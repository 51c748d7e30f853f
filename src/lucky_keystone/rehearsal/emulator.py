"""Starts a drive for real, in an emulator with real firmware, where both are installed. The drive is never written to.

The emulator opens it in snapshot mode: what the started system writes goes into a temporary file of the emulator's own
and is thrown away. The run ends by itself, or after some seconds, with a picture of the screen.
"""

from __future__ import annotations

import shutil
import subprocess
import time
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from tempfile import TemporaryDirectory

from ..errors import UsageError, naming
from ..invoker import give_to_user

_MEMORY = "512"  # MiB
_LOOK_EVERY = 0.2  # seconds
_FLASH = ("/usr/share", "/usr/local/share", "/opt/homebrew/share", "C:/Program Files/qemu/share")


@dataclass(frozen=True)
class Firmware:
    """One kind of firmware: which emulator runs it, and where its image and an empty variable store may lie."""

    name: str
    program: str
    machine: tuple[str, ...]
    images: tuple[str, ...] = ()
    """Paths below the usual folders, tried in order; none for firmware that the emulator brings along."""
    stores: tuple[str, ...] = ()


_PC = ("-machine", "q35,smm=on", "-accel", "tcg")
_ARM = ("-machine", "virt", "-cpu", "cortex-a57", "-accel", "tcg", "-device", "ramfb")
FIRMWARES = {
    "bios": Firmware("BIOS", "qemu-system-x86_64", _PC),
    "uefi-x64": Firmware(
        "UEFI 64-bit",
        "qemu-system-x86_64",
        _PC,
        ("OVMF/OVMF_CODE_4M.fd", "OVMF/OVMF_CODE.fd", "edk2/x64/OVMF_CODE.4m.fd", "qemu/edk2-x86_64-code.fd"),
        ("OVMF/OVMF_VARS_4M.fd", "OVMF/OVMF_VARS.fd", "edk2/x64/OVMF_VARS.4m.fd", "qemu/edk2-i386-vars.fd"),
    ),
    "uefi-x86": Firmware(
        "UEFI 32-bit",
        "qemu-system-x86_64",
        _PC,
        ("OVMF/OVMF32_CODE_4M.secboot.fd", "edk2/ia32/OVMF_CODE.4m.fd", "qemu/edk2-i386-code.fd"),
        ("OVMF/OVMF32_VARS_4M.fd", "edk2/ia32/OVMF_VARS.4m.fd", "qemu/edk2-i386-vars.fd"),
    ),
    "uefi-arm64": Firmware(
        "UEFI ARM64",
        "qemu-system-aarch64",
        _ARM,
        ("AAVMF/AAVMF_CODE.fd", "edk2/aarch64/QEMU_EFI-pflash.raw", "qemu/edk2-aarch64-code.fd"),
        ("AAVMF/AAVMF_VARS.fd", "edk2/aarch64/vars-template-pflash.raw", "qemu/edk2-arm-vars.fd"),
    ),
}


@dataclass(frozen=True)
class Started:
    """What an emulated start gave."""

    serial: str
    """What the started program sent to the first serial port."""
    ended: bool
    """True when the machine switched itself off, False when its time was over."""
    seconds: float


def find_image(candidates: Sequence[str]) -> Path | None:
    """Return the first of the firmware images that is installed here."""
    paths = (Path(folder) / name for name in candidates for folder in _FLASH)
    return next((path for path in paths if path.exists()), None)


def start_drive(
    drive: Path,
    firmware: str,
    *,
    seconds: int,
    picture: Path | None = None,
    sector_size: int = 512,
    image: Path | None = None,
    store: Path | None = None,
) -> Started:
    """Start `drive` as a USB stick under a firmware of FIRMWARES; write `picture` (PNG) of the screen at the end.

    `image` and `store` are firmware to use instead of what is installed. Raises UsageError when something is not
    installed.
    """
    kind = FIRMWARES[firmware]
    program = shutil.which(kind.program)
    if program is None:
        raise UsageError(
            f"{kind.program} is not installed.",
            advice="Install the QEMU emulator, or rehearse a BIOS start without it.",
        )
    with TemporaryDirectory() as folder:
        command = [
            program,
            *kind.machine,
            "-m",
            _MEMORY,
            "-display",
            "none",
            "-no-reboot",
            "-nic",
            "none",
            "-monitor",
            "stdio",
        ]
        command += ["-serial", f"file:{folder}/serial.txt"]
        if kind.images:
            command += _flash(kind, Path(folder), image, store)
        name = str(drive).replace(",", ",,")
        block = f",logical_block_size={sector_size},physical_block_size={sector_size}" if sector_size != 512 else ""
        command += ["-drive", f"if=none,id=stick,format=raw,file={name},snapshot=on", "-device", "qemu-xhci"]
        command += ["-device", f"usb-storage,drive=stick,bootindex=0,removable=on{block}"]
        if firmware != "uefi-arm64":
            command += ["-device", "isa-debug-exit,iobase=0xf4,iosize=4"]
        began = time.monotonic()
        screen = Path(folder, "screen.png")
        ended = _run(command, seconds, screen)
        if picture is not None and screen.exists():
            with naming(str(picture), UsageError, advice="Choose a place where the picture can be written."):
                shutil.copyfile(screen, picture)
                give_to_user(picture)
        serial = Path(folder, "serial.txt")
        text = serial.read_text("utf-8", "replace") if serial.exists() else ""
        return Started(text, ended, time.monotonic() - began)


def _flash(kind: Firmware, folder: Path, image: Path | None, store: Path | None) -> list[str]:
    image, store = image or find_image(kind.images), store or find_image(kind.stores)
    if image is None or store is None:
        raise UsageError(
            f"No firmware image for {kind.name} is installed.",
            advice="Install the package that brings it (ovmf, ovmf-ia32 or qemu-efi-aarch64 on Debian).",
        )
    variables = folder / "variables.fd"
    variables.write_bytes(store.read_bytes())
    secure = ["-global", "driver=cfi.pflash01,property=secure,value=on"] if "secboot" in image.name else []
    drives = [f"if=pflash,format=raw,readonly=on,file={image}", f"if=pflash,format=raw,file={variables}"]
    return [*secure, *(part for drive in drives for part in ("-drive", drive))]


def _run(command: list[str], seconds: int, screen: Path) -> bool:
    """Run the emulator until it ends or its time is over, keeping a picture of its screen; return whether it ended."""
    pipes: dict[str, int] = {"stdin": subprocess.PIPE, "stdout": subprocess.DEVNULL, "stderr": subprocess.PIPE}
    try:
        with subprocess.Popen(command, text=True, **pipes) as emulator:  # type: ignore[call-overload]  # noqa: S603 - no shell, our words
            limit = time.monotonic() + seconds
            while emulator.poll() is None and time.monotonic() < limit:
                time.sleep(_LOOK_EVERY)
                # Again and again: a machine that switches itself off leaves no time for a last one.
                _order(emulator, f'screendump "{screen}" -f png')
            ended = emulator.poll() is not None
            if not ended:
                _order(emulator, "quit")
            _, complaint = emulator.communicate(timeout=20)
            if ended and emulator.returncode == 1:
                _refuse(complaint)
            return ended
    except subprocess.TimeoutExpired:
        emulator.kill()
        return False
    except OSError as error:
        raise UsageError(
            f"The emulator cannot be started: {error.strerror}.", advice="Check its installation."
        ) from error


def _order(emulator: subprocess.Popen[str], order: str) -> None:
    """Give an order to the emulator's own console."""
    assert emulator.stdin is not None
    with suppress(BrokenPipeError):  # it has just ended
        emulator.stdin.write(order + "\n")
        emulator.stdin.flush()


def _refuse(words: str) -> None:
    """Raise UsageError for what the emulator complained of when it could not begin."""
    lines = [line for line in words.splitlines() if "warning" not in line]
    if lines:
        raise UsageError(f"The emulator does not start: {lines[-1][:300]}", advice="Check its installation.")
