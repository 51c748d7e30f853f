/* The stand-in for a boot manager under BIOS: see system.h, and system_entry.asm for how it gets here. */

#include "system.h"

#define FLAT 0x20000u
#define BUFFER 0x10000u                 /* below 1 MiB: where firmware reads to */
#define AT_ONCE 64u                     /* sectors */
#define HEAP 0x200000u
#define SECTOR 512u

struct registers {
    uint32_t interrupt, eax, ebx, ecx, edx, flags;
    struct { uint16_t size, count; uint16_t offset, segment; uint64_t lba; } __attribute__((packed)) packet;
};

extern uint8_t bss_start[], bss_end[];

static uint32_t heap, line;
static uint64_t first_sector;           /* of the partition that is read */

#include "memory.h"

static uint32_t number(const uint8_t *at, int size)
{
    uint32_t value = 0;
    while (size--)
        value = value << 8 | at[size];
    return value;
}

static void out(uint16_t port, uint8_t value)
{
    __asm__ volatile("outb %0, %1" : : "a"(value), "Nd"(port));
}

static void put(char character)
{
    out(0x3F8, (uint8_t)character);
}

static void show(const char *text)
{
    volatile uint8_t *screen = (uint8_t *)0xB8000 + 160 * (10 + line++ % 12);
    for (; *text; text++, screen += 2) {
        screen[0] = (uint8_t)*text;
        screen[1] = 7;
    }
}

static int read_drive(uint64_t sector, uint32_t bytes, uint8_t *to)
{
    void (*call_firmware)(struct registers *) = (void (*)(struct registers *))*(uint32_t *)(FLAT + 8);
    for (uint32_t left = bytes / SECTOR; left;) {
        uint32_t count = left < AT_ONCE ? left : AT_ONCE;
        struct registers registers = {
            0x13, 0x4200, 0, 0, *(uint32_t *)(FLAT + 12), 0, {16, (uint16_t)count, 0, BUFFER >> 4, sector},
        };
        call_firmware(&registers);
        if (registers.flags & 1)
            return 0;
        memcpy(to, (const void *)BUFFER, count * SECTOR);
        to += count * SECTOR;
        sector += count;
        left -= count;
    }
    return 1;
}

static int memory(uint32_t bytes, void **to)
{
    *to = (void *)heap;
    heap += (bytes + 15) & ~15u;
    return 1;
}

static int open(const struct place *place)
{
    uint8_t *record;
    memory(SECTOR, (void **)&record);
    if (place->is_gpt || !read_drive(0, SECTOR, record) || number(record + 0x1B8, 4) != number(place->disk, 4))
        return 0;
    for (uint32_t entry = 446; entry < 510; entry += 16) {
        first_sector = number(record + entry + 8, 4);
        if (first_sector && first_sector << 9 == place->first_byte)
            return 1;
    }
    return 0;
}

static int read(uint64_t sector, uint32_t bytes, uint8_t *to)
{
    return read_drive(first_sector + sector, bytes, to);
}

static uint32_t sector_size(void)
{
    return SECTOR;
}

/* -- the FAT32 volume that this was loaded from ------------------------------------------------------------------------- */

static uint32_t cluster_sectors, fat_at, data_at;

static uint32_t next_of(uint32_t cluster)
{
    static uint8_t sector[SECTOR];
    return read(fat_at + cluster / 128, SECTOR, sector) ? number(sector + cluster % 128 * 4, 4) & 0x0FFFFFFF : 0x0FFFFFFF;
}

/* Reads a chain of clusters; returns its bytes. */
static uint32_t read_chain(uint32_t cluster, uint8_t **to)
{
    uint32_t bytes = 0, step = cluster_sectors * SECTOR;
    memory(0, (void **)to);
    for (; cluster >= 2 && cluster < 0x0FFFFFF8 && bytes < 64u << 20; cluster = next_of(cluster), bytes += step) {
        uint8_t *piece;
        memory(step, (void **)&piece);
        if (!read(data_at + (cluster - 2) * cluster_sectors, step, piece))
            return 0;
    }
    return bytes;
}

/* Looks a short name up in a folder; its first cluster, and its size. */
static uint32_t find_short(uint32_t folder, const char *name, uint32_t *size)
{
    uint8_t *entries;
    uint32_t bytes = read_chain(folder, &entries);
    for (uint32_t at = 0; at < bytes && entries[at]; at += 32) {
        uint32_t same = entries[at + 11] != 0x0F;
        for (int unit = 0; unit < 11; unit++)
            same &= entries[at + unit] == (uint8_t)name[unit];
        if (same) {
            *size = number(entries + at + 28, 4);
            return number(entries + at + 26, 2) | number(entries + at + 20, 2) << 16;
        }
    }
    return 0;
}

static int read_file(const uint16_t *path, uint8_t **to, uint64_t *size);

static const struct machine machine = {open, read, sector_size, memory, put, show, read_file};

/* A path of short names alone: what this program makes for its entries, and discs have for theirs. */
static int read_file(const uint16_t *path, uint8_t **to, uint64_t *size)
{
    const uint8_t *boot = (const uint8_t *)0x7C00;
    first_sector = number(boot + 28, 4);
    if (boot[3] == 'N')
        return find_on_ntfs(&machine, path, to, size);
    uint32_t cluster = number(boot + 44, 4), bytes = 0;
    while (*path == '\\' || *path == '/') {
        char name[11];
        int unit = 0, at = 0;
        while (unit < 11)
            name[unit++] = ' ';
        for (path++; *path && *path != '\\' && *path != '/'; path++) {
            if (*path == '.')
                at = 8;
            else if (at < 11)
                name[at++] = (char)(*path >= 'a' && *path <= 'z' ? *path - 32 : *path);
        }
        cluster = find_short(cluster, name, &bytes);
        if (!cluster)
            return 0;
    }
    *size = bytes;
    return read_chain(cluster, to) >= bytes;
}

static void start(void)
{
    static const uint16_t path[] = u"\\boot\\BCD";
    const uint8_t *boot = (const uint8_t *)0x7C00;
    uint8_t *store;
    uint64_t size = 0;
    cluster_sectors = boot[13];
    fat_at = number(boot + 14, 2);
    data_at = fat_at + boot[16] * number(boot + 36, 4);
    if (!read_file(path, &store, &size)) {
        show("There is no boot store.");
        return;
    }
    start_system(&machine, store, (uint32_t)size);
}

__attribute__((section(".text.entry"))) void main(void)
{
    for (uint8_t *at = bss_start; at < bss_end; at++)
        *at = 0;
    heap = HEAP;
    show("Tidewell stand-in boot manager, BIOS: starting the system that the boot store names");
    start();
    out(0xF4, 0);                       /* the lab's emulator ends here */
}
