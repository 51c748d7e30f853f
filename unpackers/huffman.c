#include "huffman.h"

bool code_make(struct code *code, const uint8_t *lengths, uint32_t count) {
    uint32_t of_length[CODE_LONGEST + 1] = {0};
    for (uint32_t symbol = 0; symbol < count; symbol++)
        of_length[lengths[symbol]]++;
    of_length[0] = 0;

    uint32_t next = 0, symbols = 0;
    for (uint32_t length = 1; length <= CODE_LONGEST; length++) {
        code->base[length] = next;
        code->place[length] = (uint16_t)symbols;
        symbols += of_length[length];
        next += of_length[length] << (16 - length);
        code->limit[length] = next;
    }
    if (next > 1u << 16 || (next < 1u << 16 && symbols > 1))
        return false;

    for (uint32_t entry = 0; entry < 1u << CODE_QUICK_BITS; entry++)
        code->quick[entry] = 0;
    uint32_t place[CODE_LONGEST + 1];
    for (uint32_t length = 1; length <= CODE_LONGEST; length++)
        place[length] = code->place[length];
    for (uint32_t symbol = 0; symbol < count; symbol++) {
        uint32_t length = lengths[symbol];
        if (length == 0)
            continue;
        uint32_t at = place[length]++;
        code->sorted[at] = (uint16_t)symbol;
        if (length > CODE_QUICK_BITS)
            continue;
        uint32_t first = (code->base[length] >> (16 - CODE_QUICK_BITS)) +
                         ((at - code->place[length]) << (CODE_QUICK_BITS - length));
        for (uint32_t n = 0; n < 1u << (CODE_QUICK_BITS - length); n++)
            code->quick[first + n] = (uint16_t)(symbol << 4 | length);
    }
    return true;
}
