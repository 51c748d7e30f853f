/* Counts what a program asks of the system about one folder, and lets the N-th call fail. Preloaded (LD_PRELOAD).
 *
 * A copy of a process that was loaded already calls fault_begin when its environment is set, and fault_end at its end.
 *
 * FAULT_FOLDER  paths below it count, and descriptors of files there
 * FAULT_AT      the call that fails; 0: none
 * FAULT_HOW     an error's number; 0: half of what was asked is read or written; -1: the program is killed there
 * FAULT_REPORT  file for the count, and for what failed; written when the program ends or the call fails
 */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdarg.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <unistd.h>

static const char *folder, *report;
static long at;
static int how;
static atomic_long count;
static _Atomic unsigned char ours[4096];
enum { PASS, FAIL, HALF };

static void note(const char *call, const char *path) {
    char line[600];
    int size = snprintf(line, sizeof line, "%ld %s %s\n", atomic_load(&count), call, path ? path : "");
    long file = syscall(SYS_openat, AT_FDCWD, report, O_WRONLY | O_CREAT | O_APPEND, 0600);
    if (file >= 0) {
        syscall(SYS_write, file, line, size < (int)sizeof line ? size : (int)sizeof line - 1);
        syscall(SYS_close, file);
    }
}

__attribute__((constructor)) void fault_begin(void) {
    folder = getenv("FAULT_FOLDER") ? strdup(getenv("FAULT_FOLDER")) : NULL;
    report = getenv("FAULT_REPORT") ? strdup(getenv("FAULT_REPORT")) : NULL;
    atomic_store(&count, 0);
    at = getenv("FAULT_AT") ? atol(getenv("FAULT_AT")) : 0;
    how = getenv("FAULT_HOW") ? atoi(getenv("FAULT_HOW")) : EIO;
}

__attribute__((destructor)) void fault_end(void) {
    if (folder && !at) note("calls", "");
}

static int is_ours(const char *path) {
    char here[4096];
    if (!folder || !path) return 0;
    size_t length = strlen(folder);
    if (path[0] != '/') return getcwd(here, sizeof here) && !strncmp(here, folder, length);
    return !strncmp(path, folder, length);
}

static int fate(const char *call, const char *path) {
    long number = atomic_fetch_add(&count, 1) + 1;
    if (number != at) return PASS;
    note(call, path);
    if (how < 0) kill(getpid(), SIGKILL);
    if (how == 0) return HALF;
    errno = how;
    return FAIL;
}

static int is_our_file(int file) { return file >= 0 && file < (int)sizeof ours && ours[file]; }
#define REAL(name) static __typeof__(name) *real; if (!real) real = (__typeof__(name) *)dlsym(RTLD_NEXT, #name)
#define BY_PATH(type, name, args, path, pass) \
    type name args { REAL(name); if (is_ours(path) && fate(#name, path) == FAIL) return -1; return real pass; }
#define BY_FILE(type, name, args, file, pass) \
    type name args { REAL(name); if (is_our_file(file) && fate(#name, 0) == FAIL) return -1; return real pass; }
#define BY_SIZE(type, name, args, file, size, pass) \
    type name args { \
        REAL(name); \
        int fated = is_our_file(file) ? fate(#name, 0) : PASS; \
        if (fated == FAIL) return -1; \
        if (fated == HALF && size > 1) size /= 2; \
        return real pass; \
    }

static int opened(int file, const char *path) {
    if (file >= 0 && file < (int)sizeof ours) ours[file] = is_ours(path);
    return file;
}
#define OPEN(name, args, path, pass) \
    int name args { \
        REAL(name); \
        mode_t mode = 0; \
        if (flags & (O_CREAT | __O_TMPFILE)) { va_list more; va_start(more, flags); mode = va_arg(more, mode_t); va_end(more); } \
        if (is_ours(path) && fate(#name, path) == FAIL) return -1; \
        return opened(real pass, path); \
    }
OPEN(open, (const char *path, int flags, ...), path, (path, flags, mode))
OPEN(open64, (const char *path, int flags, ...), path, (path, flags, mode))
OPEN(openat, (int from, const char *path, int flags, ...), path, (from, path, flags, mode))
OPEN(openat64, (int from, const char *path, int flags, ...), path, (from, path, flags, mode))

int close(int file) {
    REAL(close);
    if (file >= 0 && file < (int)sizeof ours) ours[file] = 0;
    return real(file);
}

BY_PATH(int, stat, (const char *path, struct stat *facts), path, (path, facts))
BY_PATH(int, stat64, (const char *path, struct stat64 *facts), path, (path, facts))
BY_PATH(int, lstat, (const char *path, struct stat *facts), path, (path, facts))
BY_PATH(int, lstat64, (const char *path, struct stat64 *facts), path, (path, facts))
BY_PATH(int, fstatat, (int from, const char *path, struct stat *facts, int flags), path, (from, path, facts, flags))
BY_PATH(int, fstatat64, (int from, const char *path, struct stat64 *facts, int flags), path, (from, path, facts, flags))
BY_FILE(int, fstat, (int file, struct stat *facts), file, (file, facts))
BY_FILE(int, fstat64, (int file, struct stat64 *facts), file, (file, facts))
BY_SIZE(ssize_t, read, (int file, void *data, size_t size), file, size, (file, data, size))
BY_SIZE(ssize_t, pread, (int file, void *data, size_t size, off_t place), file, size, (file, data, size, place))
BY_SIZE(ssize_t, pread64, (int file, void *data, size_t size, off64_t place), file, size, (file, data, size, place))
BY_FILE(ssize_t, preadv, (int file, const struct iovec *parts, int number, off_t place), file, (file, parts, number, place))
BY_FILE(ssize_t, preadv64, (int file, const struct iovec *parts, int number, off64_t place), file, (file, parts, number, place))
BY_FILE(ssize_t, preadv64v2, (int file, const struct iovec *parts, int number, off64_t place, int flags), file,
        (file, parts, number, place, flags))
BY_SIZE(ssize_t, write, (int file, const void *data, size_t size), file, size, (file, data, size))
BY_SIZE(ssize_t, pwrite, (int file, const void *data, size_t size, off_t place), file, size, (file, data, size, place))
BY_SIZE(ssize_t, pwrite64, (int file, const void *data, size_t size, off64_t place), file, size, (file, data, size, place))
BY_FILE(int, ftruncate, (int file, off_t size), file, (file, size))
BY_FILE(int, ftruncate64, (int file, off64_t size), file, (file, size))
BY_FILE(int, fsync, (int file), file, (file))
BY_FILE(int, fdatasync, (int file), file, (file))
BY_FILE(int, flock, (int file, int operation), file, (file, operation))
BY_PATH(int, rename, (const char *path, const char *other), path, (path, other))
BY_PATH(int, unlink, (const char *path), path, (path))
BY_PATH(int, unlinkat, (int from, const char *path, int flags), path, (from, path, flags))
BY_PATH(int, link, (const char *path, const char *other), path, (path, other))
BY_PATH(int, linkat, (int from, const char *path, int to, const char *other, int flags), path, (from, path, to, other, flags))
BY_PATH(int, mkdir, (const char *path, mode_t mode), path, (path, mode))
BY_PATH(int, rmdir, (const char *path), path, (path))
BY_PATH(int, chmod, (const char *path, mode_t mode), path, (path, mode))
