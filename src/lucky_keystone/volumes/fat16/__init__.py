"""FAT12 and FAT16 volumes, read only.

What floppy images, firmware updaters and the boot partitions of hybrid discs have.
"""
