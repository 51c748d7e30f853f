/* Where things stand in NTFS's structures: names of the vendor's driver documentation ("Master File Table"), as in ntfs.inc.
 *
 * The structures are declared as they lie on disk, and the offsets that the reader uses come from them; the assertions hold
 * them against the numbers that the documentation and the boot record use.
 */

#pragma once
#include <stddef.h>
#include <stdint.h>

#pragma pack(push, 1)

struct multi_sector_header { char signature[4]; uint16_t sequence_offset, sequence_count; };

struct file_record {
    struct multi_sector_header header;
    uint64_t log_number;
    uint16_t sequence, links, first_attribute, flags;
    uint32_t used, allocated;           /* bytes of the record */
    uint64_t base;                      /* of a record that extends another one */
};

struct attribute {                      /* what follows `instance` depends on the form */
    uint32_t type, length;
    uint8_t form, name_length;          /* form 0: resident */
    uint16_t name_offset, flags, instance;
};

struct resident { struct attribute head; uint32_t value_length; uint16_t value_offset; };

struct nonresident {
    struct attribute head;
    uint64_t lowest_vcn, highest_vcn;
    uint16_t mapping_offset;
    uint8_t compression_unit, reserved[5];
    uint64_t allocated, size, valid;
};

struct list_entry {                     /* of an attribute list */
    uint32_t type;
    uint16_t length;
    uint8_t name_length, name_offset;
    uint64_t lowest_vcn, segment;
};

struct boot_sector {
    uint8_t jump[3];
    char oem[8];
    uint16_t bytes_per_sector;
    uint8_t sectors_per_cluster, unused[26];
    uint64_t total_sectors, mft, mft_mirror;
    uint8_t per_record;                 /* clusters of a file record; from 80h on a power of two of bytes, negated */
};

struct index_node { uint32_t first_entry, used, allocated, flags; };
struct index_root { uint32_t type, collation, block_size, blocks; };
struct index_block { struct multi_sector_header header; uint64_t log_number, vcn; struct index_node node; };
struct index_entry { uint64_t file; uint16_t length, key_length, flags, reserved; };

struct file_name {
    uint64_t parent, created, modified, changed, read, allocated, size;
    uint32_t attributes, extended;
    uint8_t length, kind;               /* of the name, in UTF-16 units; which of its names it is */
};

#pragma pack(pop)

enum {
    MSH_SEQUENCE_OFFSET = offsetof(struct multi_sector_header, sequence_offset),
    MSH_SEQUENCE_COUNT = offsetof(struct multi_sector_header, sequence_count),
    FILE_FIRST_ATTRIBUTE = offsetof(struct file_record, first_attribute),
    FILE_FLAGS = offsetof(struct file_record, flags),
    FILE_USED = offsetof(struct file_record, used),
    FILE_BASE = offsetof(struct file_record, base),
    ATTR_LENGTH = offsetof(struct attribute, length),
    ATTR_FORM = offsetof(struct attribute, form),
    ATTR_FLAGS = offsetof(struct attribute, flags),
    ATTR_VALUE_LENGTH = offsetof(struct resident, value_length),
    ATTR_VALUE_OFFSET = offsetof(struct resident, value_offset),
    ATTR_LOWEST_VCN = offsetof(struct nonresident, lowest_vcn),
    ATTR_MAPPING = offsetof(struct nonresident, mapping_offset),
    ATTR_SIZE = offsetof(struct nonresident, size),
    ATTR_VALID = offsetof(struct nonresident, valid),
    LIST_LENGTH = offsetof(struct list_entry, length),
    LIST_LOWEST_VCN = offsetof(struct list_entry, lowest_vcn),
    LIST_SEGMENT = offsetof(struct list_entry, segment),
    BOOT_BYTES_PER_SECTOR = offsetof(struct boot_sector, bytes_per_sector),
    BOOT_SECTORS_PER_CLUSTER = offsetof(struct boot_sector, sectors_per_cluster),
    BOOT_TOTAL_SECTORS = offsetof(struct boot_sector, total_sectors),
    BOOT_MFT = offsetof(struct boot_sector, mft),
    BOOT_PER_RECORD = offsetof(struct boot_sector, per_record),
    ROOT_BLOCK_SIZE = offsetof(struct index_root, block_size),
    NODE_USED = offsetof(struct index_node, used),
    BLOCK_VCN = offsetof(struct index_block, vcn),
    BLOCK_HEADER = offsetof(struct index_block, node),
    ENTRY_LENGTH = offsetof(struct index_entry, length),
    ENTRY_FLAGS = offsetof(struct index_entry, flags),
    ENTRY_KEY = sizeof(struct index_entry),
    NAME_MODIFIED = offsetof(struct file_name, modified),
    NAME_SIZE = offsetof(struct file_name, size),
    NAME_ATTRIBUTES = offsetof(struct file_name, attributes),
    NAME_LENGTH = offsetof(struct file_name, length),
    NAME_KIND = offsetof(struct file_name, kind),
};

_Static_assert(FILE_FIRST_ATTRIBUTE == 0x14 && FILE_FLAGS == 0x16 && FILE_USED == 0x18 && FILE_BASE == 0x20, "file record");
_Static_assert(ATTR_FORM == 8 && ATTR_FLAGS == 0x0C && ATTR_VALUE_LENGTH == 0x10 && ATTR_VALUE_OFFSET == 0x14, "resident");
_Static_assert(ATTR_LOWEST_VCN == 0x10 && ATTR_MAPPING == 0x20 && ATTR_SIZE == 0x30 && ATTR_VALID == 0x38, "nonresident");
_Static_assert(LIST_LENGTH == 4 && LIST_LOWEST_VCN == 8 && LIST_SEGMENT == 16, "attribute list");
_Static_assert(BOOT_BYTES_PER_SECTOR == 0x0B && BOOT_TOTAL_SECTORS == 0x28 && BOOT_MFT == 0x30 && BOOT_PER_RECORD == 0x40, "boot sector");
_Static_assert(BLOCK_VCN == 16 && BLOCK_HEADER == 24 && ENTRY_LENGTH == 8 && ENTRY_FLAGS == 12 && ENTRY_KEY == 16, "index");
_Static_assert(NAME_MODIFIED == 0x10 && NAME_SIZE == 0x30 && NAME_ATTRIBUTES == 0x38 && NAME_LENGTH == 0x40 && NAME_KIND == 0x41, "file name");
