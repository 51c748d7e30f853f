/* A user-space build of the crossing's NTFS code, for tests: reads every file of a volume and tells a sum of each.
 *
 *   walk IMAGE      prints a line for every file: CRC-32, size, path in UTF-8
 *   walk --many     reads from standard input: volumes one after the other, each behind its length in 4 bytes, and tells how
 *                   many of them could be walked whole; the others ended with an error, which is all that is asked of them
 */

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "ntfs.h"

#define MOST_DEPTH 60
#define MOST_ENTRIES 60000
#define MOST_BYTES (1u << 26)

struct image { const uint8_t *bytes; uint64_t size; };

static struct ntfs volume;
static uint32_t entries_left, bytes_left;
static int quiet;

static int read_image(void *context, uint64_t offset, uint32_t size, void *buffer)
{
    const struct image *image = context;
    if (offset > image->size || size > image->size - offset)
        return 1;
    memcpy(buffer, image->bytes + offset, size);
    return 0;
}

static uint32_t add_sum(uint32_t sum, const uint8_t *data, uint32_t size)
{
    while (size--) {
        sum ^= *data++;
        for (int bit = 0; bit < 8; bit++)
            sum = sum >> 1 ^ (sum & 1 ? 0xEDB88320u : 0);
    }
    return sum;
}

static void put_name(const uint16_t *name)
{
    for (; *name; name++) {
        uint32_t code = *name;
        if (code >= 0xD800 && code < 0xDC00 && name[1] >= 0xDC00 && name[1] < 0xE000)
            code = 0x10000 + ((code - 0xD800) << 10) + (*++name - 0xDC00u);
        if (code < 0x80)
            printf("%c", (int)code);
        else if (code < 0x800)
            printf("%c%c", 0xC0 | code >> 6, 0x80 | (code & 63));
        else if (code < 0x10000)
            printf("%c%c%c", 0xE0 | code >> 12, 0x80 | (code >> 6 & 63), 0x80 | (code & 63));
        else
            printf("%c%c%c%c", 0xF0 | code >> 18, 0x80 | (code >> 12 & 63), 0x80 | (code >> 6 & 63), 0x80 | (code & 63));
    }
}

static enum ntfs_status read_file(uint64_t number, uint32_t *sum, uint64_t *size)
{
    static struct ntfs_stream stream;
    static uint8_t buffer[65536];
    enum ntfs_status status = ntfs_open(&volume, number, &stream);
    *sum = ~0u;
    *size = status == NTFS_OK ? stream.size : 0;
    for (uint64_t done = 0; status == NTFS_OK && done < stream.size;) {
        uint32_t piece = stream.size - done < sizeof buffer ? (uint32_t)(stream.size - done) : sizeof buffer;
        if (quiet && bytes_left < piece)
            return NTFS_SCATTERED;
        bytes_left -= quiet ? piece : 0;
        status = ntfs_read(&volume, &stream, done, piece, buffer);
        *sum = add_sum(*sum, buffer, piece);
        done += piece;
    }
    *sum = ~*sum;
    return status;
}

static enum ntfs_status walk(uint64_t folder, const uint16_t *path[], int depth)
{
    struct ntfs_entry entry, again;
    if (depth == MOST_DEPTH)
        return NTFS_SCATTERED;
    for (uint32_t position = 0;; position++) {
        enum ntfs_status status = ntfs_list(&volume, folder, position, &entry);
        if (status == NTFS_MISSING)
            return NTFS_OK;
        if (status != NTFS_OK || !entries_left--)
            return status == NTFS_OK ? NTFS_SCATTERED : status;
        status = ntfs_find(&volume, folder, entry.name, &again);
        if (status != NTFS_OK)
            return status;
        path[depth] = entry.name;
        if (entry.attributes & NTFS_ATTRIBUTE_FOLDER) {
            status = ntfs_parent(&volume, entry.number, &again);
            if (status == NTFS_OK && again.number != folder)
                status = NTFS_DAMAGED;
            if (status == NTFS_OK)
                status = walk(entry.number, path, depth + 1);
        } else {
            uint32_t sum;
            uint64_t size;
            status = read_file(entry.number, &sum, &size);
            if (status == NTFS_OK && !quiet) {
                printf("%08x %llu ", sum, (unsigned long long)size);
                for (int part = 0; part <= depth; part++) {
                    put_name(path[part]);
                    printf("%s", part < depth ? "/" : "\n");
                }
            }
        }
        if (status != NTFS_OK)
            return status;
    }
}

static enum ntfs_status walk_all(struct image *image)
{
    const uint16_t *path[MOST_DEPTH];
    entries_left = MOST_ENTRIES;
    bytes_left = MOST_BYTES;
    enum ntfs_status status = ntfs_mount(&volume, read_image, image, image->size);
    return status == NTFS_OK ? walk(NTFS_ROOT, path, 0) : status;
}

int main(int count, char **arguments)
{
    struct image image = {0};
    if (count == 2 && !strcmp(arguments[1], "--many")) {
        uint8_t length[4];
        unsigned whole = 0, all = 0;
        quiet = 1;
        while (fread(length, 1, 4, stdin) == 4) {
            image.size = length[0] | length[1] << 8 | length[2] << 16 | (uint64_t)length[3] << 24;
            uint8_t *bytes = malloc(image.size);
            if (!bytes || fread(bytes, 1, image.size, stdin) != image.size)
                return 2;
            image.bytes = bytes;
            whole += walk_all(&image) == NTFS_OK;
            all++;
            free(bytes);
        }
        printf("%u of %u\n", whole, all);
        return 0;
    }
    FILE *file = count == 2 ? fopen(arguments[1], "rb") : NULL;
    if (!file)
        return 2;
    fseek(file, 0, SEEK_END);
    image.size = (uint64_t)ftell(file);
    rewind(file);
    uint8_t *bytes = malloc(image.size);
    if (!bytes || fread(bytes, 1, image.size, file) != image.size)
        return 2;
    image.bytes = bytes;
    enum ntfs_status status = walk_all(&image);
    if (status != NTFS_OK)
        fprintf(stderr, "error %d\n", status);
    return status != NTFS_OK;
}
