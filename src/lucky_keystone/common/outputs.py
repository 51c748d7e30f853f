"""Files the program writes for people: plans, figures, pictures, tables. None of theirs is lost by it.

A file that is there is replaced only when it is one of ours of the same kind, or when the user says so; what is built
from, what is built onto and the shop's record never are. It is written beside its place and takes its name when it is
whole. A link is not followed.
"""

from __future__ import annotations

import os
import stat
import sys
from collections.abc import Callable, Collection
from contextlib import suppress
from enum import Enum
from pathlib import Path

from msgspec import Struct

from .errors import DriveError, ProtectError, naming
from .invoker import give_to_user
from .notes import note
from .positional import rename

MAKER = "Lucky Keystone"
"""Put into figures and pictures, by which they are known as ours."""
PLAN_HEAD = f"# A plan of {MAKER}."
MACHINE_HEAD = "# A machine"
_HEAD = 4096
_LISTS = (bytes.fromhex("a159c0a5e494a74a87b5ab155c2bf072"), bytes.fromhex("2616c4c14c509240aca941f936934328"))
"""First bytes of signature lists: GUIDs of certificates and of SHA-256 digests (UEFI 2.10, 32.4.1)."""


class OutputKind(Enum):
    """What is written, and how a file of that kind of ours is known by its first bytes."""

    PLAN = ("plan", lambda head: head.startswith(PLAN_HEAD.encode()))
    FIGURE = ("figure", lambda head: head[:5] in (b"\x89PNG\r", b"<?xml") and MAKER.encode() in head)
    TABLE = ("table", lambda head: head.startswith(b"moment,"))
    PAGE = ("page", lambda head: head[:5] in (b"\x89PNG\r", b"<!DOC") and MAKER.encode() in head)
    BATCH = (
        "report of a batch",
        lambda head: head.startswith(b"line,drive,") or head[:40].split()[:3] == [b"[", b"{", b'"line":'],
    )
    COLLECTION = ("collection", lambda head: b'"command": "collect"' in head[:80])
    MACHINE = ("machine's file", lambda head: head.startswith(MACHINE_HEAD.encode()))
    LISTS = ("signature list", lambda head: head[:16] in _LISTS)

    @property
    def is_ours(self) -> Callable[[bytes], bool]:
        """Tell by a file's first bytes whether it is one of ours of this kind."""
        return self.value[1]


class Replacing(Struct, frozen=True):
    """What may be replaced: a file of someone else's when `overwrite`, and never one of `never`."""

    overwrite: bool = False
    never: Collection[Path] = ()


NOTHING_ELSE = Replacing()


def refuse_output(path: Path, kind: OutputKind, replacing: Replacing) -> None:
    """Raise ProtectError when what is at `path` must not be replaced."""
    for other in replacing.never:
        if _is_same(path, other):
            raise ProtectError(
                f"{path} is in use by this command ({other}): an output never replaces it.",
                advice="Choose another name.",
            )
    try:
        facts = path.lstat()
    except OSError:
        return
    if not stat.S_ISREG(facts.st_mode):
        raise ProtectError(f"{path} exists, and is a link, a folder or a device.", advice="Choose another name.")
    if replacing.overwrite or not facts.st_size:
        return
    with suppress(OSError), path.open("rb") as stream:
        if kind.is_ours(stream.read(_HEAD)):
            return
    raise ProtectError(
        f"{path} exists, and is not a {kind.value[0]} made by this program.",
        advice="Choose another name, or add --overwrite to replace it.",
    )


def write_output(path: Path, data: bytes, kind: OutputKind, replacing: Replacing) -> None:
    """Write a file whole, or not at all. Raises ProtectError as `refuse_output` does, and DriveError."""
    refuse_output(path, kind, replacing)
    with naming(str(path), DriveError, advice="Choose a place where it can be written."):
        replace_whole(path, data)


def replace_whole(path: Path, data: bytes) -> None:
    """Write a file whole, in place of one that may be there, or not at all. Raises OSError."""
    beside = path.with_name(f".{path.name[:100]}.{os.urandom(4).hex()}")
    descriptor = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0), 0o666)
    try:
        with os.fdopen(descriptor, "wb") as stream:
            stream.write(data)
        give_to_user(beside)
        rename(beside, path, replace=True)
    except BaseException:
        with suppress(OSError):
            beside.unlink()
        raise


def _is_same(path: Path, other: Path) -> bool:
    if path.resolve() == other.resolve():
        return True
    try:
        return path.samefile(other)
    except OSError:
        return False


def with_maker(picture: bytes) -> bytes:
    """Return a PNG with our name in it (PNG specification, 11.3.3.3: tEXt), so that it is known as ours."""
    import zlib

    text = b"tEXt" + f"Software\0{MAKER}".encode()
    chunk = (len(text) - 4).to_bytes(4, "big") + text + zlib.crc32(text).to_bytes(4, "big")
    behind_header = 8 + 25  # signature, and the chunk IHDR, which comes first
    return picture[:behind_header] + chunk + picture[behind_header:]


def name_whole(unfinished: Path, path: Path) -> None:
    """Give a whole, closed file its name, instead of the one it has.

    Raises ProtectError for a file that came there meanwhile: it is not replaced.
    """
    try:
        if sys.platform == "win32":
            rename(unfinished, path, replace=False)  # never replaces there
            return
        try:
            os.link(unfinished, path)  # unlike renaming, this never replaces
        except FileExistsError:
            raise
        except OSError:  # a file system without hard links
            if os.path.lexists(path):
                raise FileExistsError from None
            unfinished.rename(path)
            return
        try:
            unfinished.unlink()
        except OSError as error:  # the work is complete
            note(f"{path} is complete; the leftover {unfinished} could not be removed: {error.strerror}.")
    except FileExistsError as error:
        raise ProtectError(
            f"{path} was made meanwhile, by another program.", advice="Move it away, or choose another place."
        ) from error


def flush_folder(folder: Path) -> None:
    """Let a new file's name survive a power cut, where the system can be asked to."""
    if hasattr(os, "O_DIRECTORY"):
        descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
