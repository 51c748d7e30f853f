/* What the firmware of a Mac does, for the lab: looks for HFS+ volumes, reads from each one's header which file it is to
 * start, and starts that file from the volume itself. Headers and catalog are read by block I/O with code of this file;
 * the file is opened through a firmware driver of somebody else's, which lies beside this program. */

#include "../../firmware/efi.h"

#define SECTOR 512
#define MOST_NODE 32768

static const EFI_GUID loaded_image_guid = {0x5B1B31A1, 0x9562, 0x11d2, {0x8E, 0x3F, 0x00, 0xA0, 0xC9, 0x69, 0x72, 0x3B}};
static const EFI_GUID file_system_guid = {0x964e5b22, 0x6459, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID block_io_guid = {0x964e5b21, 0x6459, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID device_path_guid = {0x09576e91, 0x6d3f, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID serial_guid = {0xBB25CF6F, 0xF1D4, 0x11D2, {0x9A, 0x0C, 0x00, 0x90, 0x27, 0x3F, 0xC1, 0xFD}};

static EFI_SYSTEM_TABLE *st;
static EFI_BOOT_SERVICES *bs;
static SERIAL_IO *serial;
static BLOCK_IO *disk;
static uint8_t node[MOST_NODE], sector[4096];
static uint8_t extents[64];
static uint32_t block_size;

int _fltused = 0;

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

static void put(const char *text)
{
    for (; *text; text++) {
        uintptr_t one = 1;
        if (serial)
            serial->Write(serial, &one, text);
    }
}

static uint32_t be(const uint8_t *at, int width)
{
    uint32_t value = 0;
    while (width--)
        value = value << 8 | *at++;
    return value;
}

static int read_bytes(uint64_t offset, uint8_t *to, uint32_t size)
{
    uint32_t unit = disk->Media->BlockSize;
    while (size) {
        uint32_t inside = (uint32_t)(offset % unit), take = unit - inside < size ? unit - inside : size;
        if (disk->ReadBlocks(disk, disk->Media->MediaId, offset / unit, unit, sector) != EFI_SUCCESS)
            return 0;
        memcpy(to, sector + inside, take);
        to += take, offset += take, size -= take;
    }
    return 1;
}

/* Reads from the catalog file, whose first eight extents are in `extents`. */
static int read_catalog(uint64_t offset, uint8_t *to, uint32_t size)
{
    uint64_t start = 0;
    for (int number = 0; number < 8; number++) {
        uint64_t first = be(extents + 8 * number, 4), length = (uint64_t)be(extents + 8 * number + 4, 4) * block_size;
        if (offset >= start && offset + size <= start + length)
            return read_bytes(first * block_size + offset - start, to, size);
        start += length;
    }
    return 0;
}

/* Finds the thread of a catalog ID: copies the name, UTF-16 in memory's order, and returns the parent; 0 without one. */
static uint32_t thread_of(uint32_t wanted, CHAR16 *name, unsigned *length)
{
    uint8_t head[120];
    if (!read_catalog(0, head, sizeof head))
        return 0;
    uint32_t size = be(head + 14 + 18, 2), number = be(head + 14 + 10, 4);
    while (number && size <= MOST_NODE) {
        if (!read_catalog((uint64_t)number * size, node, size))
            return 0;
        for (uint32_t record = 0; record < be(node + 10, 2); record++) {
            uint32_t at = be(node + size - 2 * (record + 1), 2);
            uint32_t data = at + 2 + be(node + at, 2), kind = be(node + data, 2);
            if (be(node + at + 2, 4) != wanted || (kind != 3 && kind != 4))
                continue;
            *length = be(node + data + 8, 2);
            for (unsigned unit = 0; unit < *length; unit++)
                name[unit] = (CHAR16)be(node + data + 10 + 2 * unit, 2);
            return be(node + data + 4, 4);
        }
        number = be(node, 4);
    }
    return 0;
}

/* Returns the length of the path of a catalog ID in `path`, which is filled from its end; 0 where it is not found. */
static unsigned path_of(uint32_t wanted, CHAR16 *path, unsigned room)
{
    CHAR16 name[256];
    unsigned at = room - 1, length;
    path[at] = 0;
    while (wanted != 2) {
        uint32_t parent = thread_of(wanted, name, &length);
        if (!parent || length + 1 > at)
            return 0;
        for (unsigned unit = length; unit--;)
            path[--at] = name[unit];
        path[--at] = '\\';
        wanted = parent;
    }
    return room - at;
}

static unsigned path_length(const DEVICE_PATH *path)
{
    const uint8_t *at = (const uint8_t *)path;
    while (at[0] != 0x7F)
        at += at[2] | at[3] << 8;
    return (unsigned)(at - (const uint8_t *)path);
}

static int start(EFI_HANDLE image, EFI_HANDLE device, const CHAR16 *file, unsigned units)
{
    static uint8_t whole[4096];
    static const uint8_t end[4] = {0x7F, 0xFF, 4, 0};
    DEVICE_PATH *path;
    EFI_HANDLE loader;
    if (bs->HandleProtocol(device, &device_path_guid, (void **)&path) != EFI_SUCCESS)
        return 0;
    unsigned front = path_length(path), size = 4 + 2 * units;
    memcpy(whole, path, front);
    uint8_t *here = whole + front;
    here[0] = 4, here[1] = 4, here[2] = (uint8_t)size, here[3] = (uint8_t)(size >> 8);
    memcpy(here + 4, file, 2 * units);
    memcpy(here + size, end, 4);
    EFI_STATUS status = bs->LoadImage(0, image, (DEVICE_PATH *)whole, NULL, 0, &loader);
    if (status != EFI_SUCCESS) {
        put("LAB the loader cannot be loaded\r\n");
        return 0;
    }
    put("LAB STARTS\r\n");
    bs->StartImage(loader, NULL, NULL);
    return 1;
}

static int load_driver(EFI_HANDLE image)
{
    static CHAR16 name[] = u"\\hfs_x64.efi";
    LOADED_IMAGE *loaded;
    SIMPLE_FILE_SYSTEM *system;
    FILE_PROTOCOL *root, *file;
    EFI_HANDLE driver;
    void *buffer;
    uintptr_t size = 4u << 20;
    return bs->HandleProtocol(image, &loaded_image_guid, (void **)&loaded) == EFI_SUCCESS &&
           bs->HandleProtocol(loaded->DeviceHandle, &file_system_guid, (void **)&system) == EFI_SUCCESS &&
           system->OpenVolume(system, &root) == EFI_SUCCESS &&
           root->Open(root, &file, name, EFI_FILE_MODE_READ, 0) == EFI_SUCCESS &&
           bs->AllocatePool(4, size, &buffer) == EFI_SUCCESS && file->Read(file, &size, buffer) == EFI_SUCCESS &&
           bs->LoadImage(0, image, NULL, buffer, size, &driver) == EFI_SUCCESS &&
           bs->StartImage(driver, NULL, NULL) == EFI_SUCCESS;
}

EFI_STATUS EFIAPI efi_main(EFI_HANDLE image, EFI_SYSTEM_TABLE *given)
{
    static CHAR16 path[1024];
    static uint8_t header[512];
    EFI_HANDLE *handles;
    uintptr_t count;
    st = given, bs = st->BootServices;
    bs->SetWatchdogTimer(0, 0, 0, NULL);
    bs->LocateProtocol(&serial_guid, NULL, (void **)&serial);
    put("\r\nLAB MAC FIRMWARE\r\n");
    if (!load_driver(image))
        put("LAB no driver\r\n");
    bs->LocateHandleBuffer(EFI_BY_PROTOCOL, &block_io_guid, NULL, &count, &handles);
    for (uintptr_t number = 0; number < count; number++)
        bs->ConnectController(handles[number], NULL, NULL, 1);
    for (uintptr_t number = 0; number < count; number++) {
        if (bs->HandleProtocol(handles[number], &block_io_guid, (void **)&disk) != EFI_SUCCESS ||
            !disk->Media->LogicalPartition || !disk->Media->MediaPresent || !read_bytes(1024, header, sizeof header))
            continue;
        if (header[0] != 'H' || (header[1] != '+' && header[1] != 'X'))
            continue;
        put("LAB an HFS+ volume\r\n");
        block_size = be(header + 40, 4);
        memcpy(extents, header + 272 + 16, sizeof extents);
        uint32_t folder = be(header + 80, 4), file = be(header + 84, 4);
        CHAR16 name[256];
        unsigned length;
        if (!file || thread_of(file, name, &length) != folder) {
            put("LAB it names no loader\r\n");
            continue;
        }
        unsigned units = path_of(file, path, 1024);
        if (units)
            start(image, handles[number], path + 1024 - units, units);
    }
    put("LAB NOTHING STARTED\r\n");
    st->RuntimeServices->ResetSystem(EFI_RESET_SHUTDOWN, EFI_SUCCESS, 0, NULL);
    return EFI_SUCCESS;
}
