"""FAT12 and FAT16 volumes, read only: what floppy images, firmware updaters and the boot partitions of hybrid discs have."""
