"""Words that people type for a command, and the command that does it: the nearest spelling would be another one."""

from __future__ import annotations

_MEANT: dict[str, tuple[str, str]] = {
    "build SOURCE --onto DRIVE": ("makes an installer drive", "burn flash write create make copy clone install"),
    "build SOURCE --onto DRIVE --update": ("brings a drive to a newer image", "update upgrade refresh"),
    "build SOURCE --onto DRIVE ": ("continues an interrupted build: give the same command", "continue resume retry"),
    "mend DRIVE": ("makes a drive start again, without erasing it", "repair fix restore recover"),
    "mend DRIVE --undo FILE": ("takes back what 'mend' did", "undo revert"),
    "check DRIVE": ("checks what is on a drive and where it starts", "verify validate scan diagnose"),
    "check DRIVE --against SOURCE": ("compares a drive with an image", "compare diff"),
    "gauge DRIVE": ("measures what a drive really holds, and how fast it is", "test benchmark speed measure"),
    "reclaim DRIVE": ("makes ordinary storage of a drive", "format erase wipe clean clear delete partition"),
    "drives": ("lists the drives", "list ls devices disks usb sticks"),
    "inspect SOURCE": ("shows what an installer is", "show info view open"),
    "inspect SOURCE --edition EDITION --take PATTERN": ("takes files out of an edition", "extract unpack"),
    "fetch LINK": ("gets an image", "download get"),
    "rehearse DRIVE": ("runs a drive's boot code without a machine", "boot emulate simulate start run try"),
    "log": ("shows what was done", "history records"),
    "report DRIVE": ("writes a page to keep with a drive", "print label page"),
    "data": ("lists what is kept on this computer, and removes it", "uninstall privacy cache purge cleanup"),
    "presets": ("lists the shop's defaults", "config settings defaults profiles"),
    "build SOURCE --onto DRIVE --eject": ("ejects the drive when it is done", "eject"),
    "--version": ("says which version this is", "version"),
}
"""The command, what it does, and the words for it."""


def advice_for(word: str) -> str:
    """Return what to type in place of a word; '' where there is no such advice."""
    for line, (does, words) in _MEANT.items():
        if word.lower() in words.split():
            return f"'lucky-keystone {line.strip()}' {does}."
    return ""


_OPTIONS = {
    "--portable": "'--purpose portable' is the option for a Windows that runs from the drive.",
    "--dry-run": "'lucky-keystone plan SOURCE' shows what would be built; nothing is written.",
    "--onto": "'plan' writes nothing: '--for DRIVE' plans for a drive.",
    "--output": "'--onto DRIVE' names the drive or the image file.",
    "--drive": "'--onto DRIVE' names the drive or the image file.",
    "--force": "'--yes' erases without asking; a protected drive stays protected.",
    "--uefi": "'--firmware uefi' is what the drive must start on.",
    "--bios": "'--firmware bios' is what the drive must start on.",
    "--gpt": "'--table gpt' chooses the partition table.",
    "--mbr": "'--table mbr' chooses the partition table.",
    "--ntfs": "'--file-system ntfs' chooses the file system.",
    "--fat32": "'--file-system fat32' chooses the file system.",
}
"""Options that people try, where a command has none of that name."""


def advice_for_option(name: str) -> str:
    """Return what to give in place of an option; '' where there is no such advice."""
    return _OPTIONS.get(name.lower(), "")
