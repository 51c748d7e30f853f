/* Chunks of install images, many at a call. Run in a sandbox: what the caller's memory holds is all that it can reach. */
#include "unpack.h"

enum { XPRESS = 1, LZX = 2, LZMS = 3 };

static uint32_t bits_of(uint32_t value) {
    return value == 0 ? 0 : 32 - (uint32_t)__builtin_clz(value);
}

/*
 * Unpack chunks that lie behind one another: chunk n from data + starts[n] to data + starts[n + 1]. Each has `chunk`
 * bytes when unpacked, the last what is left of `total`. One that did not shrink is stored as it is.
 * Returns how many were unpacked; fewer than `count`: the next one is damaged.
 */
uint32_t unpack_run(uint32_t method, const uint8_t *data, const uint32_t *starts, uint32_t count, uint8_t *out,
                    uint32_t chunk, uint32_t total) {
    for (uint32_t n = 0; n < count; n++) {
        const uint8_t *stored = data + starts[n];
        uint32_t size = starts[n + 1] - starts[n], done = n * chunk;
        uint32_t end = total - done < chunk ? total - done : chunk;
        bool is_whole;
        if (size == end) {
            __builtin_memcpy(out + done, stored, size);
            is_whole = true;
        } else if (method == XPRESS)
            is_whole = xpress_unpack(stored, size, out + done, end);
        else if (method == LZX)
            is_whole = lzx_unpack(stored, size, out + done, end, bits_of(chunk > 2 ? chunk - 1 : 1));
        else if (method == LZMS)
            is_whole = lzms_unpack(stored, size, out + done, end);
        else
            is_whole = false;
        if (!is_whole)
            return n;
    }
    return count;
}
