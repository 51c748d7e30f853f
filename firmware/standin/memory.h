/* The compiler may turn loops into these; a stand-in has no library that brings them. */

#pragma once
#include <stddef.h>
#include <stdint.h>

void *memset(void *to, int value, size_t size)
{
    uint8_t *p = to;
    while (size--)
        *p++ = (uint8_t)value;
    return to;
}

void *memcpy(void *to, const void *from, size_t size)
{
    uint8_t *p = to;
    const uint8_t *q = from;
    while (size--)
        *p++ = *q++;
    return to;
}
