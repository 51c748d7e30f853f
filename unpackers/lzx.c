/* LZX as install images have it: the fast form of src/lucky_keystone/wim/packing/lzx.py. */
#include "huffman.h"
#include "matches.h"
#include "unpack.h"

#define LITERALS 256
#define LENGTH_SYMBOLS 249
#define PRE_SYMBOLS 20
#define LEAST_MATCH 2
#define USUAL_BLOCK 32768
#define MOST_SLOTS 50
#define LEAST_WINDOW_BITS 15
#define MOST_WINDOW_BITS 21
#define CALL_SIZE 12000000
#define CALL_END 10
#define BEHIND_END 4 /* bytes behind the input that may be taken, as zeros */

enum { VERBATIM = 1, ALIGNED = 2, UNCOMPRESSED = 3 };

static const uint8_t slots[MOST_WINDOW_BITS - LEAST_WINDOW_BITS + 1] = {30, 32, 34, 36, 38, 42, 50};

struct bits {
    const uint8_t *data;
    uint32_t size, position, count;
    uint64_t value;
    bool ended;
};

struct chunk {
    struct bits bits;
    uint8_t *out;
    uint32_t at, end, window_bits, recent[3], main_symbols;
    uint8_t main_lengths[LITERALS + 8 * MOST_SLOTS], length_lengths[LENGTH_SYMBOLS];
    struct code main, lengths, aligned, pre;
};

/* Make sure of 32 bits at least. */
static inline void fill(struct bits *bits) {
    while (bits->count <= 40) {
        uint32_t at = bits->position, value = 0;
        if (at + 2 <= bits->size)
            value = bits->data[at] | (uint32_t)bits->data[at + 1] << 8;
        else if (at < bits->size)
            value = bits->data[at];
        bits->value = bits->value << 16 | value;
        bits->position = at + 2;
        bits->count += 16;
    }
}

static inline uint32_t peek(struct bits *bits, uint32_t count) {
    if (bits->count < 32)
        fill(bits);
    return (uint32_t)(bits->value >> (bits->count - count)) & ((1u << count) - 1);
}

static inline void drop(struct bits *bits, uint32_t count) {
    bits->count -= count;
    if (bits->position > bits->size && 8ull * bits->position - bits->count > 8ull * (bits->size + BEHIND_END))
        bits->ended = true;
}

/* At most 17 bits. */
static inline uint32_t take(struct bits *bits, uint32_t count) {
    uint32_t value = peek(bits, count);
    drop(bits, count);
    return value;
}

/* Take a symbol. A code that stands for none ends the input. */
static inline uint32_t symbol(struct bits *bits, const struct code *code) {
    uint32_t found = code_find(code, peek(bits, 16));
    if (found == 0)
        bits->ended = true;
    drop(bits, found & 31);
    return found >> 5;
}

/* Leave out 1 to 16 bits, to the next word. */
static void align(struct bits *bits) {
    bits->position += (bits->count % 16 != 0 ? 0 : 2);
    bits->position -= 2 * (bits->count / 16);
    bits->value = bits->count = 0;
}

/* Read a tree's code lengths as differences from those of the block before, modulo 17. */
static bool read_lengths(struct chunk *chunk, uint8_t *lengths, uint32_t at, uint32_t end) {
    struct bits *bits = &chunk->bits;
    uint8_t pre[PRE_SYMBOLS];
    for (uint32_t n = 0; n < PRE_SYMBOLS; n++)
        pre[n] = (uint8_t)take(bits, 4);
    if (bits->ended || !code_make(&chunk->pre, pre, PRE_SYMBOLS))
        return false;
    while (at < end) {
        uint32_t kind = symbol(bits, &chunk->pre), run = 1, value = 0;
        if (kind < 17)
            value = (lengths[at] + 17 - kind) % 17;
        else if (kind == 17)
            run = 4 + take(bits, 4);
        else if (kind == 18)
            run = 20 + take(bits, 5);
        else {
            run = 4 + take(bits, 1);
            uint32_t difference = symbol(bits, &chunk->pre);
            if (difference > 16)
                return false;
            value = (lengths[at] + 17 - difference) % 17;
        }
        if (bits->ended || run > end - at)
            return false;
        for (uint32_t n = 0; n < run; n++)
            lengths[at++] = (uint8_t)value;
    }
    return true;
}

/* Return a match's offset; a repeated one changes places with the most recent. */
static inline uint32_t match_offset(struct chunk *chunk, uint32_t slot, bool is_aligned) {
    struct bits *bits = &chunk->bits;
    uint32_t *recent = chunk->recent;
    if (slot < 3) {
        uint32_t offset = recent[slot];
        recent[slot] = recent[0];
        recent[0] = offset;
        return offset;
    }
    uint32_t count = slot < 4 ? 0 : (slot >> 1) - 1, base;
    if (count > 17)
        count = 17;
    if (slot < 4)
        base = slot;
    else if (slot < 38)
        base = (2 + (slot & 1)) << count;
    else
        base = (slot - 34) << 17;
    uint32_t further;
    if (is_aligned && count >= 3) {
        further = take(bits, count - 3) << 3;
        further += symbol(bits, &chunk->aligned);
    } else
        further = take(bits, count);
    recent[2] = recent[1];
    recent[1] = recent[0];
    recent[0] = base + further - 2;
    return recent[0];
}

