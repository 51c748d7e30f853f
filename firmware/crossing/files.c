/* See files.h. */

#include "files.h"

#define FILE_REVISION 0x10000
#define SYSTEM_REVISION 0x10000
#define READ_ONLY 1u
#define DIRECTORY 0x10u
#define MOST_PIECE (1u << 20)
#define UNITS_OF_1601_IN_DAY 864000000000ull

static const EFI_GUID file_system_guid = {0x964e5b22, 0x6459, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID file_info_guid = {0x09576e92, 0x6d3f, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};
static const EFI_GUID system_info_guid = {0x09576e93, 0x6d3f, 0x11d2, {0x8e, 0x39, 0x00, 0xa0, 0xc9, 0x69, 0x72, 0x3b}};

struct file {
    FILE_PROTOCOL protocol;             /* first: what callers hold is its address */
    struct ntfs *volume;
    struct ntfs_entry entry;
    uint64_t position;                  /* bytes; in a folder, entries */
    struct ntfs_stream stream;
};

static EFI_BOOT_SERVICES *bs;
static struct ntfs *offered;
static SIMPLE_FILE_SYSTEM file_system;
static EFI_HANDLE served;              /* NULL: nothing is offered */

static int same_guid(const EFI_GUID *one, const EFI_GUID *other)
{
    const uint8_t *p = (const uint8_t *)one, *q = (const uint8_t *)other;
    for (uint32_t at = 0; at < sizeof *one; at++)
        if (p[at] != q[at])
            return 0;
    return 1;
}

static EFI_STATUS status_of(enum ntfs_status status)
{
    switch (status) {
    case NTFS_OK: return EFI_SUCCESS;
    case NTFS_READ: return EFI_DEVICE_ERROR;
    case NTFS_MISSING: return EFI_NOT_FOUND;
    case NTFS_KIND: return EFI_UNSUPPORTED;
    default: return EFI_VOLUME_CORRUPTED;
    }
}

static int is_folder(const struct file *file) { return (file->entry.attributes & NTFS_ATTRIBUTE_FOLDER) != 0; }

static EFI_STATUS make_file(const struct ntfs_entry *entry, FILE_PROTOCOL **made);

/* Follows a path from a folder, part by part. */
static EFI_STATUS EFIAPI file_open(FILE_PROTOCOL *self, FILE_PROTOCOL **opened, const CHAR16 *path, uint64_t mode, uint64_t attributes)
{
    struct file *from = (struct file *)self;
    struct ntfs_entry entry = from->entry;
    (void)attributes;
    if (mode != EFI_FILE_MODE_READ)
        return EFI_WRITE_PROTECTED;
    if (*path == '\\') {
        entry.number = NTFS_ROOT;
        entry.attributes = NTFS_ATTRIBUTE_FOLDER;
        entry.name[0] = 0;
        entry.name_length = 0;
    }
    for (;;) {
        uint16_t name[NTFS_MOST_NAME + 1];
        uint32_t length = 0;
        while (*path == '\\')
            path++;
        for (; *path && *path != '\\'; path++) {
            if (length == NTFS_MOST_NAME)
                return EFI_NOT_FOUND;
            name[length++] = *path;
        }
        name[length] = 0;
        if (!length)
            return make_file(&entry, opened);
        if (length == 1 && name[0] == '.')
            continue;
        if (!(entry.attributes & NTFS_ATTRIBUTE_FOLDER))
            return EFI_NOT_FOUND;
        enum ntfs_status status;
        if (length == 2 && name[0] == '.' && name[1] == '.')
            status = ntfs_parent(from->volume, entry.number, &entry);
        else
            status = ntfs_find(from->volume, entry.number, name, &entry);
        if (status != NTFS_OK)
            return status_of(status);
    }
}

static EFI_STATUS EFIAPI file_close(FILE_PROTOCOL *self)
{
    return bs->FreePool(self);
}

static EFI_STATUS EFIAPI file_delete(FILE_PROTOCOL *self)
{
    file_close(self);
    return 2;                           /* EFI_WARN_DELETE_FAILURE */
}

/* Days since 1601-01-01 as a date of the Gregorian calendar: 400 years have 146,097 days. */
static void set_time(EFI_TIME *time, uint64_t units)
{
    uint32_t seconds = 0, days = 0, year = 1601, month = 0;
    for (uint32_t power = 1u << 20; power; power >>= 1)         /* whole days, without a 64-bit division */
        if (units >= UNITS_OF_1601_IN_DAY * power) {
            units -= UNITS_OF_1601_IN_DAY * power;
            days += power;
        }
    for (uint32_t power = 1u << 16; power; power >>= 1)
        if (units >= 10000000ull * power) {
            units -= 10000000ull * power;
            seconds += power;
        }
    for (;; year++) {
        uint32_t length = year % 4 || (year % 100 == 0 && year % 400) ? 365 : 366;
        if (days < length)
            break;
        days -= length;
    }
    static const uint8_t lengths[] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
    int leap = !(year % 4 || (year % 100 == 0 && year % 400));
    for (; days >= (uint32_t)lengths[month] + (month == 1 && leap); month++)
        days -= (uint32_t)lengths[month] + (month == 1 && leap);
    time->Year = (uint16_t)year;
    time->Month = (uint8_t)(month + 1);
    time->Day = (uint8_t)(days + 1);
    time->Hour = (uint8_t)(seconds / 3600);
    time->Minute = (uint8_t)(seconds / 60 % 60);
    time->Second = (uint8_t)(seconds % 60);
    time->Pad1 = time->Daylight = time->Pad2 = 0;
    time->Nanosecond = 0;
    time->TimeZone = 0x7FF;             /* EFI_UNSPECIFIED_TIMEZONE */
}

static EFI_STATUS describe(const struct ntfs_entry *entry, uint64_t bytes, uintptr_t *size, void *buffer)
{
    EFI_FILE_INFO *info = buffer;
    uintptr_t needed = offsetof(EFI_FILE_INFO, FileName) + 2 * (entry->name_length + 1u);
    uintptr_t given = *size;
    *size = needed;
    if (given < needed)
        return EFI_BUFFER_TOO_SMALL;
    info->Size = needed;
    info->FileSize = info->PhysicalSize = bytes;
    info->Attribute = READ_ONLY | (entry->attributes & NTFS_ATTRIBUTE_FOLDER ? DIRECTORY : 0);
    set_time(&info->CreateTime, entry->modified);
    info->LastAccessTime = info->ModificationTime = info->CreateTime;
    for (uint32_t unit = 0; unit <= entry->name_length; unit++)
        info->FileName[unit] = entry->name[unit];
    return EFI_SUCCESS;
}

static EFI_STATUS EFIAPI file_read(FILE_PROTOCOL *self, uintptr_t *size, void *buffer)
{
    struct file *file = (struct file *)self;
    if (is_folder(file)) {
        struct ntfs_entry entry;
        enum ntfs_status status = ntfs_list(file->volume, file->entry.number, (uint32_t)file->position, &entry);
        if (status == NTFS_MISSING) {
            *size = 0;
            return EFI_SUCCESS;
        }
        if (status != NTFS_OK)
            return status_of(status);
        EFI_STATUS result = describe(&entry, entry.attributes & NTFS_ATTRIBUTE_FOLDER ? 0 : entry.size, size, buffer);
        file->position += result == EFI_SUCCESS;
        return result;
    }
    if (file->position > file->stream.size)
        return EFI_DEVICE_ERROR;
    uint64_t left = file->stream.size - file->position;
    uintptr_t whole = *size < left ? *size : (uintptr_t)left;
    for (uintptr_t done = 0; done < whole;) {
        uint32_t piece = whole - done < MOST_PIECE ? (uint32_t)(whole - done) : MOST_PIECE;
        enum ntfs_status status = ntfs_read(file->volume, &file->stream, file->position, piece, (uint8_t *)buffer + done);
        if (status != NTFS_OK)
            return status_of(status);
        file->position += piece;
        done += piece;
    }
    *size = whole;
    return EFI_SUCCESS;
}

static EFI_STATUS EFIAPI file_write(FILE_PROTOCOL *self, uintptr_t *size, void *buffer)
{
    (void)self, (void)size, (void)buffer;
    return EFI_WRITE_PROTECTED;
}

static EFI_STATUS EFIAPI file_get_position(FILE_PROTOCOL *self, uint64_t *position)
{
    struct file *file = (struct file *)self;
    *position = file->position;
    return is_folder(file) ? EFI_UNSUPPORTED : EFI_SUCCESS;
}

static EFI_STATUS EFIAPI file_set_position(FILE_PROTOCOL *self, uint64_t position)
{
    struct file *file = (struct file *)self;
    if (is_folder(file) && position)
        return EFI_UNSUPPORTED;
    file->position = position == UINT64_MAX ? file->stream.size : position;
    return EFI_SUCCESS;
}

static EFI_STATUS EFIAPI file_get_info(FILE_PROTOCOL *self, const EFI_GUID *type, uintptr_t *size, void *buffer)
{
    struct file *file = (struct file *)self;
    if (same_guid(type, &file_info_guid))
        return describe(&file->entry, is_folder(file) ? 0 : file->stream.size, size, buffer);
    if (!same_guid(type, &system_info_guid))
        return EFI_UNSUPPORTED;
    EFI_FILE_SYSTEM_INFO *info = buffer;
    uintptr_t needed = offsetof(EFI_FILE_SYSTEM_INFO, VolumeLabel) + 2, given = *size;
    *size = needed;
    if (given < needed)
        return EFI_BUFFER_TOO_SMALL;
    info->Size = needed;
    info->ReadOnly = 1;
    info->VolumeSize = file->volume->size;
    info->FreeSpace = 0;
    info->BlockSize = 1u << file->volume->cluster_shift;
    info->VolumeLabel[0] = 0;
    return EFI_SUCCESS;
}

static EFI_STATUS EFIAPI file_set_info(FILE_PROTOCOL *self, const EFI_GUID *type, uintptr_t size, void *buffer)
{
    (void)self, (void)type, (void)size, (void)buffer;
    return EFI_WRITE_PROTECTED;
}

static EFI_STATUS EFIAPI file_flush(FILE_PROTOCOL *self)
{
    (void)self;
    return EFI_SUCCESS;
}

static EFI_STATUS make_file(const struct ntfs_entry *entry, FILE_PROTOCOL **made)
{
    static const FILE_PROTOCOL protocol = {
        FILE_REVISION, file_open, file_close, file_delete, file_read, file_write, file_get_position, file_set_position,
        file_get_info, file_set_info, file_flush,
    };
    struct file *file;
    if (bs->AllocatePool(EFI_LOADER_DATA, sizeof *file, (void **)&file) != EFI_SUCCESS)
        return EFI_OUT_OF_RESOURCES;
    file->protocol = protocol;
    file->volume = offered;
    file->entry = *entry;
    file->position = 0;
    if (!is_folder(file)) {
        enum ntfs_status status = ntfs_open(offered, entry->number, &file->stream);
        if (status != NTFS_OK) {
            bs->FreePool(file);
            return status_of(status);
        }
    }
    *made = &file->protocol;
    return EFI_SUCCESS;
}

static EFI_STATUS EFIAPI open_volume(SIMPLE_FILE_SYSTEM *self, FILE_PROTOCOL **root)
{
    static struct ntfs_entry entry;
    (void)self;
    entry.number = NTFS_ROOT;
    entry.attributes = NTFS_ATTRIBUTE_FOLDER;
    return make_file(&entry, root);
}

EFI_STATUS offer_files(EFI_BOOT_SERVICES *services, EFI_HANDLE handle, struct ntfs *volume)
{
    void *there;
    bs = services;
    offered = volume;
    if (bs->HandleProtocol(handle, &file_system_guid, &there) == EFI_SUCCESS)
        return EFI_ACCESS_DENIED;
    file_system.Revision = SYSTEM_REVISION;
    file_system.OpenVolume = open_volume;
    EFI_STATUS status = bs->InstallProtocolInterface(&handle, &file_system_guid, EFI_NATIVE_INTERFACE, &file_system);
    if (status == EFI_SUCCESS)
        served = handle;
    return status;
}

EFI_STATUS withdraw_files(void)
{
    if (!served)
        return EFI_SUCCESS;
    EFI_STATUS status = bs->UninstallProtocolInterface(served, &file_system_guid, &file_system);
    if (status != EFI_SUCCESS) {        /* drivers that were put on top of it are asked to let go */
        bs->DisconnectController(served, NULL, NULL);
        status = bs->UninstallProtocolInterface(served, &file_system_guid, &file_system);
    }
    if (status == EFI_SUCCESS)
        served = NULL;
    return status;
}

/* The compiler may turn loops and assignments into these. */
void *memset(void *to, int value, size_t size)
{
    volatile uint8_t *p = to;
    while (size--)
        *p++ = (uint8_t)value;
    return to;
}

void *memcpy(void *to, const void *from, size_t size)
{
    volatile uint8_t *p = to;
    const uint8_t *q = from;
    while (size--)
        *p++ = *q++;
    return to;
}
