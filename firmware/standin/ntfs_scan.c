/* See ntfs_scan.h. It shares nothing with the crossing: no index is followed here, paths come from the names in the records.
 * It reads drives that were just built: a file table in one piece, each file in one record.
 *
 * system.c includes it with READ_SECTORS and MEMORY of its own, and has no firmware's protocols then. */

#ifndef SCAN_SYSTEM
#include "ntfs_scan.h"
#endif

#define MOST_PATH 2048
#define FIRST_FILE 24
#define ROOT 5

#ifndef SCAN_SYSTEM
static const EFI_GUID block_io_guid = {0x964e5b21, 0x6459, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};

static BLOCK_IO *block;
#define READ_SECTORS(lba, bytes, to) (block->ReadBlocks(block, block->Media->MediaId, lba, bytes, to) == EFI_SUCCESS)
#define MEMORY(bytes, to) (services->AllocatePool(EFI_LOADER_DATA, bytes, to) == EFI_SUCCESS)
#endif
static uint32_t sector_shift, cluster_shift, record_size, record_count;
static uint8_t *table;

static uint32_t number(const uint8_t *at, int size)
{
    uint32_t value = 0;
    while (size--)
        value = value << 8 | at[size];
    return value;
}

static int read_clusters(uint64_t cluster, uint32_t bytes, uint8_t *to)
{
    uint32_t whole = ((bytes - 1) >> sector_shift) + 1;
    return READ_SECTORS(cluster << (cluster_shift - sector_shift), (uintptr_t)whole << sector_shift, to);
}

static uint32_t shift_of(uint32_t value)
{
    uint32_t shift = 0;
    while (value >>= 1)
        shift++;
    return shift;
}

/* The next run of a mapping pairs array; returns 0 at its end. `cluster` counts on, `hole` tells that it does not count. */
static int next_run(const uint8_t **at, uint64_t *cluster, uint64_t *count, int *hole)
{
    int lengths = **at & 15, steps = **at >> 4;
    if (!**at)
        return 0;
    (*at)++;
    *count = number(*at, lengths > 4 ? 4 : lengths);
    *at += lengths;
    *hole = !steps;
    if (steps) {
        int64_t step = (int8_t)(*at)[steps - 1];
        for (int byte = steps - 1; byte--;)
            step = (int64_t)((uint64_t)step << 8 | (*at)[byte]);
        *cluster += (uint64_t)step;
    }
    *at += steps;
    return 1;
}

static int undo_sequence(uint8_t *record)
{
    uint32_t offset = number(record + 4, 2), count = number(record + 6, 2);
    if (number(record, 4) != 0x454C4946u)
        return 0;
    for (uint32_t stride = 1; stride < count; stride++) {
        record[stride * 512 - 2] = record[offset + 2 * stride];
        record[stride * 512 - 1] = record[offset + 2 * stride + 1];
    }
    return 1;
}

static const uint8_t *find(const uint8_t *record, uint32_t type, const uint8_t *after)
{
    const uint8_t *at = record + number(record + 20, 2);
    for (; number(at, 4) != 0xFFFFFFFFu; at += number(at + 4, 4))
        if (number(at, 4) == type && at > after && (type == 0x30 || !at[9]))
            return at;
    return NULL;
}

static int read_table(uint8_t *chunk)
{
    uint32_t stored = chunk[0x40], clusters = chunk[0x0D];
    cluster_shift = sector_shift + (clusters > 0x80 ? 0x100 - clusters : shift_of(clusters));
    uint64_t start = number(chunk + 0x30, 4);
    record_size = stored < 0x80 ? stored << cluster_shift : 1u << (0x100 - stored);
    if (!read_clusters(start, record_size, chunk) || !undo_sequence(chunk))
        return 0;
    const uint8_t *data = find(chunk, 0x80, NULL);
    uint32_t bytes = data ? number(data + 0x30, 4) : 0;
    record_count = bytes >> shift_of(record_size);
    return record_count ? (int)bytes : 0;
}

