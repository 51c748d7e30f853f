#ifndef UNPACK_H
#define UNPACK_H

#include <stdbool.h>
#include <stdint.h>

/* Unpack one chunk of `size` bytes into `end` bytes (MATCH_SLACK more may be written); false where it is damaged. */
bool xpress_unpack(const uint8_t *data, uint32_t size, uint8_t *out, uint32_t end);
bool lzx_unpack(const uint8_t *data, uint32_t size, uint8_t *out, uint32_t end, uint32_t window_bits);
bool lzms_unpack(const uint8_t *data, uint32_t size, uint8_t *out, uint32_t end);

#endif
