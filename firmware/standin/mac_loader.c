/* A stand-in for a Mac's loader (boot.efi), for demo drives and the lab. It does what the real one is known to do: reads
 * its boot configuration from the volume it was started from, and finds what that names: the kernel, and the base system's
 * disk image, or the image that contains it. Of each it tells CRC-32, size and path on the first serial port.
 *
 * All reading goes through the firmware's file system on the device handle of its own loaded image. */

#include "../efi.h"

#define CHUNK (1u << 20)
#define MOST_LIST (64u << 10)
#define MOST_PATH 1024

static const EFI_GUID loaded_image_guid = {0x5B1B31A1, 0x9562, 0x11d2, {0x8E, 0x3F, 0x00, 0xA0, 0xC9, 0x69, 0x72, 0x3B}};
static const EFI_GUID file_system_guid = {0x964e5b22, 0x6459, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID serial_guid = {0xBB25CF6F, 0xF1D4, 0x11D2, {0x9A, 0x0C, 0x00, 0x90, 0x27, 0x3F, 0xC1, 0xFD}};

static EFI_SYSTEM_TABLE *st;
static SERIAL_IO *serial;
static uint32_t table[256];
static uint8_t *chunk;
static char list[MOST_LIST + 1];

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

static void put_hexadecimal(uint64_t value, int digits)
{
    char text[17];
    text[digits] = 0;
    while (digits--) {
        text[digits] = "0123456789abcdef"[value & 15];
        value >>= 4;
    }
    put(text);
}

/* Paths go as UTF-8, as the boot configuration has them. */
static void tell(const char *what, uint32_t sum, uint64_t size, const char *path)
{
    put(what);
    put(" ");
    put_hexadecimal(~sum, 8);
    put(" ");
    put_hexadecimal(size, 16);
    put(" ");
    put(path);
    put("\r\n");
}

static int open_file(FILE_PROTOCOL *root, const char *path, FILE_PROTOCOL **file)
{
    static CHAR16 wide[MOST_PATH];
    unsigned to = 0;
    wide[to++] = '\\';
    for (const uint8_t *from = (const uint8_t *)path; *from && to < MOST_PATH - 1; to++) {
        uint32_t unit = *from++;
        int more = unit >= 0xE0 ? 2 : unit >= 0xC0 ? 1 : 0;
        if (more)
            unit &= more == 2 ? 0x0F : 0x1F;
        while (more-- && *from)
            unit = unit << 6 | (*from++ & 0x3F);
        wide[to] = unit == '/' ? '\\' : (CHAR16)unit;
    }
    wide[to] = 0;
    return root->Open(root, file, wide, EFI_FILE_MODE_READ, 0) == EFI_SUCCESS;
}

static int sum_file(FILE_PROTOCOL *root, const char *what, const char *path)
{
    FILE_PROTOCOL *file;
    uint32_t sum = ~0u;
    uint64_t size = 0;
    if (!open_file(root, path, &file)) {
        put("MISSING ");
        put(path);
        put("\r\n");
        return 0;
    }
    for (;;) {
        uintptr_t got = CHUNK;
        if (file->Read(file, &got, chunk) != EFI_SUCCESS) {
            put("UNREADABLE ");
            put(path);
            put("\r\n");
            return 0;
        }
        if (!got)
            break;
        for (uintptr_t at = 0; at < got; at++)
            sum = sum >> 8 ^ table[(sum ^ chunk[at]) & 255];
        size += got;
    }
    file->Close(file);
    tell(what, sum, size, path);
    return 1;
}

/* Returns the text behind <key>NAME</key><string>, ended where it ends; or NULL. */
static char *value_of(char *text, const char *name)
{
    for (; *text; text++) {
        const char *n = name;
        char *t = text;
        if (t[0] != '<' || t[1] != 'k' || t[4] != '>')
            continue;
        for (t += 5; *n && *t == *n; n++)
            t++;
        if (*n || *t != '<')
            continue;
        while (*t && !(t[0] == '<' && t[1] == 's' && t[7] == '>'))
            t++;
        return *t ? t + 8 : NULL;
    }
    return NULL;
}

static int digit(char c)
{
    return c >= '0' && c <= '9' ? c - '0' : (c | 32) >= 'a' && (c | 32) <= 'f' ? (c | 32) - 'a' + 10 : -1;
}

/* Copies the path behind KEYfile:/// in the flags, percent signs decoded; returns 0 when the flags do not have it. */
static int named(const char *flags, const char *key, char *path)
{
    for (; *flags && *flags != '<'; flags++) {
        const char *k = key, *f = flags;
        while (*k && *f == *k)
            f++, k++;
        if (*k)
            continue;
        unsigned to = 0;
        while (*f && *f != ' ' && *f != '<' && to < MOST_PATH - 1) {
            if (f[0] == '%' && digit(f[1]) >= 0 && digit(f[2]) >= 0) {
                path[to++] = (char)(digit(f[1]) << 4 | digit(f[2]));
                f += 3;
            } else {
                path[to++] = *f++;
            }
        }
        path[to] = 0;
        return 1;
    }
    return 0;
}

static int follow(FILE_PROTOCOL *root)
{
    static const char *const kernels[] = {
        "System/Library/PrelinkedKernels/prelinkedkernel",
        "System/Library/KernelCollections/BootKernelExtensions.kc",
    };
    static char path[MOST_PATH];
    FILE_PROTOCOL *file;
    uintptr_t size = MOST_LIST;
    if (!open_file(root, "Library/Preferences/SystemConfiguration/com.apple.Boot.plist", &file))
        return 0;
    if (file->Read(file, &size, list) != EFI_SUCCESS)
        return 0;
    list[size] = 0;
    file->Close(file);
    char *flags = value_of(list, "Kernel Flags"), *cache = value_of(list, "Kernel Cache");
    if (!flags)
        return 0;
    int good = 1, kernel = 0;
    if (cache) {
        unsigned to = 0;
        for (cache += *cache == '/'; *cache && *cache != '<' && to < MOST_PATH - 1;)
            path[to++] = *cache++;
        path[to] = 0;
        kernel = sum_file(root, "KERNEL", path);
    }
    for (unsigned number = 0; !cache && !kernel && number < sizeof kernels / sizeof *kernels; number++)
        if (open_file(root, kernels[number], &file)) {
            file->Close(file);
            kernel = sum_file(root, "KERNEL", kernels[number]);
        }
    if (named(flags, "container-dmg=file:///", path))
        good &= sum_file(root, "CONTAINER", path);
    else if (named(flags, "root-dmg=file:///", path))
        good &= sum_file(root, "BASE", path);
    else
        put("SYSTEM the volume itself\r\n");
    return good && kernel;
}

EFI_STATUS EFIAPI efi_main(EFI_HANDLE image, EFI_SYSTEM_TABLE *given)
{
    LOADED_IMAGE *loaded;
    SIMPLE_FILE_SYSTEM *system;
    FILE_PROTOCOL *root;
    st = given;
    EFI_BOOT_SERVICES *bs = st->BootServices;
    bs->SetWatchdogTimer(0, 0, 0, NULL);
    bs->LocateProtocol(&serial_guid, NULL, (void **)&serial);
    for (uint32_t value = 0; value < 256; value++) {
        table[value] = value;
        for (int bit = 0; bit < 8; bit++)
            table[value] = table[value] >> 1 ^ (table[value] & 1 ? 0xEDB88320u : 0);
    }
    put("\r\nTIDEWELL MAC LOADER\r\n");
    int good = bs->AllocatePool(4, CHUNK, (void **)&chunk) == EFI_SUCCESS &&
               bs->HandleProtocol(image, &loaded_image_guid, (void **)&loaded) == EFI_SUCCESS &&
               bs->HandleProtocol(loaded->DeviceHandle, &file_system_guid, (void **)&system) == EFI_SUCCESS &&
               system->OpenVolume(system, &root) == EFI_SUCCESS && follow(root);
    put(good ? "TIDEWELL MAC LOADER DONE\r\n" : "TIDEWELL MAC LOADER FAILED\r\n");
    st->RuntimeServices->ResetSystem(EFI_RESET_SHUTDOWN, EFI_SUCCESS, 0, NULL);
    return EFI_SUCCESS;
}
