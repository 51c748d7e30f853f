"""A UEFI loader by its own bytes: what it is made for, whether it is whole, who signed it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from msgspec import Struct

from ..common.errors import KeystoneError, TooFarInside
from ..content.contents import SizedReadable, seekable
from ..content.tree import File
from .bootable import BootFile
from .pe import REMOVABLE_LOADERS, loader_architecture, loader_fault

if TYPE_CHECKING:
    from .authenticode import Signature
    from .trust import Digest


class LoaderState(Struct, frozen=True):
    """What a UEFI loader is by its own bytes."""

    path: str
    architecture: str
    """By its PE header; '' when it is not a loader."""
    fault: str
    """Why it cannot be whole, '' when it is."""
    signatures: tuple[Signature, ...]
    unseen: str = ""
    """Why it was not examined; '' when it was."""
    digest: Digest | None = None
    """What firmware goes by where it has no signature; None where it has one, or is not a loader."""


def loader_path(architecture: str) -> str:
    """Return the path of the removable-media loader of an architecture (UEFI 2.10, 3.5.1.1, table 3.2)."""
    return f"efi/boot/{REMOVABLE_LOADERS[architecture]}"


def examine_file(path: str, file: File) -> LoaderState:
    """The same of a file that is in no volume yet."""
    return examine(BootFile(path, seekable(file.content), file.size))


def examine(file: BootFile) -> LoaderState:
    """Read a loader's headers, and all of it when it is signed. Bytes that cannot be read are its fault."""
    if file.faults:
        return LoaderState(file.path, "", "; ".join(file.faults), ())
    if file.unseen:
        return LoaderState(file.path, "", "", (), file.unseen)
    content: SizedReadable = file.content
    try:
        architecture = loader_architecture(content)
        fault = loader_fault(content) if architecture else ""
        if not architecture or fault:
            return LoaderState(file.path, architecture, fault, ())
        from .authenticode import read_signatures, unsigned_digest  # what reads certificates takes its time to load

        signatures = read_signatures(content)
        digest = None if signatures else unsigned_digest(content)
        return LoaderState(file.path, architecture, fault, signatures, digest=digest)
    except TooFarInside as error:
        return LoaderState(file.path, "", "", (), error.message)
    except KeystoneError as error:
        return LoaderState(file.path, "", error.message.rstrip("."), ())
