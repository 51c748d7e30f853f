"""The codes of findings: stable names beside the words, documented in docs/findings.md. Mending goes by them.

Kinds of volume and of table bring codes of their own here; a code that was published keeps its meaning for good.
"""

from __future__ import annotations

from enum import StrEnum


class Code(StrEnum):
    """What was found. The part before the dot says where."""

    # the table; those that a table's reader finds are in `tables/faults.py` and have the same names here
    TABLE_MISSING = "table.missing"
    TABLE_BLANK = "table.blank"
    TABLE_SIGNATURE = "table.signature"
    TABLE_SEVERAL_ACTIVE = "table.several-active"
    MBR_STATUS = "mbr.status"
    MBR_RANGE = "mbr.range"
    MBR_CHS = "mbr.chs"
    MBR_OVERLAP = "mbr.overlap"
    GPT_PRIMARY = "gpt.primary"
    GPT_BACKUP = "gpt.backup"
    GPT_COPY_NOT_AT_END = "gpt.copy-not-at-end"
    GPT_COPIES_DIFFER = "gpt.copies-differ"
    GPT_RANGE = "gpt.range"
    GPT_OVERLAP = "gpt.overlap"
    GPT_SAME_GUID = "gpt.same-guid"
    GPT_NO_PROTECTIVE = "gpt.no-protective"
    GPT_STALE = "gpt.stale"
    PARTITION_TYPE = "partition.type"
    # the manifest
    MANIFEST_DAMAGED = "manifest.damaged"
    MANIFEST_UNFINISHED = "manifest.unfinished"
    MANIFEST_PADDING = "manifest.padding"
    MANIFEST_EARLIER = "manifest.earlier"
    MANIFEST_ELSEWHERE = "manifest.elsewhere"
    SOURCE_NOT_WHOLE = "source.not-whole"
    # volumes of any kind
    VOLUME_UNREADABLE = "volume.unreadable"
    FOLDERS_UNREADABLE = "volume.folders-unreadable"
    VOLUME_HIDDEN_SECTORS = "volume.hidden-sectors"
    VOLUME_GEOMETRY = "volume.geometry"
    VOLUME_BOOT_SECTOR = "volume.boot-sector"
    VOLUME_BEYOND_PARTITION = "volume.beyond-partition"
    VOLUME_MOUNTED = "volume.mounted"
    VOLUME_ENTRIES = "volume.entries"
    VOLUME_LOST_CLUSTERS = "volume.lost-clusters"
    # FAT
    FAT32_BOOT_COPY = "fat32.boot-copy"
    FAT32_NO_BOOT_COPY = "fat32.no-boot-copy"
    FAT32_FSINFO = "fat32.fsinfo"
    FAT32_FREE_COUNT = "fat32.free-count"
    FAT_COPIES_DIFFER = "fat.copies-differ"
    FAT_ONE_COPY = "fat.one-copy"
    # NTFS
    NTFS_TOTAL_SECTORS = "ntfs.total-sectors"
    NTFS_BOOT_COPY = "ntfs.boot-copy"
    NTFS_MFT_START = "ntfs.mft-start"
    NTFS_MIRROR = "ntfs.mirror"
    NTFS_VERSION = "ntfs.version"
    NTFS_BITMAP = "ntfs.bitmap"
    # exFAT
    EXFAT_BOOT_SUM = "exfat.boot-sum"
    EXFAT_BOOT_COPY = "exfat.boot-copy"
    EXFAT_BITMAP = "exfat.bitmap"
    EXFAT_UPCASE = "exfat.upcase"
    EXFAT_MEDIA_FAILURE = "exfat.media-failure"
    # HFS+
    HFSPLUS_ALTERNATE = "hfsplus.alternate"
    HFSPLUS_JOURNAL = "hfsplus.journal"
    HFSPLUS_COUNTS = "hfsplus.counts"
    HFSPLUS_BITMAP = "hfsplus.bitmap"
    HFSPLUS_BLESSING = "hfsplus.blessing"
    # contents, compared with the manifest
    CONTENT_CHANGED = "content.changed"
    CONTENT_FILE = "content.file"
    CONTENT_RECORDS = "content.records"
    CONTENT_IMAGE = "content.image"
    CONTENT_USED = "content.used"
    # contents, compared with a source
    AGAINST_DIFFERENT = "against.different"
    AGAINST_MISSING = "against.missing"
    AGAINST_EXTRA = "against.extra"
    # what setup will find
    SETUP_ANSWERED = "setup.answered"
    SETUP_IMAGE = "setup.image"
    # the way it starts
    START_NOTHING = "start.nothing"
    START_NO_MBR_CODE = "start.no-mbr-code"
    START_FOREIGN_MBR_CODE = "start.foreign-mbr-code"
    START_NO_ACTIVE = "start.no-active"
    START_NO_VOLUME_CODE = "start.no-volume-code"
    START_VOLUME_CODE = "start.volume-code"
    START_BOOTMGR = "start.bootmgr"
    START_LOADER = "start.loader"
    START_LOADER_ARCHITECTURE = "start.loader-architecture"
    START_NO_REMOVABLE_LOADER = "start.no-removable-loader"
    START_WRONG_ACTIVE = "start.wrong-active"
    START_FOREIGN_CODE = "start.foreign-code"
    START_OTHER_CODE = "start.other-code"
    START_CODE_NOT_KNOWN = "start.code-not-known"
    START_STORE = "start.store"
    START_STORE_OTHER_DRIVE = "start.store-other-drive"
    START_WANTED = "start.wanted"
    START_NO_CROSSING = "start.no-crossing"
    START_MAC_NAMES_NONE = "start.mac-names-none"
    START_MAC_LOADER = "start.mac-loader"
    START_MAC_CONFIGURATION = "start.mac-configuration"
    START_MAC_KERNEL = "start.mac-kernel"
    START_MAC_BASE = "start.mac-base"
    START_MAC_EXPIRED = "start.mac-expired"
