/* A stand-in for a boot manager that starts a system: takes a boot store apart by itself, finds the partition that it names,
 * and reads every file on the NTFS volume there. The same for BIOS and UEFI; each gives what is in `struct machine`. */

#pragma once
#include <stddef.h>
#include <stdint.h>

struct place {                          /* what a device element says */
    int is_gpt;
    uint64_t first_byte;
    uint8_t disk[16], partition[16];    /* of an MBR the signature, in the first 4 bytes of `disk` */
};

struct machine {
    int (*open)(const struct place *place);                     /* 0 where no drive has such a partition */
    int (*read)(uint64_t sector, uint32_t bytes, uint8_t *to);  /* whole sectors of that partition */
    uint32_t (*sector_size)(void);
    int (*memory)(uint32_t bytes, void **to);
    void (*put)(char character);
    void (*show)(const char *line);
    int (*read_file)(const uint16_t *path, uint8_t **to, uint64_t *size);   /* of the volume that this was started from */
};

/* Returns 1 when the system's loader is there and every file could be read. */
int start_system(const struct machine *machine, const uint8_t *store, uint32_t size);

/* Finds a file (path with backslashes) on the NTFS volume whose sectors the machine reads, by looking at all of them. */
int find_on_ntfs(const struct machine *machine, const uint16_t *path, uint8_t **to, uint64_t *size);
