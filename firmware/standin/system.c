/* See system.h. Written from the published descriptions of hives and stores; it knows nothing of the program that made them. */

#include "system.h"

typedef uint16_t CHAR16;

struct telling {
    uint32_t (*add_sum)(uint32_t sum, const uint8_t *data, uintptr_t size);
    void (*file)(const CHAR16 *path, uint32_t sum, uint64_t size);
};

static const struct machine *with;

#define SCAN_SYSTEM
#define READ_SECTORS(lba, bytes, to) with->read(lba, (uint32_t)(bytes), to)
#define MEMORY(bytes, to) with->memory(bytes, to)
#include "ntfs_scan.c"

#define CHUNK (1u << 20)
#define MOST_TEXT 260
#define MOST_KEPT (16u << 20)

static uint32_t sums[256];
static uint64_t file_count;
static CHAR16 loader[MOST_TEXT];
static int loader_found;

/* -- words ------------------------------------------------------------------------------------------------------------- */

static void put_text(const char *text)
{
    while (*text)
        with->put(*text++);
}

static void put_hexadecimal(uint32_t value, int digits)
{
    while (digits--)
        with->put("0123456789abcdef"[value >> 4 * digits & 15]);
}

static void put_decimal(uint64_t value)
{
    static const uint64_t powers[] = {1000000000000ull, 100000000000ull, 10000000000ull, 1000000000ull, 100000000ull,
                                      10000000ull, 1000000ull, 100000ull, 10000ull, 1000ull, 100ull, 10ull, 1ull};
    int shown = 0;
    for (uint32_t each = 0; each < sizeof powers / sizeof *powers; each++) {
        char digit = '0';
        for (; value >= powers[each]; value -= powers[each])
            digit++;
        shown |= digit > '0' || powers[each] == 1;
        if (shown)
            with->put(digit);
    }
}

static void put_name(const CHAR16 *name)
{
    for (; *name; name++) {
        if (*name < 127 && *name >= 32 && *name != '\\') {
            with->put((char)*name);
        } else {
            put_text("\\u");
            put_hexadecimal(*name, 4);
        }
    }
}

static int wrong(const char *what)
{
    put_text("TIDEWELL SYSTEM FAILED ");
    put_text(what);
    put_text("\r\n");
    with->show("The system could NOT be started:");
    with->show(what);
    return 0;
}

/* -- sums and files ----------------------------------------------------------------------------------------------------- */

static void make_sums(void)
{
    for (uint32_t value = 0; value < 256; value++) {
        uint32_t sum = value;
        for (int bit = 0; bit < 8; bit++)
            sum = sum >> 1 ^ (sum & 1 ? 0xEDB88320u : 0);
        sums[value] = sum;
    }
}

static uint32_t add_sum(uint32_t sum, const uint8_t *data, uintptr_t size)
{
    while (size--)
        sum = sum >> 8 ^ sums[(sum ^ *data++) & 255];
    return sum;
}

static CHAR16 small(CHAR16 unit)
{
    return unit >= 'A' && unit <= 'Z' ? unit + 32 : unit == '\\' ? '/' : unit;
}

static void tell_file(const CHAR16 *path, uint32_t sum, uint64_t size)
{
    const CHAR16 *wanted = loader, *found = path;
    while (*wanted && small(*wanted) == small(*found))
        wanted++, found++;
    loader_found |= !*wanted && !*found && size;
    put_text("FILE ");
    put_hexadecimal(~sum, 8);
    with->put(' ');
    put_decimal(size);
    with->put(' ');
    put_name(path);
    put_text("\r\n");
    file_count++;
}

/* -- the hive ----------------------------------------------------------------------------------------------------------- */

static const uint8_t *hive;
static uint32_t hive_size;

/* The content of a cell; NULL where it is not in the hive. */
static const uint8_t *cell(uint32_t offset)
{
    return offset < hive_size - 4096 - 8 ? hive + 4096 + offset + 4 : NULL;
}

static int is_named(const uint8_t *stored, uint32_t bytes, const char *name)
{
    for (; bytes && *name; bytes--, name++, stored++)
        if (small(*stored) != small((uint8_t)*name))
            return 0;
    return !bytes && !*name;
}

static const uint8_t *below(const uint8_t *key, const char *name);

static const uint8_t *in_list(const uint8_t *list, const char *name)
{
    uint32_t count = list ? number(list + 2, 2) : 0, is_index = list && list[0] == 'r';
    uint32_t width = list && (list[1] == 'f' || list[1] == 'h') && list[0] == 'l' ? 8 : 4;
    for (uint32_t each = 0; each < count; each++) {
        const uint8_t *found = cell(number(list + 4 + width * each, 4));
        if (found && is_index)
            found = in_list(found, name);
        else if (found && (number(found, 2) != 0x6B6E || !is_named(found + 76, number(found + 72, 2), name)))
            found = NULL;
        if (found)
            return found;
    }
    return NULL;
}

static const uint8_t *below(const uint8_t *key, const char *name)
{
    return key && number(key + 20, 4) ? in_list(cell(number(key + 28, 4)), name) : NULL;
}

/* The data of a key's value, and how many bytes they are. */
static const uint8_t *value_of(const uint8_t *key, const char *name, uint32_t *size)
{
    uint32_t count = key ? number(key + 36, 4) : 0;
    const uint8_t *list = count ? cell(number(key + 40, 4)) : NULL;
    for (uint32_t each = 0; list && each < count; each++) {
        const uint8_t *value = cell(number(list + 4 * each, 4));
        if (!value || number(value, 2) != 0x6B76 || !is_named(value + 20, number(value + 2, 2), name))
            continue;
        *size = number(value + 4, 4);
        if (*size & 0x80000000u) {
            *size &= 0x7FFFFFFFu;
            return value + 8;
        }
        return cell(number(value + 8, 4));
    }
    return NULL;
}

