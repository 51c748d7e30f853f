"""Starts a drive for real, in an emulator with real firmware, where both are installed. The drive is never written to.

The emulator opens it in snapshot mode: what the started system writes goes into a temporary file of the emulator's own
and is thrown away. The run ends by itself, or after some seconds, with a picture of the screen.
"""

from __future__ import annotations

import shutil
import subprocess
import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path
from tempfile import TemporaryDirectory

from msgspec import Struct

from ..common.errors import UsageError

_LOOK_EVERY = 0.2  # seconds
_PICTURE_EVERY = 1.0
"""Seconds between two pictures: packing one takes longer than looking at text."""
_TEXT_MEMORY, _COLUMNS = 0xB8000, 80  # of a PC's screen in text mode: a character and its colour in turn
_VIDEO_ROM = 0xC0000
_QUITS_WITHIN = 120  # seconds, even on a busy computer
_FOLDERS = ("/usr/share", "/usr/local/share", "/opt/homebrew/share", "C:/Program Files/qemu/share", "/usr/lib")


class Firmware(Struct, frozen=True):
    """One kind of firmware: which emulator runs it, and where its image and an empty variable store may lie."""

    name: str
    program: str
    machine: tuple[str, ...]
    images: tuple[str, ...] = ()
    """Paths below the usual folders, tried in order; none for firmware that the emulator brings along."""
    stores: tuple[str, ...] = ()
    """Empty variable stores, likewise; none for firmware that keeps no variables and is loaded as a whole."""
    device: str = "usb-storage,drive=stick,bootindex=0,removable=on"
    """How the drive is attached."""
    hardware: tuple[str, ...] = ("-device", "qemu-xhci")
    """What else the machine has."""
    memory: int = 512
    """MiB."""
    video: tuple[str, ...] = ()
    """The screen's own firmware, tried in order, where this one does not find it by itself."""
    has_text_screen: bool = False
    """A BIOS writes characters into the screen's own memory, where they can be read."""


_PC = ("-machine", "q35,smm=on", "-accel", "tcg", "-device", "isa-debug-exit,iobase=0xf4,iosize=4")
_ISA_PC = ("-machine", "isapc", "-cpu", "486", "-accel", "tcg", "-device", "isa-debug-exit,iobase=0xf4,iosize=4")
_ARM = ("-machine", "virt", "-cpu", "cortex-a57", "-accel", "tcg", "-device", "ramfb")
_ASKS_NOTHING = ("-boot", "menu=on,splash-time=0")
"""Firmware for ARM waits five seconds for a key otherwise."""
FIRMWARES = {
    "bios": Firmware("BIOS", "qemu-system-x86_64", _PC, has_text_screen=True),
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
        (*_ARM, *_ASKS_NOTHING),
        ("AAVMF/AAVMF_CODE.fd", "edk2/aarch64/QEMU_EFI-pflash.raw", "qemu/edk2-aarch64-code.fd"),
        ("AAVMF/AAVMF_VARS.fd", "edk2/aarch64/vars-template-pflash.raw", "qemu/edk2-arm-vars.fd"),
    ),
    "bios-bochs": Firmware(
        "BIOS (Bochs)",
        "qemu-system-i386",
        _ISA_PC,
        ("bochs/BIOS-bochs-latest",),
        device="ide-hd,drive=stick",
        hardware=(),
        memory=64,
        video=("seabios/vgabios-isavga.bin", "qemu/vgabios.bin"),
        has_text_screen=True,
    ),
    "uefi-arm64-u-boot": Firmware(
        "UEFI ARM64 (U-Boot)",
        "qemu-system-aarch64",
        _ARM,
        ("u-boot/qemu_arm64/u-boot.bin",),
        device="virtio-blk-device,drive=stick",
        hardware=(),
    ),
}


class Started(Struct, frozen=True):
    """What an emulated start gave."""

    serial: str
    """What the firmware and the started program sent to the first serial port."""
    screen: str
    """The text on the screen at the end, of a BIOS in text mode; otherwise empty."""
    ended: bool
    """True when the machine switched itself off, False when it was stopped."""
    seconds: float
    picture: bytes
    """The screen at the end (PNG); empty when there was none."""


def find_image(candidates: Sequence[str]) -> Path | None:
    """Return the first of the firmware images that is installed here."""
    paths = (Path(folder) / name for name in candidates for folder in _FOLDERS)
    return next((path for path in paths if path.exists()), None)


