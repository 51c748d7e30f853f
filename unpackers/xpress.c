/* XPRESS with Huffman codes: the fast form of src/lucky_keystone/wim/packing/xpress.py. */
#include "huffman.h"
#include "matches.h"
#include "unpack.h"

#define SYMBOLS 512
#define LENGTHS (SYMBOLS / 2)
#define LEAST_MATCH 3

/* Two words are read ahead; further bytes of a length lie behind them. */
struct words {
    const uint8_t *data;
    uint32_t size, position, value;
    int32_t spare;
    bool ended;
};

static inline uint32_t word(struct words *words) {
    uint32_t at = words->position, value = 0;
    if (at + 2 <= words->size)
        value = words->data[at] | (uint32_t)words->data[at + 1] << 8;
    else if (at < words->size)
        value = words->data[at];
    else if (at > words->size + 2)
        words->ended = true;
    words->position = at + 2;
    return value;
}

static inline void drop(struct words *words, uint32_t count) {
    words->value <<= count;
    words->spare -= (int32_t)count;
    if (words->spare < 0) { /* more than 16 bits are used: not at exactly 16 */
        words->value |= word(words) << -words->spare;
        words->spare += 16;
    }
}

bool xpress_unpack(const uint8_t *data, uint32_t size, uint8_t *out, uint32_t end) {
    static struct code code;
    uint8_t lengths[SYMBOLS];
    if (size < LENGTHS)
        return false;
    for (uint32_t n = 0; n < LENGTHS; n++) {
        lengths[2 * n] = data[n] & 15;
        lengths[2 * n + 1] = data[n] >> 4;
    }
    if (!code_make(&code, lengths, SYMBOLS))
        return false;
    struct words words = {data, size, LENGTHS, 0, 16, false};
    words.value = word(&words) << 16;
    words.value |= word(&words);
    uint32_t at = 0;
    while (at < end) {
        uint32_t found = code_find(&code, words.value >> 16);
        if (found == 0)
            return false;
        drop(&words, found & 31);
        uint32_t symbol = found >> 5;
        if (words.ended)
            return false;
        if (symbol < 256) {
            out[at++] = (uint8_t)symbol;
            continue;
        }
        uint32_t offset_bits = (symbol - 256) >> 4, length = symbol & 15;
        if (length == 15) {
            if (words.position >= size)
                return false;
            length += data[words.position++];
            if (length == 15 + 255) {
                if (words.position + 2 > size)
                    return false;
                length = data[words.position] | (uint32_t)data[words.position + 1] << 8;
                words.position += 2;
            }
        }
        uint32_t offset = 1u << offset_bits;
        if (offset_bits != 0) {
            offset += words.value >> (32 - offset_bits);
            drop(&words, offset_bits);
            if (words.ended)
                return false;
        }
        length += LEAST_MATCH;
        if (!match_copy(out, at, end, offset, length))
            return false;
        at += length;
    }
    return true;
}
