/* LZMS: the fast form of src/lucky_keystone/wim/packing/lzms.py, ranges.py, adaptive.py and x86.py. */
#include "huffman.h"
#include "matches.h"
#include "unpack.h"

#define LITERALS 256
#define POWERS 8
#define LENGTH_SLOTS 54
#define OFFSET_SLOTS 799
#define SLOW 1024
#define FAST 512
#define LONGEST 15
#define MOST_COUNT 4096 /* more than a symbol's count can reach: SLOW, and half of what it had before */
#define HISTORY_TOP 63

/* Probabilities: the zeros among the last 64 outcomes. */
struct chance {
    uint64_t history;
    uint32_t zeros;
};

struct context {
    uint32_t state, mask;
    struct chance chances[64];
};

struct adaptive {
    struct code code;
    uint32_t count, every, left;
    uint16_t counts[OFFSET_SLOTS];
};

/* Entry 0 was used last; where that was by the item just before, it does not count yet. */
struct repeats {
    uint64_t recent[4];
    uint32_t was_last;
};

struct chunk {
    const uint8_t *data;
    uint32_t size, position, range, code;
    int64_t back; /* where the words that are taken from the back begin */
    uint64_t bits;
    uint32_t bit_count;
    bool ended;
    struct context is_copy, is_sum, repeats_offset, repeats_sum, which_offset[2], which_sum[2];
    struct adaptive literals, offsets, sums, lengths, powers;
    struct repeats recent, recent_sums;
};

static uint32_t offset_bases[OFFSET_SLOTS + 1], length_bases[LENGTH_SLOTS + 1];
static uint8_t offset_bits[OFFSET_SLOTS], length_bits[LENGTH_SLOTS];
static int32_t last_use[65536];

static void make_bases(uint32_t *bases, uint8_t *bits, const uint8_t *runs, uint32_t count, uint32_t end) {
    uint32_t slot = 0, base = 0;
    for (uint32_t power = 0; power < count; power++)
        for (uint32_t n = 0; n < runs[power]; n++) {
            base += 1u << power;
            bases[slot++] = base;
        }
    bases[slot] = end;
    for (uint32_t n = 0; n < slot; n++)
        bits[n] = (uint8_t)(31 - __builtin_clz(bases[n + 1] - bases[n]));
}

static void make_tables(void) {
    static const uint8_t offset_runs[] = {9,  0,  9,  7,  10, 15, 15, 20, 20, 30, 33,
                                          40, 42, 45, 60, 73, 80, 85, 95, 105, 6};
    static const uint8_t length_runs[] = {27, 4, 6, 4, 5, 2, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0, 1};
    if (offset_bases[0] != 0)
        return;
    make_bases(offset_bases, offset_bits, offset_runs, sizeof offset_runs, 0x7FFFFFFF);
    make_bases(length_bases, length_bits, length_runs, sizeof length_runs, 0x400108AB);
}

static inline uint32_t decide(struct chunk *chunk, struct context *context) {
    struct chance *chance = &context->chances[context->state];
    if (chunk->range <= 0xFFFF) {
        if (chunk->size - chunk->position < 2) {
            chunk->ended = true;
            return 0;
        }
        chunk->range <<= 16;
        chunk->code = chunk->code << 16 | chunk->data[chunk->position] | (uint32_t)chunk->data[chunk->position + 1] << 8;
        chunk->position += 2;
    }
    uint32_t zeros = chance->zeros == 0 ? 1 : chance->zeros > 63 ? 63 : chance->zeros;
    uint32_t bound = (chunk->range >> 6) * zeros, bit;
    if (chunk->code < bound) {
        chunk->range = bound;
        bit = 0;
    } else {
        chunk->range -= bound;
        chunk->code -= bound;
        bit = 1;
    }
    chance->zeros += (uint32_t)(chance->history >> HISTORY_TOP) - bit;
    chance->history = chance->history << 1 | bit;
    context->state = (context->state << 1 | bit) & context->mask;
    return bit;
}

