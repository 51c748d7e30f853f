/* Tries what the crossing does with a loader that gives up, or that the firmware refuses. One program in two places:
 *
 * On the FAT volume, where the crossing lies beside it as CROSSING.EFI, it is the firmware's own menu: it starts the crossing,
 * and when that comes back tells how many file systems there are more than before, after other memory was asked for.
 * On the NTFS volume it is the loader: it opens paths with ".." through the files that the crossing offers, and gives up. */

#include "../../firmware/efi.h"

static const EFI_GUID loaded_image_guid = {0x5B1B31A1, 0x9562, 0x11d2, {0x8E, 0x3F, 0x00, 0xA0, 0xC9, 0x69, 0x72, 0x3B}};
static const EFI_GUID file_system_guid = {0x964e5b22, 0x6459, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID device_path_guid = {0x09576e91, 0x6d3f, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID serial_guid = {0xBB25CF6F, 0xF1D4, 0x11D2, {0x9A, 0x0C, 0x00, 0x90, 0x27, 0x3F, 0xC1, 0xFD}};
static const CHAR16 file[] = L"\\EFI\\BOOT\\CROSSING.EFI";
static const CHAR16 *const paths[] = {
    L"\\EFI\\BOOT\\..\\..\\BOOT\\BCD", L"\\SOURCES\\..\\EFI\\BOOT\\..\\..\\SOURCES\\BOOT.WIM", L"..\\BOOT\\BCD",
};

static EFI_SYSTEM_TABLE *st;
static SERIAL_IO *serial;
static uint8_t program[1 << 20], path[512];

int _fltused = 0;

static void put(const char *text)
{
    for (; *text; text++) {
        uintptr_t one = 1;
        serial->Write(serial, &one, text);
    }
}

static void tell(const char *what, uint32_t value)
{
    char text[2] = {(char)('0' + value % 10), 0};
    put(what);
    put(text);
    put("\r\n");
}

static uint32_t file_systems(void)
{
    uintptr_t count = 0;
    EFI_HANDLE *handles;
    if (st->BootServices->LocateHandleBuffer(EFI_BY_PROTOCOL, &file_system_guid, NULL, &count, &handles) != EFI_SUCCESS)
        return 0;
    for (uintptr_t number = 0; number < count; number++) {       /* each of them answers */
        SIMPLE_FILE_SYSTEM *volume;
        FILE_PROTOCOL *root;
        st->BootServices->HandleProtocol(handles[number], &file_system_guid, (void **)&volume);
        if (volume->OpenVolume(volume, &root) == EFI_SUCCESS)
            root->Close(root);
    }
    return (uint32_t)count;
}

static EFI_STATUS loader(FILE_PROTOCOL *root)
{
    FILE_PROTOCOL *found, *folder;
    for (uint32_t number = 0; number < sizeof paths / sizeof *paths; number++)
        tell("opened ", root->Open(root, &found, paths[number], EFI_FILE_MODE_READ, 0) == EFI_SUCCESS);
    if (root->Open(root, &folder, L"EFI", EFI_FILE_MODE_READ, 0) == EFI_SUCCESS)
        tell("opened ", folder->Open(folder, &found, paths[2], EFI_FILE_MODE_READ, 0) == EFI_SUCCESS);
    return EFI_NOT_FOUND;
}

static void menu(EFI_HANDLE image, EFI_HANDLE device, FILE_PROTOCOL *source)
{
    EFI_BOOT_SERVICES *bs = st->BootServices;
    const uint8_t *own;
    uintptr_t size = sizeof program, front = 0;
    EFI_HANDLE started;
    bs->HandleProtocol(device, &device_path_guid, (void **)&own);
    while (own[front] != 0x7F)
        front += own[front + 2] | own[front + 3] << 8;
    for (uintptr_t at = 0; at < front; at++)
        path[at] = own[at];
    path[front] = path[front + 1] = 4;  /* 10.3.5.4, a file path */
    path[front + 2] = 4 + sizeof file;
    for (uintptr_t at = 0; at < sizeof file; at++)
        path[front + 4 + at] = ((const uint8_t *)file)[at];
    path[front + 4 + sizeof file] = 0x7F;
    path[front + 5 + sizeof file] = 0xFF;
    path[front + 6 + sizeof file] = 4;
    source->Read(source, &size, program);
    st->ConIn = NULL;                   /* nobody is there to press a key */
    uint32_t before = file_systems();
    if (bs->LoadImage(0, image, (DEVICE_PATH *)path, program, size, &started) != EFI_SUCCESS)
        return put("crossing: not loaded; menu: done\r\n");
    tell("came back: ", bs->StartImage(started, NULL, NULL) != EFI_SUCCESS);
    for (int number = 0; number < 64; number++) {        /* what it left is used by others */
        uint8_t *other;
        if (bs->AllocatePool(EFI_LOADER_DATA, 64 << 10, (void **)&other) == EFI_SUCCESS)
            for (uint32_t at = 0; at < 64 << 10; at++)
                other[at] = 0xCC;
    }
    tell("file systems left: ", file_systems() - before);
    put("menu: done\r\n");
}

EFI_STATUS EFIAPI efi_main(EFI_HANDLE image, EFI_SYSTEM_TABLE *table)
{
    LOADED_IMAGE *loaded;
    SIMPLE_FILE_SYSTEM *volume;
    FILE_PROTOCOL *root, *crossing;
    st = table;
    st->BootServices->LocateProtocol(&serial_guid, NULL, (void **)&serial);
    st->BootServices->HandleProtocol(image, &loaded_image_guid, (void **)&loaded);
    st->BootServices->HandleProtocol(loaded->DeviceHandle, &file_system_guid, (void **)&volume);
    volume->OpenVolume(volume, &root);
    if (root->Open(root, &crossing, file, EFI_FILE_MODE_READ, 0) != EFI_SUCCESS)
        return loader(root);
    menu(image, loaded->DeviceHandle, crossing);
    st->RuntimeServices->ResetSystem(EFI_RESET_SHUTDOWN, EFI_SUCCESS, 0, NULL);
    return EFI_SUCCESS;
}
