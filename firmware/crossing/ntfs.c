/* See ntfs.h. Without division: 32-bit machines would need a helper for 64-bit ones. */

#include "ntfs.h"
#include "ntfs_layout.h"

enum {                                  /* attribute type codes */
    ATTRIBUTE_LIST = 0x20, FILE_NAME = 0x30, DATA = 0x80, INDEX_ROOT = 0x90, INDEX_ALLOCATION = 0xA0, END = -1
};
enum { FILE_IN_USE = 1, FILE_FOLDER = 2, ENTRY_HAS_CHILD = 1, ENTRY_IS_LAST = 2, NAME_SHORT = 2, UPCASE_FILE = 10 };
#define REFERENCE_NUMBER 0xFFFFFFFFFFFFull
#define STRIDE 512u
#define FILE_NAME_SIZE 66u

static uint16_t u16(const uint8_t *at) { return (uint16_t)(at[0] | at[1] << 8); }
static uint32_t u32(const uint8_t *at) { return u16(at) | (uint32_t)u16(at + 2) << 16; }
static uint64_t u64(const uint8_t *at) { return u32(at) | (uint64_t)u32(at + 4) << 32; }

static void copy(void *to, const void *from, uint32_t size)
{
    uint8_t *p = to;
    const uint8_t *q = from;
    while (size--)
        *p++ = *q++;
}

static void clear(void *to, uint32_t size)
{
    uint8_t *p = to;
    while (size--)
        *p++ = 0;
}

static int is_power(uint32_t value) { return value && !(value & (value - 1)); }

static uint32_t shift_of(uint32_t power)
{
    uint32_t shift = 0;
    while (power >>= 1)
        shift++;
    return shift;
}

/* Undoes the update sequence of a record or block (MULTI_SECTOR_HEADER). */
static enum ntfs_status unguard(uint8_t *block, uint32_t size, const char *signature)
{
    for (int at = 0; at < 4; at++)
        if (block[at] != (uint8_t)signature[at])
            return NTFS_DAMAGED;
    uint32_t offset = u16(block + MSH_SEQUENCE_OFFSET), count = u16(block + MSH_SEQUENCE_COUNT), strides = size / STRIDE;
    if (count != strides + 1 || offset < 8 || offset + 2 * count > STRIDE)
        return NTFS_DAMAGED;
    for (uint32_t stride = 1; stride <= strides; stride++) {
        uint8_t *end = block + stride * STRIDE - 2;
        if (end[0] != block[offset] || end[1] != block[offset + 1])
            return NTFS_DAMAGED;
        end[0] = block[offset + 2 * stride];
        end[1] = block[offset + 2 * stride + 1];
    }
    return NTFS_OK;
}

/* Adds the runs of a mapping pairs array to a stream. */
static enum ntfs_status add_runs(const struct ntfs *volume, struct ntfs_stream *stream, const uint8_t *at, const uint8_t *end)
{
    uint64_t cluster = 0;
    while (at < end && *at) {
        uint32_t length_size = *at & 15, step_size = *at >> 4;
        at++;
        if (length_size < 1 || length_size > 8 || step_size > 8 || (uint32_t)(end - at) < length_size + step_size)
            return NTFS_DAMAGED;
        uint64_t count = 0, step = 0;
        for (uint32_t byte = length_size; byte--;)
            count = count << 8 | at[byte];
        at += length_size;
        if (step_size && at[step_size - 1] & 0x80)
            step = UINT64_MAX;
        for (uint32_t byte = step_size; byte--;)
            step = step << 8 | at[byte];
        at += step_size;
        cluster += step;
        if (!count || count > UINT64_MAX >> 17 || (step_size && (cluster >= volume->cluster_count || count > volume->cluster_count - cluster)))
            return NTFS_DAMAGED;
        if (stream->run_count == NTFS_MOST_RUNS)
            return NTFS_SCATTERED;
        stream->runs[stream->run_count].cluster = step_size ? cluster : NTFS_HOLE;
        stream->runs[stream->run_count++].count = count;
    }
    return at < end ? NTFS_OK : NTFS_DAMAGED;
}