static inline uint32_t peek(struct chunk *chunk, uint32_t count) {
    while (chunk->bit_count <= 32) {
        uint32_t word = 0;
        if (chunk->back >= 2)
            word = chunk->data[chunk->back - 2] | (uint32_t)chunk->data[chunk->back - 1] << 8;
        chunk->back -= 2;
        chunk->bits = chunk->bits << 16 | word;
        chunk->bit_count += 16;
    }
    return (uint32_t)(chunk->bits >> (chunk->bit_count - count)) & ((1u << count) - 1);
}

static inline void drop(struct chunk *chunk, uint32_t count) {
    chunk->bit_count -= count;
    if (8 * chunk->back + chunk->bit_count < 0)
        chunk->ended = true;
}

static inline uint32_t take(struct chunk *chunk, uint32_t count) {
    uint32_t value = peek(chunk, count);
    drop(chunk, count);
    return value;
}

/* Lengths of a Huffman code for symbols that came so often; of equal ones the lower get the longer codes. */
static void code_lengths(const uint16_t *counts, uint32_t count, uint8_t *lengths) {
    static uint16_t starts[MOST_COUNT + 1], order[OFFSET_SLOTS];
    static uint32_t leaves[OFFSET_SLOTS], pairs[OFFSET_SLOTS];
    static uint16_t parents_of_leaves[OFFSET_SLOTS], parents_of_pairs[OFFSET_SLOTS], depths[OFFSET_SLOTS];
    if (count < 2) {
        if (count == 1)
            lengths[0] = 1;
        return;
    }
    for (uint32_t n = 0; n <= MOST_COUNT; n++)
        starts[n] = 0;
    for (uint32_t n = 0; n < count; n++)
        starts[counts[n] + 1]++;
    for (uint32_t n = 1; n <= MOST_COUNT; n++)
        starts[n] = (uint16_t)(starts[n] + starts[n - 1]);
    for (uint32_t n = 0; n < count; n++)
        order[starts[counts[n]]++] = (uint16_t)n;
    for (uint32_t n = 0; n < count; n++)
        leaves[n] = counts[order[n]];
    uint32_t leaf = 0, pair = 0;
    for (uint32_t made = 0; made < count - 1; made++) {
        uint32_t total = 0;
        for (uint32_t twice = 0; twice < 2; twice++) {
            if (leaf < count && (pair >= made || leaves[leaf] <= pairs[pair])) {
                total += leaves[leaf];
                parents_of_leaves[leaf++] = (uint16_t)made;
            } else {
                total += pairs[pair];
                parents_of_pairs[pair++] = (uint16_t)made;
            }
        }
        pairs[made] = total;
    }
    uint32_t of_length[LONGEST + 2] = {0};
    depths[count - 2] = 0;
    for (uint32_t n = count - 2; n-- > 0;)
        depths[n] = (uint16_t)(depths[parents_of_pairs[n]] + 1);
    for (uint32_t n = 0; n < count; n++) {
        uint32_t depth = depths[parents_of_leaves[n]] + 1u;
        of_length[depth > LONGEST ? LONGEST : depth]++;
    }
    uint32_t room = 0;
    for (uint32_t length = 1; length <= LONGEST; length++)
        room += of_length[length] << (LONGEST - length);
    for (; room > 1u << LONGEST; room--) {
        uint32_t longest = LONGEST - 1;
        while (of_length[longest] == 0)
            longest--;
        of_length[longest]--;
        of_length[longest + 1] += 2;
        of_length[LONGEST]--;
    }
    uint32_t place = 0;
    for (uint32_t length = LONGEST; length > 0; length--)
        for (uint32_t n = 0; n < of_length[length]; n++)
            lengths[order[place++]] = (uint8_t)length;
}

