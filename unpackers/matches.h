/* Copies of what was unpacked before. */
#ifndef MATCHES_H
#define MATCHES_H

#include <stdbool.h>
#include <stdint.h>

#define MATCH_SLACK 16 /* bytes behind the output that may be written to, and are not part of it */

/* Append `length` bytes from `offset` before `at`; false where they lie before the start or reach beyond `end`. */
static inline bool match_copy(uint8_t *out, uint32_t at, uint32_t end, uint32_t offset, uint32_t length) {
    if (offset == 0 || offset > at || length > end - at)
        return false;
    uint8_t *to = out + at;
    const uint8_t *from = to - offset;
    if (offset < 8) { /* what is copied may have been made by this very copy */
        for (uint32_t n = 0; n < length; n++)
            to[n] = from[n];
        return true;
    }
    for (uint32_t n = 0; n < length; n += 8)
        __builtin_memcpy(to + n, from + n, 8);
    return true;
}

#endif
