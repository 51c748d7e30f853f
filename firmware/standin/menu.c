/* A list of setup environments, as system.c includes it: takes every entry apart, and reads what it starts from. */

#define MOST_ENTRIES 32
#define RAM_DISK_HEAD 56
#define PATH_HEAD 12

static CHAR16 asked[MOST_TEXT];
static uint8_t *kept;
static uint32_t kept_size, found_size;
static int is_found;

static uint32_t keep(uint32_t sum, const uint8_t *data, uintptr_t size)
{
    for (uintptr_t byte = 0; !is_found && kept_size + size <= MOST_KEPT && byte < size; byte++)
        kept[kept_size + byte] = data[byte];
    kept_size += is_found ? 0 : (uint32_t)size;
    return sum;
}

static int is_path(const CHAR16 *wanted, const CHAR16 *found)
{
    while (*wanted && small(*wanted) == small(*found))
        wanted++, found++;
    return !*wanted && !*found;
}

static void keep_if_asked(const CHAR16 *path, uint32_t sum, uint64_t size)
{
    (void)sum;
    if (!is_found && is_path(asked, path) && size == kept_size && size <= MOST_KEPT) {
        is_found = 1;
        found_size = kept_size;
    }
    kept_size = 0;
}

int find_on_ntfs(const struct machine *machine, const uint16_t *path, uint8_t **to, uint64_t *size)
{
    const struct telling told = {keep, keep_if_asked};
    uint8_t *chunk;
    uint32_t unit = 0;
    with = machine;
    for (path += *path == '\\'; *path && unit < MOST_TEXT - 1; path++)
        asked[unit++] = *path;
    asked[unit] = 0;
    is_found = 0;
    kept_size = 0;
    if (!with->memory(CHUNK, (void **)&chunk) || !with->memory(MOST_KEPT, (void **)&kept) ||
        scan_ntfs(with->sector_size(), chunk, CHUNK, &told) != 1 || !is_found)
        return 0;
    *to = kept;
    *size = found_size;
    return 1;
}

static int tell_read(const char *what, const CHAR16 *path)
{
    uint8_t *data;
    uint64_t size;
    if (!path[0] || !with->read_file(path, &data, &size))
        return 0;
    put_text(what);
    put_hexadecimal(~add_sum(~0u, data, (uintptr_t)size), 8);
    with->put(' ');
    put_decimal(size);
    with->put(' ');
    put_name(path);
    put_text("\r\n");
    return 1;
}

static void guid_text(const uint8_t *guid, char *to)
{
    static const uint8_t order[] = {3, 2, 1, 0, 16, 5, 4, 16, 7, 6, 16, 8, 9, 16, 10, 11, 12, 13, 14, 15};
    *to++ = '{';
    for (uint32_t each = 0; each < sizeof order; each++) {
        if (order[each] == 16) {
            *to++ = '-';
            continue;
        }
        *to++ = "0123456789abcdef"[guid[order[each]] >> 4];
        *to++ = "0123456789abcdef"[guid[order[each]] & 15];
    }
    *to++ = '}';
    *to = 0;
}

static void narrow(const uint8_t *text, uint32_t bytes, char *to)
{
    uint32_t unit = 0;
    for (; unit < bytes / 2 && unit < MOST_TEXT - 1 && number(text + 2 * unit, 2); unit++)
        to[unit] = (char)number(text + 2 * unit, 2);
    to[unit] = 0;
}

static int tell_entry(const uint8_t *objects, const char *name, int is_default)
{
    static CHAR16 text[MOST_TEXT];
    static char settings[MOST_TEXT];
    uint32_t bytes = 0, named = 0;
    const uint8_t *object = below(objects, name), *device, *data;
    data = value_of(below(object, "Description"), "Type", &bytes);
    if (!data || number(data, 4) != 0x10200003u)
        return wrong("an entry is no system");
    data = element(object, "12000004", &bytes);
    copy(text, data, data ? bytes : 0);
    put_text(is_default ? "ENTRY default " : "ENTRY ");
    put_name(text);
    data = element(object, "12000002", &bytes);
    copy(text, data, data ? bytes : 0);
    put_text("\r\nLOADER ");
    put_name(text);
    put_text("\r\n");
    device = element(object, "11000001", &named);
    if (!device || named < RAM_DISK_HEAD + PATH_HEAD + 72 || number(device + 16, 4) || number(device + 32, 4) != 3 ||
        number(device + 24, 4) != named - 16 || number(device + RAM_DISK_HEAD + 4, 4) != named - RAM_DISK_HEAD ||
        number(device + RAM_DISK_HEAD + 8, 4) != 5 || number(device + RAM_DISK_HEAD + PATH_HEAD, 4) != 5)
        return wrong("an entry's device is no image in memory");
    data = element(object, "21000001", &bytes);
    if (!data || bytes != named)
        return wrong("an entry's devices differ");
    uint32_t at = RAM_DISK_HEAD + PATH_HEAD + number(device + RAM_DISK_HEAD + PATH_HEAD + 8, 4);
    copy(text, device + at, named - at);
    if (!tell_read("IMAGE ", text))
        return wrong("an entry's image cannot be read");
    guid_text(device, settings);
    object = below(objects, settings);
    data = value_of(below(object, "Description"), "Type", &bytes);
    if (!data || number(data, 4) != 0x30000000u)
        return wrong("an entry has no settings for its memory");
    data = element(object, "32000004", &bytes);
    copy(text, data, data ? bytes : 0);
    return tell_read("BASE ", text) ? 1 : wrong("what an entry's memory begins with cannot be read");
}

/* Reads what every entry of the list starts from, as a boot manager does once it is chosen. */
static int start_menu(const uint8_t *objects, const uint8_t *manager, const char *chosen)
{
    static char name[MOST_TEXT];
    static CHAR16 text[MOST_TEXT];
    uint32_t bytes = 0, size = 0, count = 0;
    const uint8_t *list = element(manager, "24000001", &size), *data;
    for (uint32_t at = 0; list && at + 2 <= size && number(list + at, 2) && count < MOST_ENTRIES; count++) {
        narrow(list + at, size - at, name);
        uint32_t is_default = 1, unit = 0;
        for (; name[unit]; unit++)
            is_default &= small((uint8_t)name[unit]) == small((uint8_t)chosen[unit]);
        if (!tell_entry(objects, name, (int)is_default))
            return 0;
        at += 2 * (unit + 1);
    }
    data = element(manager, "25000004", &bytes);
    put_text("SECONDS ");
    put_decimal(data ? number(data, 4) : 0);
    put_text("\r\n");
    data = element(manager, "24000010", &bytes);
    if (data && bytes) {
        narrow(data, bytes, name);
        data = element(below(objects, name), "12000002", &bytes);
        copy(text, data, data ? bytes : 0);
        if (!tell_read("TOOL ", text))
            return wrong("a tool is not there");
    }
    put_text("TIDEWELL MENU DONE ");
    put_decimal(count);
    put_text("\r\n");
    with->show("Every entry of the list could be read.");
    return 1;
}