/* Finds the next attribute of a type behind `after` (NULL: the first) that has no name, or any name for indexes. */
static enum ntfs_status find_attribute(const uint8_t *record, uint32_t size, int type, const uint8_t *after, const uint8_t **found)
{
    uint32_t used = u32(record + FILE_USED);
    const uint8_t *end = record + (used < size ? used : size);
    const uint8_t *at = record + u16(record + FILE_FIRST_ATTRIBUTE);
    while (at + 24 <= end && u32(at) != (uint32_t)END) {
        uint32_t length = u32(at + ATTR_LENGTH);
        if (length < 24 || length > (uint32_t)(end - at))
            return NTFS_DAMAGED;
        if (at > after && u32(at) == (uint32_t)type && (type != DATA || !at[9])) {
            *found = at;
            return NTFS_OK;
        }
        at += length;
    }
    return NTFS_MISSING;
}

/* Takes what one attribute tells of a stream, which must be the part from cluster `first` on. */
static enum ntfs_status take(const struct ntfs *volume, const uint8_t *attribute, uint64_t first, struct ntfs_stream *stream)
{
    uint32_t length = u32(attribute + ATTR_LENGTH);
    if (!attribute[8]) {
        uint32_t size = u32(attribute + ATTR_VALUE_LENGTH), offset = u16(attribute + ATTR_VALUE_OFFSET);
        if (size > length || offset > length - size || size > sizeof stream->value)
            return NTFS_DAMAGED;
        copy(stream->value, attribute + offset, size);
        stream->size = stream->valid = size;
        stream->resident = 1;
        return NTFS_OK;
    }
    if (length < 0x40 || u64(attribute + ATTR_LOWEST_VCN) != first || u16(attribute + ATTR_MAPPING) > length)
        return NTFS_DAMAGED;
    if (u16(attribute + ATTR_FLAGS) & 0x40FF)  /* compressed or encrypted */
        return NTFS_KIND;
    if (!first) {
        stream->size = u64(attribute + ATTR_SIZE);
        stream->valid = u64(attribute + ATTR_VALID);
        stream->resident = 0;
    }
    return add_runs(volume, stream, attribute + u16(attribute + ATTR_MAPPING), attribute + length);
}

static void reset(struct ntfs_stream *stream)
{
    stream->run_count = 0;
    stream->size = stream->valid = 0;
    stream->resident = 0;
}

static uint64_t clusters(const struct ntfs_stream *stream)
{
    uint64_t count = 0;
    for (uint32_t run = 0; run < stream->run_count; run++)
        count += stream->runs[run].count;
    return count;
}

enum ntfs_status ntfs_read(struct ntfs *volume, const struct ntfs_stream *stream, uint64_t offset, uint32_t size, void *buffer)
{
    uint8_t *to = buffer;
    if (offset > stream->size || size > stream->size - offset)
        return NTFS_DAMAGED;
    if (stream->resident) {
        copy(to, stream->value + offset, size);
        return NTFS_OK;
    }
    uint64_t start = 0;
    for (uint32_t number = 0; size && number < stream->run_count; number++) {
        const struct ntfs_run *run = &stream->runs[number];
        uint64_t bytes = run->count << volume->cluster_shift;
        if (offset - start < bytes) {
            uint64_t inside = offset - start, rest = bytes - inside;
            uint32_t piece = rest < size ? (uint32_t)rest : size;
            if (run->cluster == NTFS_HOLE)
                clear(to, piece);
            else if (volume->read(volume->context, (run->cluster << volume->cluster_shift) + inside, piece, to))
                return NTFS_READ;
            if (offset >= stream->valid)
                clear(to, piece);
            else if (piece > stream->valid - offset)
                clear(to + (stream->valid - offset), piece - (uint32_t)(stream->valid - offset));
            to += piece;
            offset += piece;
            size -= piece;
        }
        start += bytes;
    }
    return size ? NTFS_DAMAGED : NTFS_OK;
}

static enum ntfs_status read_record(struct ntfs *volume, uint64_t number, uint8_t *record)
{
    uint64_t offset = number * volume->record_size;
    if (number > UINT32_MAX)
        return NTFS_DAMAGED;
    enum ntfs_status status = ntfs_read(volume, &volume->mft, offset, volume->record_size, record);
    if (status != NTFS_OK)
        return status;
    status = unguard(record, volume->record_size, "FILE");
    if (status == NTFS_OK && !(u16(record + FILE_FLAGS) & FILE_IN_USE))
        status = NTFS_DAMAGED;
    return status;
}