static void rebuild(struct adaptive *adaptive) {
    uint8_t lengths[OFFSET_SLOTS];
    code_lengths(adaptive->counts, adaptive->count, lengths);
    code_make(&adaptive->code, lengths, adaptive->count);
    for (uint32_t n = 0; n < adaptive->count; n++)
        adaptive->counts[n] = (uint16_t)((adaptive->counts[n] >> 1) + 1);
    adaptive->left = adaptive->every;
}

static inline uint32_t symbol(struct chunk *chunk, struct adaptive *adaptive) {
    if (adaptive->left == 0)
        rebuild(adaptive);
    uint32_t found = code_find(&adaptive->code, peek(chunk, 16));
    if (found == 0) {
        chunk->ended = true;
        return 0;
    }
    drop(chunk, found & 31);
    adaptive->counts[found >> 5]++;
    adaptive->left--;
    return found >> 5;
}

static inline uint32_t number(struct chunk *chunk, struct adaptive *adaptive, const uint32_t *bases, const uint8_t *bits) {
    uint32_t slot = symbol(chunk, adaptive), count = bits[slot];
    if (count <= 16)
        return bases[slot] + take(chunk, count);
    uint32_t high = take(chunk, count - 16);
    return bases[slot] + (high << 16 | take(chunk, 16));
}

static inline uint64_t again(struct chunk *chunk, struct repeats *repeats, struct context *which) {
    uint32_t place = 0;
    while (place < 2 && decide(chunk, &which[place]) != 0)
        place++;
    place += repeats->was_last;
    uint64_t value = repeats->recent[place];
    for (; place > 0; place--)
        repeats->recent[place] = repeats->recent[place - 1];
    repeats->recent[0] = value;
    return value;
}

static inline void used(struct repeats *repeats, uint64_t value) {
    for (uint32_t place = 3; place > 0; place--)
        repeats->recent[place] = repeats->recent[place - 1];
    repeats->recent[0] = value;
}

static void start_context(struct context *context, uint32_t bits) {
    context->state = 0;
    context->mask = (1u << bits) - 1;
    for (uint32_t n = 0; n <= context->mask; n++)
        context->chances[n] = (struct chance){0x55555555, 48};
}

static void start_adaptive(struct adaptive *adaptive, uint32_t count, uint32_t every) {
    adaptive->count = count;
    adaptive->every = every;
    for (uint32_t n = 0; n < count; n++)
        adaptive->counts[n] = 1;
    rebuild(adaptive);
}

static void start(struct chunk *chunk, const uint8_t *data, uint32_t size, uint32_t end) {
    chunk->data = data;
    chunk->size = size;
    chunk->position = 4;
    chunk->range = 0xFFFFFFFF;
    chunk->code = (data[0] | (uint32_t)data[1] << 8) << 16 | data[2] | (uint32_t)data[3] << 8;
    chunk->back = size;
    chunk->bits = chunk->bit_count = 0;
    chunk->ended = false;
    start_context(&chunk->is_copy, 4);
    start_context(&chunk->is_sum, 5);
    start_context(&chunk->repeats_offset, 6);
    start_context(&chunk->repeats_sum, 6);
    for (uint32_t n = 0; n < 2; n++) {
        start_context(&chunk->which_offset[n], 6);
        start_context(&chunk->which_sum[n], 6);
    }
    uint32_t slots = 0;
    while (end > 1 && slots < OFFSET_SLOTS && offset_bases[slots] <= end - 1)
        slots++;
    start_adaptive(&chunk->literals, LITERALS, SLOW);
    start_adaptive(&chunk->offsets, slots, SLOW);
    start_adaptive(&chunk->sums, slots, SLOW);
    start_adaptive(&chunk->lengths, LENGTH_SLOTS, FAST);
    start_adaptive(&chunk->powers, POWERS, FAST);
    for (uint32_t n = 0; n < 4; n++)
        chunk->recent.recent[n] = chunk->recent_sums.recent[n] = n + 1;
    chunk->recent.was_last = chunk->recent_sums.was_last = 0;
}

