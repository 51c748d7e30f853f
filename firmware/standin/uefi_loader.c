/* A stand-in for a UEFI boot manager, for demo drives and the lab: reads every file on the volume it was started from
 * and tells each one's CRC-32, size and path on the first serial port, so that the other side can compare them.
 *
 * It keeps the real ones' contract: what it was started from is the device handle of its own loaded image. A FAT volume it
 * reads through the firmware; an NTFS volume by block I/O on that handle, with code of its own. */

#include "../efi.h"
#include "ntfs_scan.h"

#define CHUNK (4u << 20)
#define MOST_DEPTH 40
#define MOST_PATH 2048

static const EFI_GUID loaded_image_guid = {0x5B1B31A1, 0x9562, 0x11d2, {0x8E, 0x3F, 0x00, 0xA0, 0xC9, 0x69, 0x72, 0x3B}};
static const EFI_GUID file_system_guid = {0x964e5b22, 0x6459, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID serial_guid = {0xBB25CF6F, 0xF1D4, 0x11D2, {0x9A, 0x0C, 0x00, 0x90, 0x27, 0x3F, 0xC1, 0xFD}};

static EFI_SYSTEM_TABLE *st;
static SERIAL_IO *serial;
static uint32_t sums[8][256];
static uint8_t *chunk;
static uint64_t file_count, byte_count;

int _fltused = 0;

#include "memory.h"

static void make_sums(void)
{
    for (uint32_t value = 0; value < 256; value++) {
        uint32_t sum = value;
        for (int bit = 0; bit < 8; bit++)
            sum = sum >> 1 ^ (sum & 1 ? 0xEDB88320u : 0);
        sums[0][value] = sum;
    }
    for (int row = 1; row < 8; row++)
        for (int value = 0; value < 256; value++)
            sums[row][value] = sums[row - 1][value] >> 8 ^ sums[0][sums[row - 1][value] & 255];
}

/* Eight bytes a step: several gigabytes are read in an emulator. */
static uint32_t add_sum(uint32_t sum, const uint8_t *data, uintptr_t size)
{
    for (; size >= 8; size -= 8, data += 8) {
        uint32_t low, high;
        __builtin_memcpy(&low, data, 4);
        __builtin_memcpy(&high, data + 4, 4);
        low ^= sum;
        sum = sums[7][low & 255] ^ sums[6][low >> 8 & 255] ^ sums[5][low >> 16 & 255] ^ sums[4][low >> 24] ^
              sums[3][high & 255] ^ sums[2][high >> 8 & 255] ^ sums[1][high >> 16 & 255] ^ sums[0][high >> 24];
    }
    while (size--)
        sum = sum >> 8 ^ sums[0][(sum ^ *data++) & 255];
    return sum;
}

static void put(char character)
{
    uintptr_t one = 1;
    if (serial)
        serial->Write(serial, &one, &character);
}

static void put_text(const char *text)
{
    while (*text)
        put(*text++);
}

static void put_hexadecimal(uint32_t value, int digits)
{
    while (digits--)
        put("0123456789abcdef"[value >> 4 * digits & 15]);
}

/* Without a 64-bit division, which 32-bit machines have no instruction for. */
static void put_decimal(uint64_t value)
{
    static const uint64_t powers[] = {
        1000000000000ull, 100000000000ull, 10000000000ull, 1000000000ull, 100000000ull, 10000000ull, 1000000ull, 100000ull,
        10000ull, 1000ull, 100ull, 10ull, 1ull,
    };
    int shown = 0;
    for (uint32_t number = 0; number < sizeof powers / sizeof *powers; number++) {
        char digit = '0';
        for (; value >= powers[number]; value -= powers[number])
            digit++;
        shown |= digit > '0' || powers[number] == 1;
        if (shown)
            put(digit);
    }
}

/* Names may hold any character; the port carries ASCII: others, and the backslash, go as \uXXXX. */
static void put_name(const CHAR16 *name)
{
    for (; *name; name++) {
        if (*name < 127 && *name >= 32 && *name != '\\') {
            put((char)*name);
        } else {
            put_text("\\u");
            put_hexadecimal(*name, 4);
        }
    }
}

static void show(const char *text)
{
    CHAR16 wide[2] = {0, 0};
    for (; *text; text++) {
        wide[0] = (CHAR16)*text;
        st->ConOut->OutputString(st->ConOut, wide);
    }
}

static void tell_file(const CHAR16 *path, uint32_t sum, uint64_t size)
{
    put_text("FILE ");
    put_hexadecimal(~sum, 8);
    put(' ');
    put_decimal(size);
    put(' ');
    put_name(path);
    put_text("\r\n");
    file_count++;
    byte_count += size;
}

static int read_file(FILE_PROTOCOL *file, const CHAR16 *path, uint64_t size)
{
    uint32_t sum = ~0u;
    uint64_t done = 0;
    while (done < size) {
        uintptr_t got = CHUNK;
        if (file->Read(file, &got, chunk) != EFI_SUCCESS || got == 0)
            return 0;
        sum = add_sum(sum, chunk, got);
        done += got;
    }
    tell_file(path, sum, size);
    return done == size;
}

static int read_folder(FILE_PROTOCOL *folder, CHAR16 *path, unsigned length, int depth)
{
    static uint8_t info_buffer[1024] __attribute__((aligned(8)));
    EFI_FILE_INFO *info = (EFI_FILE_INFO *)info_buffer;
    if (depth > MOST_DEPTH)
        return 0;
    for (;;) {
        uintptr_t size = sizeof info_buffer;
        if (folder->Read(folder, &size, info) != EFI_SUCCESS)
            return 0;
        if (size == 0)
            return 1;
        const CHAR16 *name = info->FileName;
        if (name[0] == '.' && (name[1] == 0 || (name[1] == '.' && name[2] == 0)))
            continue;
        unsigned end = length;
        if (end)
            path[end++] = '/';
        for (; *name && end < MOST_PATH - 1; name++)
            path[end++] = *name;
        path[end] = 0;
        FILE_PROTOCOL *entry;
        uint64_t file_size = info->FileSize, attribute = info->Attribute;
        if (folder->Open(folder, &entry, info->FileName, EFI_FILE_MODE_READ, 0) != EFI_SUCCESS)
            return 0;
        int good = attribute & EFI_FILE_DIRECTORY ? read_folder(entry, path, end, depth + 1)
                                                  : read_file(entry, path, file_size);
        entry->Close(entry);
        if (!good) {
            put_text("BAD ");
            put_name(path);
            put_text("\r\n");
            return 0;
        }
        path[length] = 0;
    }
}

static const struct telling told = {add_sum, tell_file};

static int read_volume(EFI_HANDLE image)
{
    static CHAR16 path[MOST_PATH];
    LOADED_IMAGE *loaded;
    SIMPLE_FILE_SYSTEM *system;
    FILE_PROTOCOL *root;
    EFI_BOOT_SERVICES *bs = st->BootServices;
    if (bs->AllocatePool(4, CHUNK, (void **)&chunk) != EFI_SUCCESS)
        return 0;
    if (bs->HandleProtocol(image, &loaded_image_guid, (void **)&loaded) != EFI_SUCCESS)
        return 0;
    int on_ntfs = scan_ntfs(bs, loaded->DeviceHandle, chunk, CHUNK, &told);
    if (on_ntfs >= 0) {
        put_text("NTFS by block I/O\r\n");
        return on_ntfs;
    }
    if (bs->HandleProtocol(loaded->DeviceHandle, &file_system_guid, (void **)&system) != EFI_SUCCESS)
        return 0;
    if (system->OpenVolume(system, &root) != EFI_SUCCESS)
        return 0;
    return read_folder(root, path, 0, 0);
}

EFI_STATUS EFIAPI efi_main(EFI_HANDLE image, EFI_SYSTEM_TABLE *table)
{
    st = table;
    st->BootServices->SetWatchdogTimer(0, 0, 0, NULL);
    st->BootServices->LocateProtocol(&serial_guid, NULL, (void **)&serial);
    make_sums();
    show("Tidewell stand-in loader, UEFI: reading every file on this volume\r\n");
    put_text("\r\nTIDEWELL UEFI\r\n");
    int good = read_volume(image);
    show(good ? "All files could be read.\r\n" : "A file could NOT be read.\r\n");
    put_text(good ? "TIDEWELL UEFI DONE " : "TIDEWELL UEFI FAILED ");
    put_decimal(file_count);
    put(' ');
    put_decimal(byte_count);
    put_text("\r\n");
    st->RuntimeServices->ResetSystem(EFI_RESET_SHUTDOWN, EFI_SUCCESS, 0, NULL);
    return EFI_SUCCESS;
}