/* Puts a stream together: from the record itself, or from all records that its attribute list names. */
static enum ntfs_status gather(struct ntfs *volume, int type, uint64_t number, struct ntfs_stream *stream)
{
    const uint8_t *found;
    reset(stream);
    enum ntfs_status status = find_attribute(volume->record, volume->record_size, ATTRIBUTE_LIST, NULL, &found);
    if (status == NTFS_MISSING) {
        status = find_attribute(volume->record, volume->record_size, type, NULL, &found);
        return status == NTFS_OK ? take(volume, found, 0, stream) : status;
    }
    reset(&volume->scratch);            /* may be `stream` itself: the list is read before that is filled */
    if (status == NTFS_OK)
        status = take(volume, found, 0, &volume->scratch);
    uint32_t whole = (uint32_t)volume->scratch.size;
    if (status == NTFS_OK && volume->scratch.size > sizeof volume->list)
        status = NTFS_SCATTERED;
    if (status == NTFS_OK)
        status = ntfs_read(volume, &volume->scratch, 0, whole, volume->list);
    reset(&volume->scratch);
    if (status != NTFS_OK)
        return status;
    int any = 0;
    for (uint32_t at = 0; at + 26 <= whole;) {
        const uint8_t *entry = volume->list + at;
        uint32_t length = u16(entry + LIST_LENGTH);
        if (length < 26 || length > whole - at)
            return NTFS_DAMAGED;
        at += length;
        if (u32(entry) != (uint32_t)type || (type == DATA && entry[6]))
            continue;
        uint64_t segment = u64(entry + LIST_SEGMENT) & REFERENCE_NUMBER;
        const uint8_t *record = volume->record;
        if (segment != number) {
            status = read_record(volume, segment, volume->further);
            if (status != NTFS_OK)
                return status;
            if ((u64(volume->further + FILE_BASE) & REFERENCE_NUMBER) != number)
                return NTFS_DAMAGED;
            record = volume->further;
        }
        uint64_t first = clusters(stream);
        if (u64(entry + LIST_LOWEST_VCN) != first)
            return NTFS_DAMAGED;
        for (found = NULL, status = NTFS_OK; status == NTFS_OK;) {      /* the part that begins with this cluster */
            status = find_attribute(record, volume->record_size, type, found, &found);
            if (status == NTFS_OK && (!found[ATTR_FORM] || u64(found + ATTR_LOWEST_VCN) == first))
                break;
        }
        if (status == NTFS_OK)
            status = take(volume, found, first, stream);
        if (status != NTFS_OK)
            return status == NTFS_MISSING ? NTFS_DAMAGED : status;
        any = 1;
    }
    return any ? NTFS_OK : NTFS_MISSING;
}

enum ntfs_status ntfs_mount(struct ntfs *volume, ntfs_read_fn read, void *context, uint64_t size)
{
    uint8_t *boot = volume->block;
    volume->read = read;
    volume->context = context;
    volume->size = size;
    if (size < STRIDE || read(context, 0, STRIDE, boot))
        return NTFS_READ;
    static const char name[] = "NTFS    ";
    for (int at = 0; at < 8; at++)
        if (boot[3 + at] != (uint8_t)name[at])
            return NTFS_MISSING;
    uint32_t sector = u16(boot + BOOT_BYTES_PER_SECTOR), per_cluster = boot[BOOT_SECTORS_PER_CLUSTER];
    if (per_cluster > 0x80)
        per_cluster = per_cluster > 0xF3 ? 1u << (0x100 - per_cluster) : 0;
    if (!is_power(sector) || sector < 512 || sector > 4096 || !is_power(per_cluster))
        return NTFS_DAMAGED;
    uint32_t sector_shift = shift_of(sector);
    volume->cluster_shift = sector_shift + shift_of(per_cluster);
    uint64_t total = u64(boot + BOOT_TOTAL_SECTORS);
    if (!total || total > size >> sector_shift)
        return NTFS_DAMAGED;
    volume->cluster_count = total >> shift_of(per_cluster);
    uint32_t stored = boot[BOOT_PER_RECORD];
    if (stored < 0x80)
        volume->record_size = stored <= NTFS_MOST_RECORD >> 9 ? stored << volume->cluster_shift : 0;
    else
        volume->record_size = stored > 0x100 - 16 ? 1u << (0x100 - stored) : 0;
    uint64_t mft = u64(boot + BOOT_MFT);
    if (!is_power(volume->record_size) || volume->record_size < STRIDE || volume->record_size > NTFS_MOST_RECORD ||
        mft >= volume->cluster_count)
        return NTFS_DAMAGED;