/* Undo the translation of x86 operands, which were made absolute so that equal targets look alike. */
static void undo_x86(uint8_t *data, uint32_t size) {
    if (size <= 17)
        return;
    int32_t end = (int32_t)size - 16, last_code = -1024, at = 1;
    for (uint32_t n = 0; n < 65536; n++)
        last_use[n] = -65536;
    while (at < end) {
        const uint8_t *here = data + at;
        int32_t length = 0, most = 1023;
        switch (here[0]) {
        case 0xE9:
            at += 5;
            continue;
        case 0xE8:
            length = 1;
            most = 511;
            break;
        case 0x48:
            if ((here[1] == 0x8B && (here[2] == 0x05 || here[2] == 0x0D)) || (here[1] == 0x8D && (here[2] & 7) == 5))
                length = 3;
            break;
        case 0x4C:
            if (here[1] == 0x8D && (here[2] & 7) == 5)
                length = 3;
            break;
        case 0xF0:
            if (here[1] == 0x83 && here[2] == 0x05)
                length = 3;
            break;
        case 0xFF:
            if (here[1] == 0x15)
                length = 2;
            break;
        }
        if (length == 0) {
            at++;
            continue;
        }
        uint32_t value;
        __builtin_memcpy(&value, here + length, 4);
        if (at - last_code <= most) {
            value -= (uint32_t)at;
            __builtin_memcpy(data + at + length, &value, 4);
        }
        uint32_t target = ((uint32_t)at + value) & 0xFFFF;
        at += length + 3;
        if (at - last_use[target] <= 65535)
            last_code = at;
        last_use[target] = at;
        at++;
    }
}

bool lzms_unpack(const uint8_t *data, uint32_t size, uint8_t *out, uint32_t end) {
    static struct chunk chunk;
    if (size < 4 || size % 2 != 0)
        return false;
    make_tables();
    start(&chunk, data, size, end);
    uint32_t at = 0;
    while (at < end) {
        bool is_copy = decide(&chunk, &chunk.is_copy) != 0, is_sum = is_copy && decide(&chunk, &chunk.is_sum) != 0;
        if (chunk.ended)
            return false;
        if (!is_copy) {
            out[at++] = (uint8_t)symbol(&chunk, &chunk.literals);
            if (chunk.ended)
                return false;
        } else if (!is_sum) {
            uint32_t offset;
            if (decide(&chunk, &chunk.repeats_offset) != 0)
                offset = (uint32_t)again(&chunk, &chunk.recent, chunk.which_offset);
            else {
                offset = number(&chunk, &chunk.offsets, offset_bases, offset_bits);
                used(&chunk.recent, offset);
            }
            uint32_t length = number(&chunk, &chunk.lengths, length_bases, length_bits);
            if (chunk.ended || !match_copy(out, at, end, offset, length))
                return false;
            at += length;
        } else {
            uint64_t both;
            if (decide(&chunk, &chunk.repeats_sum) != 0)
                both = again(&chunk, &chunk.recent_sums, chunk.which_sum);
            else {
                both = (uint64_t)symbol(&chunk, &chunk.powers) << 32;
                both |= number(&chunk, &chunk.sums, offset_bases, offset_bits);
                used(&chunk.recent_sums, both);
            }
            uint32_t length = number(&chunk, &chunk.lengths, length_bases, length_bits);
            uint64_t span = 1u << (both >> 32), offset = (both & 0xFFFFFFFF) << (both >> 32);
            if (chunk.ended || span + offset > at || length > end - at)
                return false;
            for (uint32_t n = 0; n < length; n++, at++)
                out[at] = (uint8_t)(out[at - span] + out[at - offset] - out[at - span - offset]);
        }
        chunk.recent.was_last = is_copy && !is_sum;
        chunk.recent_sums.was_last = is_sum;
    }
    undo_x86(out, end);
    return true;
}