def start_drive(
    drive: Path,
    firmware: str,
    *,
    seconds: float,
    until: Callable[[str], bool] | None = None,
    sector_size: int = 512,
    image: Path | None = None,
    store: Path | None = None,
) -> Started:
    """Start `drive` under a firmware of FIRMWARES, attached as that firmware's table says; mostly as a USB stick.

    The start ends when the machine switches itself off, when `until` says of the text from serial port and screen that
    it is enough, or after `seconds`. `image` and `store` are firmware to
    use instead of what is installed. Raises UsageError when something is not installed.
    """
    kind = FIRMWARES[firmware]
    program = shutil.which(kind.program)
    if program is None:
        raise UsageError(
            f"{kind.program} is not installed.",
            advice="Install the QEMU emulator, or rehearse a BIOS start without it.",
        )
    with TemporaryDirectory() as name:
        folder = Path(name)
        command = [program, *kind.machine, "-m", str(kind.memory), "-display", "none", "-no-reboot", "-nic", "none"]
        command += ["-monitor", "stdio", "-serial", f"file:{folder}/serial.txt", *kind.hardware]
        if video := find_image(kind.video):
            command += ["-device", f"loader,file={video},addr={_VIDEO_ROM:#x},force-raw=on"]
        if kind.images:
            command += _flash(kind, folder, image, store)
        escaped = str(drive).replace(",", ",,")
        block = f",logical_block_size={sector_size},physical_block_size={sector_size}" if sector_size != 512 else ""
        command += ["-drive", f"if=none,id=stick,format=raw,file={escaped},snapshot=on"]
        command += ["-device", f"{kind.device}{block}"]
        began = time.monotonic()
        run = _Run(command, folder, has_text_screen=kind.has_text_screen)
        ended = run.wait(seconds, until)
        picture = run.picture.read_bytes() if run.picture.exists() else b""
        return Started(run.serial(), run.screen(), ended, time.monotonic() - began, picture)


def _flash(kind: Firmware, folder: Path, image: Path | None, store: Path | None) -> list[str]:
    image, store = image or find_image(kind.images), store or find_image(kind.stores)
    if image is None or (kind.stores and store is None):
        raise UsageError(
            f"No firmware image for {kind.name} is installed.",
            advice="Install the package that brings it "
            "(on Debian ovmf, ovmf-ia32, qemu-efi-aarch64, bochsbios or u-boot-qemu).",
        )
    if store is None:
        return ["-bios", str(image)]
    variables = folder / "variables.fd"
    variables.write_bytes(store.read_bytes())
    secure = ["-global", "driver=cfi.pflash01,property=secure,value=on"] if "secboot" in image.name else []
    drives = [f"if=pflash,format=raw,readonly=on,file={image}", f"if=pflash,format=raw,file={variables}"]
    return [*secure, *(part for drive in drives for part in ("-drive", drive))]


class _Run:
    """One run of the emulator, which keeps its serial port and its screen in files of `folder`."""

    def __init__(self, command: list[str], folder: Path, *, has_text_screen: bool) -> None:
        self._command, self._port, self.picture = command, folder / "serial.txt", folder / "screen.png"
        self._text = folder / "screen.bin" if has_text_screen else None

    def serial(self) -> str:
        return self._port.read_text("utf-8", "replace") if self._port.exists() else ""

    def screen(self) -> str:
        if self._text is None or not self._text.exists():
            return ""
        characters = self._text.read_bytes()[::2].decode("cp437").replace("\0", " ")
        lines = (characters[at : at + _COLUMNS].rstrip() for at in range(0, len(characters), _COLUMNS))
        return "\n".join(lines).rstrip()

    def wait(self, seconds: float, until: Callable[[str], bool] | None) -> bool:
        """Run, keeping a picture of the screen; return whether the machine switched itself off."""
        pipes: dict[str, int] = {"stdin": subprocess.PIPE, "stdout": subprocess.DEVNULL, "stderr": subprocess.PIPE}
        try:
            with subprocess.Popen(self._command, text=True, **pipes) as emulator:  # type: ignore[call-overload]  # noqa: S603 - no shell, our words
                limit, next_picture = time.monotonic() + seconds, 0.0
                while emulator.poll() is None and time.monotonic() < limit:
                    time.sleep(_LOOK_EVERY)
                    # Again and again: a machine that switches itself off leaves no time for a last one.
                    if time.monotonic() >= next_picture:
                        self._take_picture(emulator)
                        next_picture = time.monotonic() + _PICTURE_EVERY
                    if self._text is not None:
                        _order(emulator, f'pmemsave {_TEXT_MEMORY:#x} {_COLUMNS * 25 * 2} "{self._text}"')
                    if until is not None and until(f"{self.serial()}\n{self.screen()}"):
                        break
                ended = emulator.poll() is not None
                if not ended:
                    self._take_picture(emulator)
                    _order(emulator, "quit")
                try:
                    _, complaint = emulator.communicate(timeout=_QUITS_WITHIN)
                except subprocess.TimeoutExpired:
                    emulator.kill()
                    return False
                if ended and emulator.returncode == 1:
                    _refuse(complaint)
                return ended
        except OSError as error:
            raise UsageError(
                f"The emulator cannot be started: {error.strerror}.", advice="Check its installation."
            ) from error

    def _take_picture(self, emulator: subprocess.Popen[str]) -> None:
        _order(emulator, f'screendump "{self.picture}" -f png')


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