    /* The first cluster of the MFT is enough to read its own record; the rest follows from that. */
    struct ntfs_stream *own = &volume->mft;
    reset(own);
    own->run_count = 1;
    own->runs[0].cluster = mft;
    own->runs[0].count = (volume->record_size >> volume->cluster_shift) + 1;
    if (own->runs[0].count > volume->cluster_count - mft)
        return NTFS_DAMAGED;
    own->size = own->valid = volume->record_size;
    enum ntfs_status status = read_record(volume, 0, volume->record);
    if (status != NTFS_OK)
        return status;
    const uint8_t *found;
    status = find_attribute(volume->record, volume->record_size, DATA, NULL, &found);
    if (status != NTFS_OK || !found[ATTR_FORM])
        return NTFS_DAMAGED;
    reset(own);
    status = take(volume, found, 0, own);
    if (status == NTFS_OK && find_attribute(volume->record, volume->record_size, ATTRIBUTE_LIST, NULL, &found) == NTFS_OK)
        status = NTFS_SCATTERED;        /* an MFT in so many pieces that they fill several records */
    if (status != NTFS_OK)
        return status;
    status = ntfs_open(volume, UPCASE_FILE, &volume->scratch);
    if (status == NTFS_OK && volume->scratch.size != sizeof volume->upcase)
        status = NTFS_DAMAGED;
    if (status == NTFS_OK)
        status = ntfs_read(volume, &volume->scratch, 0, sizeof volume->upcase, volume->upcase);
    return status;
}

enum ntfs_status ntfs_open(struct ntfs *volume, uint64_t number, struct ntfs_stream *stream)
{
    enum ntfs_status status = read_record(volume, number, volume->record);
    if (status != NTFS_OK)
        return status;
    return gather(volume, DATA, number, stream);
}

/* ---- folders ---- */

struct node {                           /* a place in an index: a block (or the root) and an entry in it */
    uint64_t vcn;
    uint32_t entry;
};

struct walk {
    struct ntfs *volume;
    uint64_t folder;
    uint32_t root, root_size;           /* where the $INDEX_ROOT's value lies in the record */
    uint32_t vcn_shift;
    uint32_t blocks_left;               /* more than these run in a circle */
};

static enum ntfs_status begin(struct walk *walk, struct ntfs *volume, uint64_t folder)
{
    const uint8_t *found;
    walk->volume = volume;
    walk->folder = folder;
    enum ntfs_status status = read_record(volume, folder, volume->record);
    if (status != NTFS_OK)
        return status;
    if (!(u16(volume->record + FILE_FLAGS) & FILE_FOLDER))
        return NTFS_MISSING;
    status = gather(volume, INDEX_ALLOCATION, folder, &volume->scratch);
    if (status != NTFS_OK && status != NTFS_MISSING)
        return status;
    status = find_attribute(volume->record, volume->record_size, INDEX_ROOT, NULL, &found);
    if (status != NTFS_OK || found[ATTR_FORM])
        return NTFS_DAMAGED;
    uint32_t size = u32(found + ATTR_VALUE_LENGTH), offset = u16(found + ATTR_VALUE_OFFSET), length = u32(found + ATTR_LENGTH);
    if (size > length || offset > length - size || size < 32)
        return NTFS_DAMAGED;
    walk->root = (uint32_t)(found - volume->record) + offset;
    walk->root_size = size;
    volume->block_size = u32(found + offset + ROOT_BLOCK_SIZE);
    if (!is_power(volume->block_size) || volume->block_size < STRIDE || volume->block_size > NTFS_MOST_BLOCK)
        return NTFS_DAMAGED;
    uint32_t block_shift = shift_of(volume->block_size);
    walk->vcn_shift = volume->cluster_shift <= block_shift ? volume->cluster_shift : 9;
    uint64_t blocks = volume->scratch.size >> block_shift;
    walk->blocks_left = blocks < UINT32_MAX / 2 ? (uint32_t)blocks + NTFS_MOST_LEVELS : UINT32_MAX / 2;
    return NTFS_OK;
}

