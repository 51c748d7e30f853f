"""Which Macs a release lists, and which class a Mac is of by its model: what decides how it starts a drive.

The lists are of models that were sold, from the vendor's support pages. A model that is on none, and whose number says
nothing, is of no known class.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, Literal

from msgspec import Struct

MacClass = Literal["Intel", "T2", "Apple silicon"]

_T2 = frozenset(
    {
        *("iMacPro1,1", "Macmini8,1", "MacPro7,1", "iMac20,1", "iMac20,2"),
        *("MacBookAir8,1", "MacBookAir8,2", "MacBookAir9,1"),
        *("MacBookPro15,1", "MacBookPro15,2", "MacBookPro15,3", "MacBookPro15,4"),
        *("MacBookPro16,1", "MacBookPro16,2", "MacBookPro16,3", "MacBookPro16,4"),
    }
)
_FIRST_OF_SILICON = {"MacBookAir": 10, "MacBookPro": 17, "Macmini": 9, "iMac": 21, "Mac": 13, "VirtualMac": 2}
"""By the family of a model: from this number on."""
_OF_INTEL = frozenset({"MacBook", "MacBookAir", "MacBookPro", "Macmini", "iMac", "MacPro", "Xserve"})
_BOARD = "Mac-"
_MODEL = re.compile(r"([A-Za-z]+)(\d+),\d+")


class ListedMacs(Struct, frozen=True):
    """The Macs that a release lists."""

    models: tuple[str, ...] = ()
    boards: tuple[str, ...] = ()
    """Board ids of their firmware: 'Mac-' and hexadecimal digits."""
    excluded: tuple[str, ...] = ()
    """Models that it is not for."""

    def has(self, model: str, board: str = "") -> bool | None:
        """Tell whether a Mac is listed; None where nothing decides it. What is not known of the Mac is ''."""
        if model and model in self.excluded:
            return False
        if (model and model in self.models) or (board and board in self.boards):
            return True
        return False if (model and self.models) or (board and self.boards) else None


def listed_macs(support: Mapping[str, Any]) -> ListedMacs:
    """Return what a release's PlatformSupport.plist lists."""

    def texts(key: str) -> tuple[str, ...]:
        value = support.get(key)
        return tuple(each for each in value if isinstance(each, str)) if isinstance(value, list) else ()

    return ListedMacs(texts("SupportedModelProperties"), texts("SupportedBoardIds"))


def named_mac(text: str) -> tuple[str, str]:
    """Return the model and the board id that a person's word for a Mac means, of which one is ''."""
    return ("", text) if text.startswith(_BOARD) else (text, "")


def class_of(model: str) -> MacClass | None:
    """Return the class of a Mac, by a model as MacBookPro14,1; None where it is not known."""
    found = _MODEL.fullmatch(model)
    if found is None:
        return None
    family, number = found[1], int(found[2])
    if model in _T2:
        return "T2"
    if family in _FIRST_OF_SILICON and number >= _FIRST_OF_SILICON[family]:
        return "Apple silicon"
    return "Intel" if family in _OF_INTEL else None