/* Writes the path of a name in front of `end`; returns its start, NULL for what is not below the root or is the volume's own. */
static CHAR16 *path_of(CHAR16 *end, const uint8_t *name)
{
    for (int depth = 0; depth < 60; depth++) {
        uint32_t folder = number(name, 4);
        for (uint32_t unit = name[64]; unit--;)
            *--end = (CHAR16)number(name + 66 + 2 * unit, 2);
        if (folder == ROOT)
            return end;
        if (folder < FIRST_FILE || folder >= record_count)
            return NULL;
        const uint8_t *above = table + (uintptr_t)folder * record_size, *found = find(above, 0x30, NULL);
        while (found && found[24 + 65] == 2)
            found = find(above, 0x30, found);
        if (!found)
            return NULL;
        *--end = '/';
        name = found + 24;
    }
    return NULL;
}

static int sum_file(const uint8_t *data, uint8_t *chunk, uint32_t chunk_size, const struct telling *telling, uint32_t *sum, uint64_t *size)
{
    *sum = ~0u;
    if (!data[8]) {
        *size = number(data + 16, 4);
        *sum = telling->add_sum(*sum, data + number(data + 20, 2), (uintptr_t)*size);
        return 1;
    }
    *size = number(data + 0x30, 4) | (uint64_t)number(data + 0x34, 4) << 32;
    uint64_t left = *size, cluster = 0, count;
    const uint8_t *at = data + number(data + 0x20, 2);
    for (int hole; left && next_run(&at, &cluster, &count, &hole);) {
        for (uint64_t here = cluster; count && left;) {
            uint64_t most = chunk_size >> cluster_shift, piece = count < most ? count : most;
            uint32_t bytes = (uint32_t)(piece << cluster_shift);
            if (bytes > left)
                bytes = (uint32_t)left;
            if (hole || !read_clusters(here, bytes, chunk))
                return 0;
            *sum = telling->add_sum(*sum, chunk, bytes);
            left -= bytes;
            here += piece;
            count -= piece;
        }
    }
    return !left;
}

#ifdef SCAN_SYSTEM
static int scan_ntfs(uint32_t sector_size, uint8_t *chunk, uint32_t chunk_size, const struct telling *telling)
{
    static CHAR16 path[MOST_PATH];
    sector_shift = shift_of(sector_size);
    if (!READ_SECTORS(0, sector_size, chunk) || number(chunk + 3, 4) != 0x5346544Eu)
        return -1;
#else
int scan_ntfs(EFI_BOOT_SERVICES *services, EFI_HANDLE handle, uint8_t *chunk, uint32_t chunk_size, const struct telling *telling)
{
    static CHAR16 path[MOST_PATH];
    if (services->HandleProtocol(handle, &block_io_guid, (void **)&block) != EFI_SUCCESS)
        return -1;
    sector_shift = shift_of(block->Media->BlockSize);
    if (block->ReadBlocks(block, block->Media->MediaId, 0, block->Media->BlockSize, chunk) != EFI_SUCCESS ||
        number(chunk + 3, 4) != 0x5346544Eu)
        return -1;
#endif
    uint64_t start = number(chunk + 0x30, 4);
    uint32_t bytes = (uint32_t)read_table(chunk);
    if (!bytes || !MEMORY(bytes + 4096, (void **)&table))
        return 0;
    for (uint32_t done = 0; done < bytes; done += 1u << 20) {
        uint32_t piece = bytes - done < 1u << 20 ? bytes - done : 1u << 20;
        if (!read_clusters(start + (done >> cluster_shift), piece, table + done))
            return 0;
    }
    for (uint32_t each = 0; each < record_count; each++)
        if (!undo_sequence(table + (uintptr_t)each * record_size))
            return 0;
    for (uint32_t each = FIRST_FILE; each < record_count; each++) {
        const uint8_t *record = table + (uintptr_t)each * record_size, *data = find(record, 0x80, NULL);
        if ((number(record + 22, 2) & 3) != 1 || !data)
            continue;
        uint32_t sum;
        uint64_t size;
        if (!sum_file(data, chunk, chunk_size, telling, &sum, &size))
            return 0;
        for (const uint8_t *name = NULL; (name = find(record, 0x30, name));) {
            CHAR16 *whole = name[24 + 65] == 2 ? NULL : path_of(path + MOST_PATH - 1, name + 24);
            if (whole)
                telling->file(whole, sum, size);
        }
    }
    return 1;
}