/* Reads the block at a VCN. */
static enum ntfs_status enter(struct walk *walk, uint64_t vcn)
{
    struct ntfs *volume = walk->volume;
    if (!walk->blocks_left--)
        return NTFS_DAMAGED;
    if (vcn > UINT64_MAX >> (walk->vcn_shift + 1))
        return NTFS_DAMAGED;
    enum ntfs_status status = ntfs_read(volume, &volume->scratch, vcn << walk->vcn_shift, volume->block_size, volume->block);
    if (status != NTFS_OK)
        return status;
    status = unguard(volume->block, volume->block_size, "INDX");
    return status == NTFS_OK && u64(volume->block + BLOCK_VCN) != vcn ? NTFS_DAMAGED : status;
}

/* Gives the bytes of a node (NTFS_HOLE: the root) from its IndexHeader on. */
static void node_bytes(const struct walk *walk, uint64_t vcn, const uint8_t **bytes, uint32_t *size)
{
    const struct ntfs *volume = walk->volume;
    *bytes = vcn == NTFS_HOLE ? volume->record + walk->root + 16 : volume->block + 24;
    *size = vcn == NTFS_HOLE ? walk->root_size - 16 : volume->block_size - 24;
}

/* Gives the entry at offset `at` of a node, its length proven. */
static enum ntfs_status entry_at(const uint8_t *node, uint32_t size, uint32_t at, const uint8_t **entry)
{
    uint32_t used = u32(node + NODE_USED);
    if (used > size || at < 16 || used < 16 || at > used - 16)
        return NTFS_DAMAGED;
    const uint8_t *found = node + at;
    uint32_t length = u16(found + ENTRY_LENGTH), flags = u16(found + ENTRY_FLAGS);
    uint32_t least = 16 + (flags & ENTRY_HAS_CHILD ? 8 : 0) + (flags & ENTRY_IS_LAST ? 0 : FILE_NAME_SIZE);
    if (length < least || length > used - at)
        return NTFS_DAMAGED;
    if (!(flags & ENTRY_IS_LAST) && ENTRY_KEY + FILE_NAME_SIZE + 2u * found[ENTRY_KEY + NAME_LENGTH] > length)
        return NTFS_DAMAGED;
    *entry = found;
    return NTFS_OK;
}

static uint64_t child_of(const uint8_t *entry) { return u64(entry + u16(entry + ENTRY_LENGTH) - 8); }

static void describe(uint64_t number, const uint8_t *key, struct ntfs_entry *found)
{
    found->number = number;
    found->modified = u64(key + NAME_MODIFIED);
    found->size = u64(key + NAME_SIZE);
    found->attributes = u32(key + NAME_ATTRIBUTES);
    found->name_length = key[NAME_LENGTH];
    for (uint32_t unit = 0; unit < key[NAME_LENGTH]; unit++)
        found->name[unit] = u16(key + FILE_NAME_SIZE + 2 * unit);
    found->name[key[NAME_LENGTH]] = 0;
}

static int compare(const struct ntfs *volume, const uint16_t *name, const uint8_t *entry)
{
    const uint8_t *key = entry + ENTRY_KEY;
    for (uint32_t unit = 0; unit < key[NAME_LENGTH]; unit++, name++) {
        uint16_t ours = volume->upcase[*name], theirs = volume->upcase[u16(key + FILE_NAME_SIZE + 2 * unit)];
        if (!*name || ours < theirs)
            return -1;
        if (ours > theirs)
            return 1;
    }
    return *name ? 1 : 0;
}

