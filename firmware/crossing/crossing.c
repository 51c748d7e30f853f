/* The crossing: lets UEFI firmware start a loader from an NTFS volume of the same drive.
 *
 * It stands on a small FAT volume under the name that firmware looks for. It finds the NTFS volume next to it, offers that
 * volume's files on the partition's own handle (unless something there offers them already), and starts the loader of the
 * same name there. Real boot managers go on by reading their partition through block I/O, so what counts is that the loader
 * is started with the partition's handle and a clean device path. Nothing is written, and every step is told on the screen.
 */

#include "../efi.h"
#include "files.h"
#include "ntfs.h"

#if defined(__x86_64__)
#define LOADER_NAME "BOOTX64.EFI"
#elif defined(__aarch64__)
#define LOADER_NAME "BOOTAA64.EFI"
#else
#define LOADER_NAME "BOOTIA32.EFI"
#endif

#define MEDIA_DEVICE_PATH 4             /* 10.3.5 */
#define MEDIA_HARD_DRIVE 1
#define MEDIA_FILE_PATH 4
#define END_DEVICE_PATH 0x7F
#define MOST_LOADER (64u << 20)         /* bytes */

static const EFI_GUID loaded_image_guid = {0x5B1B31A1, 0x9562, 0x11d2, {0x8E, 0x3F, 0x00, 0xA0, 0xC9, 0x69, 0x72, 0x3B}};
static const EFI_GUID device_path_guid = {0x09576e91, 0x6d3f, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID block_io_guid = {0x964e5b21, 0x6459, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID disk_io_guid = {0xCE345171, 0xBA0B, 0x11d2, {0x8e, 0x4F, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};

static EFI_SYSTEM_TABLE *st;
static EFI_BOOT_SERVICES *bs;

#define BOUNCE (64u << 10)              /* bytes read at once through block I/O */
#define LARGEST_BLOCK 4096u
#define LARGEST_ALIGNMENT 4096u

struct partition {
    EFI_HANDLE handle;
    DEVICE_PATH *path;
    BLOCK_IO *block;
    DISK_IO *disk;                      /* NULL where the firmware has none: small firmware offers blocks only */
    uint8_t *bounce;                    /* aligned as the drive wants it; for whole blocks */
    uint32_t block_shift;
};

static void show(const char *text)
{
    CHAR16 wide[2] = {0, 0};
    for (; *text; text++) {
        wide[0] = (CHAR16)*text;
        st->ConOut->OutputString(st->ConOut, wide);
    }
}

static void show_number(uint32_t value)
{
    char text[11];
    int at = 10;
    text[at] = 0;
    do {
        text[--at] = (char)('0' + value % 10);
        value /= 10;
    } while (value);
    show(text + at);
}

/* Goes back to the firmware where nothing of this program is used any more, and nowhere otherwise. */
static EFI_STATUS leave(EFI_STATUS status)
{
    if (withdraw_files() == EFI_SUCCESS)
        return status;
    show("\r\nLucky Keystone crossing: the firmware still uses the files that were offered. Switch the machine off.\r\n");
    for (;;)
        bs->Stall(1000000);
}

/* Says why it goes no further, waits for a key, and gives the status back to the firmware, which then takes this program
 * out of memory: what it offers is withdrawn before. */
static EFI_STATUS stop(const char *why, EFI_STATUS status)
{
    uint32_t key;
    show("\r\nLucky Keystone crossing: ");
    show(why);
    show("\r\nPress a key to go back to the firmware.\r\n");
    while (st->ConIn && st->ConIn->ReadKeyStroke(st->ConIn, &key) != EFI_SUCCESS)
        bs->Stall(50000);
    return leave(status);
}

static uint32_t node_length(const DEVICE_PATH *node) { return node->Length[0] | (uint32_t)node->Length[1] << 8; }

/* Bytes of a path up to its end node, or up to its last node for a hard-drive partition. */
static uint32_t path_length(const DEVICE_PATH *path, int without_partition)
{
    const uint8_t *at = (const uint8_t *)path;
    for (;;) {
        const DEVICE_PATH *node = (const DEVICE_PATH *)at;
        if (node->Type == END_DEVICE_PATH || node_length(node) < 4)
            return (uint32_t)(at - (const uint8_t *)path);
        if (without_partition && node->Type == MEDIA_DEVICE_PATH && node->SubType == MEDIA_HARD_DRIVE)
            return (uint32_t)(at - (const uint8_t *)path);
        at += node_length(node);
    }
}

static int same_drive(const DEVICE_PATH *one, const DEVICE_PATH *other)
{
    uint32_t length = path_length(one, 1);
    if (length != path_length(other, 1) || path_length(other, 0) == length)
        return 0;                       /* another drive, or the drive itself */
    for (uint32_t at = 0; at < length; at++)
        if (((const uint8_t *)one)[at] != ((const uint8_t *)other)[at])
            return 0;
    return 1;
}

static int read_partition(void *context, uint64_t offset, uint32_t size, void *buffer)
{
    struct partition *partition = context;
    uint32_t media = partition->block->Media->MediaId, block = 1u << partition->block_shift;
    uint8_t *to = buffer;
    if (partition->disk)
        return partition->disk->ReadDisk(partition->disk, media, offset, size, buffer) != EFI_SUCCESS;
    while (size) {
        uint32_t inside = (uint32_t)offset & (block - 1);
        uint32_t take = size < BOUNCE - inside ? size : BOUNCE - inside;
        uint32_t whole = (inside + take + block - 1) & ~(block - 1);
        if (partition->block->ReadBlocks(partition->block, media, offset >> partition->block_shift, whole,
                                         partition->bounce) != EFI_SUCCESS)
            return 1;
        for (uint32_t at = 0; at < take; at++)
            to[at] = partition->bounce[inside + at];
        to += take;
        offset += take;
        size -= take;
    }
    return 0;
}

/* Makes a partition ready for reading, by disk I/O or by whole blocks. Returns 0 when it cannot be read here. */
static int ready(struct partition *partition)
{
    const BLOCK_IO_MEDIA *media = partition->block->Media;
    uint32_t alignment = media->IoAlign > 1 ? media->IoAlign : 1;
    uint8_t *pool;
    partition->disk = NULL;
    partition->block_shift = 0;
    while (partition->block_shift < 31 && 1u << partition->block_shift < media->BlockSize)
        partition->block_shift++;
    if (1u << partition->block_shift != media->BlockSize || media->BlockSize < 512 || media->BlockSize > LARGEST_BLOCK)
        return 0;
    if (bs->HandleProtocol(partition->handle, &disk_io_guid, (void **)&partition->disk) == EFI_SUCCESS)
        return 1;
    partition->disk = NULL;
    if (alignment & (alignment - 1) || alignment > LARGEST_ALIGNMENT)
        return 0;
    if (!partition->bounce) {           /* one for all partitions that are looked at, aligned for each */
        if (bs->AllocatePool(EFI_LOADER_DATA, BOUNCE + LARGEST_ALIGNMENT, (void **)&pool) != EFI_SUCCESS)
            return 0;
        partition->bounce = (uint8_t *)(((uintptr_t)pool + LARGEST_ALIGNMENT - 1) & ~(uintptr_t)(LARGEST_ALIGNMENT - 1));
    }
    return 1;
}

/* Finds the NTFS volume on the drive that `own` is on. */
static enum ntfs_status find_volume(EFI_HANDLE own, DEVICE_PATH *own_path, struct partition *partition, struct ntfs *volume)
{
    EFI_HANDLE *handles;
    uintptr_t count;
    enum ntfs_status worst = NTFS_MISSING;
    if (bs->LocateHandleBuffer(EFI_BY_PROTOCOL, &block_io_guid, NULL, &count, &handles) != EFI_SUCCESS)
        return NTFS_MISSING;
    for (uintptr_t number = 0; number < count; number++) {
        partition->handle = handles[number];
        if (partition->handle == own ||
            bs->HandleProtocol(partition->handle, &block_io_guid, (void **)&partition->block) != EFI_SUCCESS ||
            !partition->block->Media->LogicalPartition || !partition->block->Media->MediaPresent ||
            bs->HandleProtocol(partition->handle, &device_path_guid, (void **)&partition->path) != EFI_SUCCESS ||
            !same_drive(own_path, partition->path))
            continue;
        if (!ready(partition)) {
            if (worst == NTFS_MISSING)
                worst = NTFS_READ;
            continue;
        }
        uint64_t size = (partition->block->Media->LastBlock + 1) << partition->block_shift;
        enum ntfs_status status = ntfs_mount(volume, read_partition, partition, size);
        if (status == NTFS_OK) {
            bs->FreePool(handles);
            return NTFS_OK;
        }
        if (status != NTFS_MISSING)
            worst = status;
    }
    bs->FreePool(handles);
    return worst;
}

/* Firmware may have looked at no more than the partition it started from. */
static void connect_all(void)
{
    EFI_HANDLE *handles;
    uintptr_t count;
    if (bs->LocateHandleBuffer(EFI_BY_PROTOCOL, &device_path_guid, NULL, &count, &handles) != EFI_SUCCESS)
        return;
    for (uintptr_t number = 0; number < count; number++)
        bs->ConnectController(handles[number], NULL, NULL, 1);
    bs->FreePool(handles);
}

static enum ntfs_status find_path(struct ntfs *volume, const char *const *parts, struct ntfs_entry *entry)
{
    uint64_t folder = NTFS_ROOT;
    for (; *parts; parts++) {
        uint16_t name[32];
        uint32_t length = 0;
        for (; (*parts)[length]; length++)
            name[length] = (uint16_t)(*parts)[length];
        name[length] = 0;
        enum ntfs_status status = ntfs_find(volume, folder, name, entry);
        if (status != NTFS_OK)
            return status;
        folder = entry->number;
    }
    return NTFS_OK;
}

/* The partition's device path with the loader's file behind it. */
static DEVICE_PATH *loader_path(const DEVICE_PATH *partition)
{
    static const char file[] = "\\EFI\\BOOT\\" LOADER_NAME;
    uint32_t front = path_length(partition, 0), length = 4 + 2 * (uint32_t)sizeof file;
    uint8_t *path;
    if (bs->AllocatePool(EFI_LOADER_DATA, front + length + 4, (void **)&path) != EFI_SUCCESS)
        return NULL;
    for (uint32_t at = 0; at < front; at++)
        path[at] = ((const uint8_t *)partition)[at];
    uint8_t *node = path + front;
    node[0] = MEDIA_DEVICE_PATH;
    node[1] = MEDIA_FILE_PATH;
    node[2] = (uint8_t)length;
    node[3] = (uint8_t)(length >> 8);
    for (uint32_t at = 0; at < sizeof file; at++) {
        node[4 + 2 * at] = (uint8_t)file[at];
        node[5 + 2 * at] = 0;
    }
    node += length;
    node[0] = END_DEVICE_PATH;
    node[1] = 0xFF;
    node[2] = 4;
    node[3] = 0;
    return (DEVICE_PATH *)path;
}

static const char *told(enum ntfs_status status)
{
    switch (status) {
    case NTFS_READ: return "the drive cannot be read.";
    case NTFS_KIND: return "the loader is compressed or encrypted; copy it onto the drive again.";
    case NTFS_SCATTERED: return "the file is in too many pieces; copy it onto the drive again.";
    default: return "the NTFS volume is damaged; check the drive.";
    }
}

EFI_STATUS EFIAPI efi_main(EFI_HANDLE image, EFI_SYSTEM_TABLE *table)
{
    static const char *const parts[] = {"EFI", "BOOT", LOADER_NAME, NULL};
    static struct partition partition;
    LOADED_IMAGE *loaded;
    DEVICE_PATH *own_path, *path;
    struct ntfs *volume;
    struct ntfs_stream *stream;
    struct ntfs_entry entry;
    void *source;
    EFI_HANDLE started = NULL;
    st = table;
    bs = table->BootServices;
    show("Lucky Keystone crossing: from this FAT volume to the NTFS volume beside it\r\n");
    if (bs->HandleProtocol(image, &loaded_image_guid, (void **)&loaded) != EFI_SUCCESS ||
        bs->HandleProtocol(loaded->DeviceHandle, &device_path_guid, (void **)&own_path) != EFI_SUCCESS)
        return stop("the firmware does not tell which drive this is.", EFI_UNSUPPORTED);
    if (bs->AllocatePool(EFI_LOADER_DATA, sizeof *volume, (void **)&volume) != EFI_SUCCESS ||
        bs->AllocatePool(EFI_LOADER_DATA, sizeof *stream, (void **)&stream) != EFI_SUCCESS)
        return stop("there is not enough memory.", EFI_OUT_OF_RESOURCES);
    enum ntfs_status status = find_volume(loaded->DeviceHandle, own_path, &partition, volume);
    if (status == NTFS_MISSING) {
        connect_all();
        status = find_volume(loaded->DeviceHandle, own_path, &partition, volume);
    }
    if (status == NTFS_MISSING)
        return stop("no NTFS volume is on this drive.", EFI_NOT_FOUND);
    if (status != NTFS_OK)
        return stop(told(status), EFI_VOLUME_CORRUPTED);
    show("  NTFS volume: found\r\n");

    status = find_path(volume, parts, &entry);
    if (status == NTFS_MISSING)
        return stop("\\EFI\\BOOT\\" LOADER_NAME " is not on the NTFS volume.", EFI_NOT_FOUND);
    if (status == NTFS_OK)
        status = ntfs_open(volume, entry.number, stream);
    if (status != NTFS_OK)
        return stop(told(status), EFI_VOLUME_CORRUPTED);
    if (!stream->size || stream->size > MOST_LOADER)
        return stop("\\EFI\\BOOT\\" LOADER_NAME " is empty or far too large for a loader.", EFI_VOLUME_CORRUPTED);
    uint32_t size = (uint32_t)stream->size;
    if (bs->AllocatePool(EFI_LOADER_DATA, size, &source) != EFI_SUCCESS)
        return stop("there is not enough memory for the loader.", EFI_OUT_OF_RESOURCES);
    status = ntfs_read(volume, stream, 0, size, source);
    if (status != NTFS_OK)
        return stop(told(status), EFI_VOLUME_CORRUPTED);
    show("  \\EFI\\BOOT\\" LOADER_NAME ": ");
    show_number(size);
    show(" bytes read\r\n");

    EFI_STATUS result = offer_files(bs, partition.handle, volume);
    show(result == EFI_SUCCESS ? "  its files: offered to the loader\r\n" : "  its files: the firmware offers them itself\r\n");
    path = loader_path(partition.path);
    if (!path)
        return stop("there is not enough memory.", EFI_OUT_OF_RESOURCES);
    result = bs->LoadImage(0, image, path, source, size, &started);
    bs->FreePool(source);
    if (result == EFI_SECURITY_VIOLATION && started)
        bs->UnloadImage(started);       /* loaded, and not to be started (7.4.1) */
    if (result == EFI_SECURITY_VIOLATION || result == EFI_ACCESS_DENIED)
        return stop("the firmware refuses the loader: Secure Boot does not trust it.", result);
    if (result == EFI_UNSUPPORTED)
        return stop("the loader is not made for this machine.", result);
    if (result != EFI_SUCCESS)
        return stop("the firmware cannot load the loader.", result);
    show("  starting it\r\n");
    result = bs->StartImage(started, NULL, NULL);
    return result == EFI_SUCCESS ? leave(result) : stop("the loader gave up.", result);
}
