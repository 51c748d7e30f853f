"""How a machine is started from a drive, in words for whoever stands before it."""

from __future__ import annotations

from collections.abc import Sequence

from .outlook import Outlook

_PC = (
    "To start a machine from it: open its boot menu, usually with F12, F11, F9, F8 or Esc right after power-on. The "
    "stick may be listed twice, for UEFI and for BIOS."
)
_MAC = "To start a Mac from it: switch it on while holding {key} until drives are shown, and choose '{label}'."
_OPTION, _POWER = "Option", "the power button"


def how_to_start(rows: Sequence[Outlook], labels_for_macs: Sequence[str]) -> list[str]:
    """Return how the machines are started that a forecast says start, a paragraph each.

    `labels_for_macs` are the labels of the volumes that Macs show.
    """
    able = {row.kind for row in rows if row.verdict != "will not start"}
    for_macs, for_others = "mac" in able, able - {"mac"}
    said = [_PC] if for_others else []
    if not for_macs:
        return said
    silicon = any(row.kind == "mac" and row.architecture == "arm64" and row.verdict != "will not start" for row in rows)
    key = f"{_OPTION} (on Apple silicon {_POWER})" if silicon else _OPTION
    return [*said, _MAC.format(key=key, label="' or '".join(labels_for_macs))]