enum ntfs_status ntfs_find(struct ntfs *volume, uint64_t folder, const uint16_t *name, struct ntfs_entry *found)
{
    struct walk walk;
    enum ntfs_status status = begin(&walk, volume, folder);
    uint64_t vcn = NTFS_HOLE;
    for (int level = 0; status == NTFS_OK; level++) {
        const uint8_t *node, *entry;
        uint32_t size;
        node_bytes(&walk, vcn, &node, &size);
        uint32_t at = u32(node);
        for (;;) {
            status = entry_at(node, size, at, &entry);
            if (status != NTFS_OK)
                return status;
            int order = u16(entry + ENTRY_FLAGS) & ENTRY_IS_LAST ? -1 : compare(volume, name, entry);
            if (!order) {
                describe(u64(entry) & REFERENCE_NUMBER, entry + ENTRY_KEY, found);
                return NTFS_OK;
            }
            if (order < 0)
                break;
            at += u16(entry + ENTRY_LENGTH);
        }
        if (!(u16(entry + ENTRY_FLAGS) & ENTRY_HAS_CHILD))
            return NTFS_MISSING;
        if (level == NTFS_MOST_LEVELS)
            return NTFS_DAMAGED;
        vcn = child_of(entry);
        status = enter(&walk, vcn);
    }
    return status;
}

/* Reads the $FILE_NAME of a folder, of which there is one besides a short one: both name the same parent. */
static enum ntfs_status name_of(struct ntfs *volume, uint64_t folder)
{
    enum ntfs_status status = read_record(volume, folder, volume->record);
    if (status == NTFS_OK && !(u16(volume->record + FILE_FLAGS) & FILE_FOLDER))
        status = NTFS_DAMAGED;
    if (status == NTFS_OK)
        status = gather(volume, FILE_NAME, folder, &volume->scratch);
    const uint8_t *value = volume->scratch.value;
    if (status == NTFS_OK && (!volume->scratch.resident || volume->scratch.size < FILE_NAME_SIZE ||
                              volume->scratch.size < FILE_NAME_SIZE + 2u * value[NAME_LENGTH]))
        status = NTFS_DAMAGED;
    return status == NTFS_MISSING ? NTFS_DAMAGED : status;
}

enum ntfs_status ntfs_parent(struct ntfs *volume, uint64_t folder, struct ntfs_entry *found)
{
    if (folder == NTFS_ROOT)
        return NTFS_MISSING;
    enum ntfs_status status = name_of(volume, folder);
    if (status != NTFS_OK)
        return status;
    uint64_t parent = u64(volume->scratch.value) & REFERENCE_NUMBER;
    status = name_of(volume, parent);
    if (status != NTFS_OK)
        return status;
    describe(parent, volume->scratch.value, found);
    found->attributes |= NTFS_ATTRIBUTE_FOLDER;
    return NTFS_OK;
}

enum ntfs_status ntfs_list(struct ntfs *volume, uint64_t folder, uint32_t position, struct ntfs_entry *found)
{
    struct walk walk;
    struct node stack[NTFS_MOST_LEVELS + 1];
    enum ntfs_status status = begin(&walk, volume, folder);
    if (status != NTFS_OK)
        return status;
    const uint8_t *node, *entry;
    uint32_t size;
    int level = 0, descend = 1;
    stack[0].vcn = NTFS_HOLE;
    node_bytes(&walk, NTFS_HOLE, &node, &size);
    stack[0].entry = u32(node);
    for (;;) {
        node_bytes(&walk, stack[level].vcn, &node, &size);
        status = entry_at(node, size, stack[level].entry, &entry);
        if (status != NTFS_OK)
            return status;
        uint32_t flags = u16(entry + ENTRY_FLAGS);
        if (descend && flags & ENTRY_HAS_CHILD) {
            if (level == NTFS_MOST_LEVELS)
                return NTFS_DAMAGED;
            stack[++level].vcn = child_of(entry);
            status = enter(&walk, stack[level].vcn);
            if (status != NTFS_OK)
                return status;
            stack[level].entry = u32(volume->block + BLOCK_HEADER);
            continue;
        }
        if (flags & ENTRY_IS_LAST) {
            if (!level--)
                return NTFS_MISSING;
            if (stack[level].vcn != NTFS_HOLE) {        /* back to the node above: its block is read again */
                walk.blocks_left++;
                status = enter(&walk, stack[level].vcn);
                if (status != NTFS_OK)
                    return status;
            }
            descend = 0;
            continue;
        }
        if (entry[ENTRY_KEY + NAME_KIND] != NAME_SHORT && (u64(entry) & REFERENCE_NUMBER) >= 24 && !position--) {
            describe(u64(entry) & REFERENCE_NUMBER, entry + ENTRY_KEY, found);
            return NTFS_OK;
        }
        stack[level].entry += u16(entry + ENTRY_LENGTH);
        descend = 1;
    }
}
