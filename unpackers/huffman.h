/* Canonical Huffman codes: the fast form of src/lucky_keystone/wim/packing/huffman.py, which is the specification. */
#ifndef HUFFMAN_H
#define HUFFMAN_H

#include <stdbool.h>
#include <stdint.h>

#define CODE_QUICK_BITS 10 /* codes of up to so many bits are found in one step */
#define CODE_LONGEST 16
#define CODE_MOST_SYMBOLS 800

struct code {
    uint16_t quick[1 << CODE_QUICK_BITS]; /* symbol << 4 | bits of its code; 0: a longer code, or none */
    uint32_t base[CODE_LONGEST + 1];      /* by length: the first code, as the upper bits of 16 */
    uint32_t limit[CODE_LONGEST + 1];     /* and where the codes of this length end */
    uint16_t place[CODE_LONGEST + 1];     /* and the first code's place in `sorted` */
    uint16_t sorted[CODE_MOST_SYMBOLS];
};

/* Make a code of the lengths (in bits, 0 for none) of its symbols. False for lengths that make none. */
bool code_make(struct code *code, const uint8_t *lengths, uint32_t count);

/* Return symbol << 5 | bits of the code that `next`, the next 16 bits, begin with; 0 where they begin with none. */
static inline uint32_t code_find(const struct code *code, uint32_t next) {
    uint32_t entry = code->quick[next >> (16 - CODE_QUICK_BITS)];
    if (entry != 0)
        return (entry >> 4) << 5 | (entry & 15);
    for (uint32_t length = CODE_QUICK_BITS + 1; length <= CODE_LONGEST; length++)
        if (next < code->limit[length])
            return (uint32_t)code->sorted[code->place[length] + ((next - code->base[length]) >> (16 - length))] << 5 |
                   length;
    return 0;
}

#endif