static const uint8_t *element(const uint8_t *object, const char *digits, uint32_t *size)
{
    return value_of(below(below(object, "Elements"), digits), "Element", size);
}

/* Copies a text, up to its zero, into `to`. */
static void copy(CHAR16 *to, const uint8_t *text, uint32_t bytes)
{
    uint32_t units = 0;
    for (; text && units < bytes / 2 && units < MOST_TEXT - 1 && number(text + 2 * units, 2); units++)
        to[units] = (CHAR16)number(text + 2 * units, 2);
    to[units] = 0;
}

static int read_place(const uint8_t *data, uint32_t size, struct place *place)
{
    if (!data || size != 88 || number(data + 16, 4) != 6 || number(data + 24, 4) != 72 || number(data + 48, 4))
        return 0;
    place->is_gpt = !number(data + 52, 4);
    place->first_byte = number(data + 32, 4) | (uint64_t)number(data + 36, 4) << 32;
    for (int byte = 0; byte < 16; byte++) {
        place->partition[byte] = data[32 + byte];
        place->disk[byte] = data[56 + byte];
    }
    return 1;
}

static void put_place(const struct place *place)
{
    put_text(place->is_gpt ? "PARTITION gpt " : "PARTITION mbr ");
    for (int byte = 0; byte < (place->is_gpt ? 16 : 4); byte++)
        put_hexadecimal(place->disk[byte], 2);
    with->put(' ');
    if (place->is_gpt)
        for (int byte = 0; byte < 16; byte++)
            put_hexadecimal(place->partition[byte], 2);
    else
        put_decimal(place->first_byte);
    put_text("\r\n");
}

#include "menu.c"

/* -- the start ---------------------------------------------------------------------------------------------------------- */

int start_system(const struct machine *machine, const uint8_t *store, uint32_t size)
{
    static const char manager[] = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
    static CHAR16 text[MOST_TEXT];
    static char wanted[MOST_TEXT];
    struct place place, other;
    const struct telling told = {add_sum, tell_file};
    uint32_t bytes = 0, same = 1;
    with = machine, hive = store, hive_size = size;
    put_text("\r\nTIDEWELL SYSTEM\r\n");
    make_sums();
    if (size < 8192 || number(store, 4) != 0x66676572u || number(store + 4, 4) != number(store + 8, 4))
        return wrong("the store is no clean hive");
    uint32_t sum = 0;
    for (uint32_t word = 0; word < 127; word++)
        sum ^= number(store + 4 * word, 4);
    if (sum != number(store + 508, 4))
        return wrong("the store's checksum");
    const uint8_t *objects = below(cell(number(store + 36, 4)), "Objects"), *object = below(objects, manager);
    const uint8_t *data = element(object, "23000003", &bytes);
    if (!data)
        return wrong("the store names no default");
    copy(text, data, bytes);
    for (uint32_t unit = 0; unit < MOST_TEXT; unit++)
        wanted[unit] = (char)text[unit];
    object = below(objects, wanted);
    data = element(object, "11000001", &bytes);
    if (data && bytes > RAM_DISK_HEAD && !number(data + 16, 4))
        return start_menu(objects, below(objects, manager), wanted);
    data = value_of(below(object, "Description"), "Type", &bytes);
    if (!data || number(data, 4) != 0x10200003u)
        return wrong("the default is no system");
    data = element(object, "14000006", &bytes);
    copy(text, data, data ? bytes : 0);
    for (uint32_t unit = 0; unit < MOST_TEXT; unit++)
        wanted[unit] = (char)text[unit];
    if (!below(objects, wanted))
        return wrong("what the system inherits is missing");
    data = element(object, "12000004", &bytes);
    copy(text, data, data ? bytes : 0);
    put_text("SYSTEM ");
    put_name(text);
    data = element(object, "12000002", &bytes);
    copy(text, data, data ? bytes : 0);
    for (uint32_t unit = 0; unit < MOST_TEXT - 1; unit++)
        loader[unit] = text[unit + (text[0] == '\\')];
    put_text("\r\nLOADER ");
    put_name(loader);
    put_text("\r\n");
    data = element(object, "11000001", &bytes);
    if (!read_place(data, data ? bytes : 0, &place))
        return wrong("the system's device names no partition");
    data = element(object, "21000001", &bytes);
    if (!read_place(data, data ? bytes : 0, &other))
        return wrong("the system's second device names no partition");
    for (int byte = 0; byte < 16; byte++)
        same &= place.disk[byte] == other.disk[byte] && place.partition[byte] == other.partition[byte];
    if (!same)
        return wrong("the system's devices differ");
    put_place(&place);
    if (!with->open(&place))
        return wrong("no drive has that partition");
    uint8_t *chunk;
    if (!with->memory(CHUNK, (void **)&chunk))
        return wrong("memory");
    if (scan_ntfs(with->sector_size(), chunk, CHUNK, &told) != 1)
        return wrong("the volume could not be read");
    if (!loader_found)
        return wrong("the loader is not there");
    put_text("TIDEWELL SYSTEM DONE ");
    put_decimal(file_count);
    put_text("\r\n");
    with->show("The system is there, and every file of it could be read.");
    return 1;
}
