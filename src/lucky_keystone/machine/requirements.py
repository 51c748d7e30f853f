"""What a release asks of a machine, beside what the machine has."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

from msgspec import Struct

from ..common.units import shown_size
from ..setup.waivers import FIRST_BUILD, FIRST_WITH_POPCNT
from ..starting.mac_models import ListedMacs, class_of
from ..wim.read import is_server
from .facts import Flag, MachineFacts

_MEMORY, _STORAGE = 4 << 30, 64_000_000_000
_RESERVED = 0.1
"""Of the memory that is built in, at most, systems and graphics keep that much for themselves."""
Met = Literal["met", "not met", "not known"]


class Requirement(Struct, frozen=True):
    """One thing that a release asks for."""

    name: str
    asked: str
    has: str
    met: Met
    waiver: str = ""
    """Name of the waiver that leaves the check out; '' where none helps."""

    @property
    def next_step(self) -> str:
        """What can be done where it is not known to be met."""
        if self.met == "met":
            return ""
        return f"--waive {self.waiver} leaves the check out" if self.waiver else "nothing waives this"


def model_listed(model: str, board: str, listed: ListedMacs, *, for_silicon: bool) -> Requirement:
    """Return whether a Mac is one that a release is for. Those listed are Intel's; Apple silicon needs no list."""
    kind, mac = class_of(model), model or board
    if kind == "Apple silicon":
        asked, met = "Apple silicon" if for_silicon else "a Mac with Intel's processor", _met(mac, for_silicon)
    else:
        asked = f"one of {len(listed.models)} models" if listed.models else "models that it does not list"
        is_listed = listed.has(model, board)
        met = _met(None if is_listed is None else mac, is_listed is True)
    return Requirement("model", asked, f"{mac} ({kind})" if kind else mac, met)


def requirements(build: int, installation: str, machine: MachineFacts) -> tuple[Requirement, ...]:
    """Return what setup of a release checks, with what the machine has. `installation` is the edition's type.

    Only client editions from build 22000 on check anything; server editions of the same builds do not.
    """
    if build < FIRST_BUILD or is_server(installation):
        return ()
    return tuple(_all(build, machine))


def _all(build: int, machine: MachineFacts) -> Iterator[Requirement]:
    module = machine.security_module
    yield Requirement("TPM", "2.0", module or "", _met(module, module == "2.0"), "tpm")
    secure = machine.secure_boot or ("none" if machine.uefi == "no" else None)
    # Setup asks whether the machine can do it, not whether it is on.
    yield Requirement("Secure Boot", "available", secure or "", _met(secure, secure != "none"), "secure-boot")
    memory = machine.memory
    enough = memory is not None and memory >= _MEMORY * (1 - _RESERVED)
    yield Requirement("memory", shown_size(_MEMORY), _size(memory), _met(memory, enough), "memory")
    storage = machine.storage
    fits = storage is not None and storage >= _STORAGE
    yield Requirement("storage", "64 GB", _size(storage), _met(storage, fits), "storage")
    if build >= FIRST_WITH_POPCNT and machine.architecture != "arm64":
        for name, flag in (("POPCNT", machine.popcnt), ("SSE4.2", machine.sse4_2)):
            yield Requirement(name, "yes", flag or "", _known(flag))


def _met(value: object, holds: bool) -> Met:
    return "not known" if value is None else "met" if holds else "not met"


def _known(flag: Flag | None) -> Met:
    return "not known" if flag is None else "met" if flag == "yes" else "not met"


def _size(size: int | None) -> str:
    return "" if size is None else shown_size(size)
