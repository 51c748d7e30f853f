/* The stand-in's own way to read an NTFS volume: by block I/O, going through the file table record by record. */

#pragma once
#include "../efi.h"

struct telling {
    uint32_t (*add_sum)(uint32_t sum, const uint8_t *data, uintptr_t size);
    void (*file)(const CHAR16 *path, uint32_t sum, uint64_t size);
};

/* Returns 1 when every file was read, 0 when something went wrong, -1 when there is no NTFS on the handle. */
int scan_ntfs(EFI_BOOT_SERVICES *services, EFI_HANDLE handle, uint8_t *chunk, uint32_t chunk_size, const struct telling *telling);