static bool decode_block(struct chunk *chunk, uint32_t end, bool is_aligned) {
    struct bits *bits = &chunk->bits;
    if (is_aligned) {
        uint8_t aligned[8];
        for (uint32_t n = 0; n < 8; n++)
            aligned[n] = (uint8_t)take(bits, 3);
        if (bits->ended || !code_make(&chunk->aligned, aligned, 8))
            return false;
    }
    if (!read_lengths(chunk, chunk->main_lengths, 0, LITERALS) ||
        !read_lengths(chunk, chunk->main_lengths, LITERALS, chunk->main_symbols) ||
        !read_lengths(chunk, chunk->length_lengths, 0, LENGTH_SYMBOLS) ||
        !code_make(&chunk->main, chunk->main_lengths, chunk->main_symbols) ||
        !code_make(&chunk->lengths, chunk->length_lengths, LENGTH_SYMBOLS))
        return false;
    uint32_t at = chunk->at;
    while (at < end) {
        uint32_t found = symbol(bits, &chunk->main);
        if (bits->ended)
            return false;
        if (found < LITERALS) {
            chunk->out[at++] = (uint8_t)found;
            continue;
        }
        uint32_t slot = (found - LITERALS) >> 3, length = found & 7;
        if (length == 7)
            length += symbol(bits, &chunk->lengths);
        uint32_t offset = match_offset(chunk, slot, is_aligned);
        length += LEAST_MATCH;
        if (bits->ended || !match_copy(chunk->out, at, end, offset, length))
            return false;
        at += length;
    }
    chunk->at = at;
    return true;
}

/* An uncompressed block: aligned to a word, three recent offsets, the bytes, a pad byte where they are odd. */
static bool copy_block(struct chunk *chunk, uint32_t end) {
    struct bits *bits = &chunk->bits;
    align(bits);
    uint32_t size = end - chunk->at, at = bits->position;
    if (at > bits->size || bits->size - at < 12 || bits->size - at - 12 < size)
        return false;
    for (uint32_t n = 0; n < 3; n++, at += 4)
        __builtin_memcpy(&chunk->recent[n], bits->data + at, 4);
    for (uint32_t n = 0; n < size; n++)
        chunk->out[chunk->at++] = bits->data[at++];
    bits->position = at + size % 2;
    return true;
}

/* Undo the translation of x86 calls: their targets were made absolute, so that equal ones look alike. */
static void undo_calls(uint8_t *out, uint32_t size) {
    for (uint32_t at = 0; at + CALL_END < size; at++) {
        if (out[at] != 0xE8)
            continue;
        int32_t target;
        __builtin_memcpy(&target, out + at + 1, 4);
        if (target >= -(int32_t)at && target < CALL_SIZE) {
            target += target >= 0 ? -(int32_t)at : CALL_SIZE;
            __builtin_memcpy(out + at + 1, &target, 4);
        }
        at += 4;
    }
}

bool lzx_unpack(const uint8_t *data, uint32_t size, uint8_t *out, uint32_t end, uint32_t window_bits) {
    static struct chunk chunk;
    if (window_bits > MOST_WINDOW_BITS)
        return false;
    chunk.bits = (struct bits){data, size, 0, 0, 0, false};
    chunk.out = out;
    chunk.at = 0;
    chunk.end = end;
    chunk.window_bits = window_bits;
    chunk.recent[0] = chunk.recent[1] = chunk.recent[2] = 1;
    chunk.main_symbols =
        LITERALS + 8 * slots[(window_bits < LEAST_WINDOW_BITS ? LEAST_WINDOW_BITS : window_bits) - LEAST_WINDOW_BITS];
    for (uint32_t n = 0; n < chunk.main_symbols; n++)
        chunk.main_lengths[n] = 0;
    for (uint32_t n = 0; n < LENGTH_SYMBOLS; n++)
        chunk.length_lengths[n] = 0;
    while (chunk.at < end) {
        uint32_t kind = take(&chunk.bits, 3), block = USUAL_BLOCK;
        if (take(&chunk.bits, 1) == 0) {
            block = take(&chunk.bits, 16);
            if (window_bits >= 16)
                block = block << 8 | take(&chunk.bits, 8);
        }
        if (chunk.bits.ended || block == 0 || block > end - chunk.at)
            return false;
        block += chunk.at;
        bool is_whole = kind == UNCOMPRESSED                      ? copy_block(&chunk, block)
                        : kind == VERBATIM || kind == ALIGNED ? decode_block(&chunk, block, kind == ALIGNED)
                                                              : false;
        if (!is_whole)
            return false;
    }
    undo_calls(out, end);
    return true;
}
