/* The stand-in for a boot manager under UEFI: see system.h. */

#include "../efi.h"
#include "system.h"

#define LARGEST_FILE (16u << 20)

static const EFI_GUID loaded_image_guid = {0x5B1B31A1, 0x9562, 0x11d2, {0x8E, 0x3F, 0x00, 0xA0, 0xC9, 0x69, 0x72, 0x3B}};
static const EFI_GUID file_system_guid = {0x964e5b22, 0x6459, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID disk_guid = {0x964e5b21, 0x6459, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID path_guid = {0x09576e91, 0x6d3f, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID serial_guid = {0xBB25CF6F, 0xF1D4, 0x11D2, {0x9A, 0x0C, 0x00, 0x90, 0x27, 0x3F, 0xC1, 0xFD}};

static EFI_SYSTEM_TABLE *st;
static SERIAL_IO *serial;
static BLOCK_IO *partition;

int _fltused = 0;

#include "memory.h"

static void put(char character)
{
    uintptr_t one = 1;
    if (serial)
        serial->Write(serial, &one, &character);
}

static void show(const char *line)
{
    CHAR16 wide[2] = {0, 0};
    for (; *line; line++) {
        wide[0] = (CHAR16)*line;
        st->ConOut->OutputString(st->ConOut, wide);
    }
    st->ConOut->OutputString(st->ConOut, (CHAR16[]){'\r', '\n', 0});
}

static int is_same(const uint8_t *one, const uint8_t *other, uint32_t bytes)
{
    while (bytes--)
        if (*one++ != *other++)
            return 0;
    return 1;
}

static int memory(uint32_t bytes, void **to)
{
    return st->BootServices->AllocatePool(EFI_LOADER_DATA, bytes, to) == EFI_SUCCESS;
}

/* The last node of a device path where that is a partition of a disk (UEFI 2.10, 10.3.5.1); NULL for any other path. */
static const uint8_t *partition_node(const uint8_t *node)
{
    const uint8_t *last = NULL;
    for (; node[0] != 0x7F; node += node[2] | node[3] << 8)
        last = node;
    return last && last[0] == 4 && last[1] == 1 ? last : NULL;
}

/* Reads the GPT header of the disk that a partition's path begins with, and compares its GUID (5.3.2). */
static int has_disk(const uint8_t *path, const uint8_t *node, const uint8_t *guid, EFI_HANDLE *handles, uintptr_t count)
{
    uint32_t length = (uint32_t)(node - path);
    for (uintptr_t each = 0; each < count; each++) {
        const uint8_t *other;
        BLOCK_IO *disk;
        uint8_t *sector;
        if (st->BootServices->HandleProtocol(handles[each], &path_guid, (void **)&other) != EFI_SUCCESS ||
            st->BootServices->HandleProtocol(handles[each], &disk_guid, (void **)&disk) != EFI_SUCCESS ||
            disk->Media->LogicalPartition || !is_same(path, other, length) || other[length] != 0x7F ||
            !memory(disk->Media->BlockSize, (void **)&sector))
            continue;
        return disk->ReadBlocks(disk, disk->Media->MediaId, 1, disk->Media->BlockSize, sector) == EFI_SUCCESS &&
               is_same(sector, (const uint8_t *)"EFI PART", 8) && is_same(sector + 56, guid, 16);
    }
    return 0;
}

static int open(const struct place *place)
{
    EFI_HANDLE *handles;
    uintptr_t count;
    if (st->BootServices->LocateHandleBuffer(EFI_BY_PROTOCOL, &disk_guid, NULL, &count, &handles) != EFI_SUCCESS)
        return 0;
    for (uintptr_t each = 0; each < count; each++) {
        const uint8_t *path, *node;
        if (st->BootServices->HandleProtocol(handles[each], &path_guid, (void **)&path) != EFI_SUCCESS ||
            !(node = partition_node(path)) ||
            st->BootServices->HandleProtocol(handles[each], &disk_guid, (void **)&partition) != EFI_SUCCESS)
            continue;
        uint64_t start;
        __builtin_memcpy(&start, node + 8, 8);
        if (place->is_gpt) {
            if (node[41] == 2 && is_same(node + 24, place->partition, 16) && has_disk(path, node, place->disk, handles, count))
                return 1;
        } else if (node[41] == 1 && is_same(node + 24, place->disk, 4) &&
                   start * partition->Media->BlockSize == place->first_byte) {
            return 1;
        }
    }
    return 0;
}

static int read(uint64_t sector, uint32_t bytes, uint8_t *to)
{
    return partition->ReadBlocks(partition, partition->Media->MediaId, sector, bytes, to) == EFI_SUCCESS;
}

static uint32_t sector_size(void)
{
    return partition->Media->BlockSize;
}

static FILE_PROTOCOL *root;

static int read_file(const CHAR16 *path, uint8_t **to, uint64_t *size)
{
    FILE_PROTOCOL *file;
    uintptr_t bytes = LARGEST_FILE;
    if (!memory(LARGEST_FILE, (void **)to) || root->Open(root, &file, (CHAR16 *)path, EFI_FILE_MODE_READ, 0) != EFI_SUCCESS ||
        file->Read(file, &bytes, *to) != EFI_SUCCESS)
        return 0;
    *size = bytes;
    return 1;
}

static const struct machine machine = {open, read, sector_size, memory, put, show, read_file};

static int start(EFI_HANDLE image)
{
    static const CHAR16 path[] = u"\\EFI\\Microsoft\\Boot\\BCD";
    LOADED_IMAGE *loaded;
    SIMPLE_FILE_SYSTEM *system;
    uint8_t *store;
    uint64_t size;
    EFI_BOOT_SERVICES *bs = st->BootServices;
    if (bs->HandleProtocol(image, &loaded_image_guid, (void **)&loaded) != EFI_SUCCESS ||
        bs->HandleProtocol(loaded->DeviceHandle, &file_system_guid, (void **)&system) != EFI_SUCCESS ||
        system->OpenVolume(system, &root) != EFI_SUCCESS || !read_file(path, &store, &size)) {
        show("There is no boot store.");
        return 0;
    }
    return start_system(&machine, store, (uint32_t)size);
}

EFI_STATUS EFIAPI efi_main(EFI_HANDLE image, EFI_SYSTEM_TABLE *table)
{
    st = table;
    st->BootServices->SetWatchdogTimer(0, 0, 0, NULL);
    st->BootServices->LocateProtocol(&serial_guid, NULL, (void **)&serial);
    show("Tidewell stand-in boot manager, UEFI: starting the system that the boot store names");
    start(image);
    st->RuntimeServices->ResetSystem(EFI_RESET_SHUTDOWN, EFI_SUCCESS, 0, NULL);
    return EFI_SUCCESS;
}
