"""What is said of a source."""

from __future__ import annotations

from msgspec import Struct

from ..starting.mac_models import ListedMacs
from ..wim.read import Edition


class Loader(Struct, frozen=True):
    """A loader found in the source."""

    path: str
    firmware: str
    """'bios' or 'uefi'."""
    architecture: str
    """By the PE header; 'x86' for BIOS; '' when the file is not a loader after all."""
    size: int


class InstallImageFacts(Struct, frozen=True):
    """An install image in the source."""

    path: str
    size: int
    editions: tuple[Edition, ...]
    solid: bool
    part_count: int
    has_integrity: bool


class MacFacts(Struct, frozen=True):
    """What is said of a macOS installer."""

    title: str
    """The app's name."""
    build: str = ""
    """'17G66' and so on; '' where nothing says it."""
    generation: str = ""
    """The releases that are built alike."""
    models: tuple[str, ...] = ()
    """Models of Macs that the source lists; none where it does not say."""
    boards: tuple[str, ...] = ()
    """The same by the board id of their firmware."""
    sold: int = 0
    """GB of the smallest stick to buy, as sticks are sold."""
    base_unread: str = ""
    """Why its base system is not examined; '' when it is."""
    certified_until: str = ""
    """The day (ISO 8601) on which the first certificate of its packages ends; '' where none was found."""

    @property
    def listed(self) -> ListedMacs:
        return ListedMacs(self.models, self.boards)


class SourceFacts(Struct, frozen=True, kw_only=True):
    """What a source is. Sizes in bytes."""

    family: str
    form: str
    """How it was read: 'disc image (UDF)', 'disc image (ISO 9660, Joliet)', 'folder' and so on."""
    label: str = ""
    file_count: int = 0
    folder_count: int = 0
    total_bytes: int = 0
    architectures: tuple[str, ...] = ()
    languages: tuple[str, ...] = ()
    release: str = ""
    """Version of the first edition, '' when nothing says it."""
    build: int = 0
    loaders: tuple[Loader, ...] = ()
    images: tuple[InstallImageFacts, ...] = ()
    """The install images: what editions are installed from."""
    boot_images: tuple[InstallImageFacts, ...] = ()
    """The setup environments."""
    oversized: tuple[tuple[str, int], ...] = ()
    """Files FAT32 cannot hold, with their sizes."""
    table: str = ""
    """Of a raw image: its own table in words."""
    mac: MacFacts | None = None
    """Of a macOS installer."""
    notes: tuple[str, ...] = ()
    damage: tuple[str, ...] = ()
    """Why it cannot be whole, a sentence each; empty where nothing speaks against it."""
    unusable: str = ""
    """Why no drive at all can be built from it, as a sentence; '' where one can."""
    unusable_advice: str = ""
