/* A read-only NTFS reader without memory of its own: its caller reads the volume and keeps the structures.
 *
 * Every number from the volume is held against what it lies in before it is used; a function returns NTFS_OK or what is wrong.
 * Structures go by the names of the vendor's driver documentation ("Master File Table").
 */

#pragma once
#include <stddef.h>
#include <stdint.h>

enum ntfs_status { NTFS_OK, NTFS_READ, NTFS_DAMAGED, NTFS_MISSING, NTFS_KIND, NTFS_SCATTERED };

#define NTFS_ROOT 5
#define NTFS_MOST_RECORD 4096           /* bytes of a file record */
#define NTFS_MOST_BLOCK 65536           /* bytes of an index block */
#define NTFS_MOST_RUNS 4096             /* of one stream */
#define NTFS_MOST_NAME 255              /* UTF-16 units */
#define NTFS_MOST_LEVELS 16             /* of an index */
#define NTFS_HOLE UINT64_MAX

struct ntfs_run {
    uint64_t cluster;                   /* NTFS_HOLE: reads as zeros */
    uint64_t count;
};

struct ntfs_stream {
    uint64_t size, valid;               /* bytes; what lies behind `valid` reads as zeros */
    uint32_t run_count;
    int resident;
    uint8_t value[NTFS_MOST_RECORD];    /* of a resident stream */
    struct ntfs_run runs[NTFS_MOST_RUNS];
};

typedef int (*ntfs_read_fn)(void *context, uint64_t offset, uint32_t size, void *buffer);   /* 0 when it went well */

struct ntfs {
    ntfs_read_fn read;
    void *context;
    uint64_t size;                      /* bytes of the partition */
    uint64_t cluster_count;
    uint32_t cluster_shift, record_size, block_size;
    uint16_t upcase[65536];
    uint8_t record[NTFS_MOST_RECORD];   /* the record read last */
    uint8_t further[NTFS_MOST_RECORD];  /* and one that extends it */
    uint8_t block[NTFS_MOST_BLOCK];
    uint8_t list[NTFS_MOST_BLOCK];      /* an attribute list */
    struct ntfs_stream mft, scratch;
};

struct ntfs_entry {                     /* what a folder tells of a file */
    uint64_t number, size;
    uint64_t modified;                  /* 100 ns since 1601 */
    uint32_t attributes;
    uint16_t name_length;
    uint16_t name[NTFS_MOST_NAME + 1];  /* ended by 0 */
};

#define NTFS_ATTRIBUTE_FOLDER 0x10000000u

enum ntfs_status ntfs_mount(struct ntfs *volume, ntfs_read_fn read, void *context, uint64_t size);

/* Opens the unnamed stream of a file. */
enum ntfs_status ntfs_open(struct ntfs *volume, uint64_t number, struct ntfs_stream *stream);

/* Reads `size` bytes of a stream from `offset`; all of them must lie within it. */
enum ntfs_status ntfs_read(struct ntfs *volume, const struct ntfs_stream *stream, uint64_t offset, uint32_t size, void *buffer);

/* Finds a name, ended by 0, in a folder; case does not matter. */
enum ntfs_status ntfs_find(struct ntfs *volume, uint64_t folder, const uint16_t *name, struct ntfs_entry *found);

/* Gives the folder that a folder lies in; NTFS_MISSING for the root. */
enum ntfs_status ntfs_parent(struct ntfs *volume, uint64_t folder, struct ntfs_entry *found);

/* Gives the entry that stands at `position` of a folder in order, short names left out; NTFS_MISSING behind the last one. */
enum ntfs_status ntfs_list(struct ntfs *volume, uint64_t folder, uint32_t position, struct ntfs_entry *found);
