/* Everything a process does to the files of one folder, one after the other, into a log: what was written, what was
 * synchronised, what was named. From that a loss of power at any moment can be played back. With POWER_FULL_AT the
 * disk is full from that write on. Loaded ahead of libc. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdarg.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

static const char *folder;
static int log_fd = -1;
static long taken, full_at = -1;
static pthread_mutex_t one = PTHREAD_MUTEX_INITIALIZER;

#define REAL(name) __typeof__(&name) real = (__typeof__(&name))dlsym(RTLD_NEXT, #name)

__attribute__((constructor)) static void begin(void) {
    const char *path = getenv("POWER_LOG");
    folder = getenv("POWER_FOLDER");
    if (path != NULL && folder != NULL)
        log_fd = (int)syscall(SYS_openat, AT_FDCWD, path, O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0600);
    if (getenv("POWER_FULL_AT") != NULL)
        full_at = atol(getenv("POWER_FULL_AT"));
}

static int is_full(void) {
    if (full_at < 0 || __atomic_fetch_add(&taken, 1, __ATOMIC_SEQ_CST) < full_at)
        return 0;
    errno = ENOSPC;
    return 1;
}

static int ours(const char *path) {
    return log_fd >= 0 && path != NULL && strncmp(path, folder, strlen(folder)) == 0;
}

static int path_of(int fd, char *path, size_t size) {
    char link[64];
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t got = log_fd < 0 || fd == log_fd ? -1 : readlink(link, path, size - 1);
    if (got < 0)
        return 0;
    path[got] = 0;
    return ours(path);
}

static uint64_t inode_of(int fd) {
    struct stat found;
    return fstat(fd, &found) == 0 ? (uint64_t)found.st_ino : 0;
}

static void note(char what, const char *path, const char *other, uint64_t inode, uint64_t offset, const void *data,
                 uint64_t size) {
    struct __attribute__((packed)) {
        char what;
        uint16_t path, other;
        uint64_t inode, offset, size;
    } head = {what, (uint16_t)strlen(path), (uint16_t)strlen(other), inode, offset, size};
    pthread_mutex_lock(&one);
    size_t whole = sizeof head + head.path + head.other + (data == NULL ? 0 : size);
    char *text = malloc(whole), *at = text;
    at = mempcpy(at, &head, sizeof head);
    at = mempcpy(at, path, head.path);
    at = mempcpy(at, other, head.other);
    if (data != NULL)
        memcpy(at, data, size);
    for (size_t done = 0; done < whole;) {
        long got = syscall(SYS_write, log_fd, text + done, whole - done);
        if (got <= 0)
            abort();
        done += (size_t)got;
    }
    free(text);
    pthread_mutex_unlock(&one);
}

static void opened(int fd, int flags, int was_there) {
    char path[4096];
    if (fd >= 0 && (flags & (O_CREAT | O_TRUNC)) && path_of(fd, path, sizeof path)) {
        if (!was_there)
            note('N', path, "", inode_of(fd), 0, NULL, 0);
        else if (flags & O_TRUNC)
            note('T', path, "", inode_of(fd), 0, NULL, 0);
    }
}

#define OPENS(name)                                                     \
    int name(const char *path, int flags, ...) {                        \
        REAL(name);                                                     \
        va_list rest;                                                   \
        va_start(rest, flags);                                          \
        mode_t mode = flags & O_CREAT ? va_arg(rest, mode_t) : 0;       \
        va_end(rest);                                                   \
        int there = access(path, F_OK) == 0, fd = real(path, flags, mode); \
        opened(fd, flags, there);                                       \
        return fd;                                                      \
    }
OPENS(open)
OPENS(open64)

#define OPENS_AT(name)                                                  \
    int name(int at, const char *path, int flags, ...) {                \
        REAL(name);                                                     \
        va_list rest;                                                   \
        va_start(rest, flags);                                          \
        mode_t mode = flags & O_CREAT ? va_arg(rest, mode_t) : 0;       \
        va_end(rest);                                                   \
        int there = faccessat(at, path, F_OK, 0) == 0, fd = real(at, path, flags, mode); \
        opened(fd, flags, there);                                       \
        return fd;                                                      \
    }
OPENS_AT(openat)
OPENS_AT(openat64)

#define WRITES_AT(name, place)                                          \
    ssize_t name(int fd, const void *data, size_t size, place offset) { \
        REAL(name);                                                     \
        char path[4096];                                                \
        int mine = path_of(fd, path, sizeof path);                      \
        if (mine && is_full())                                          \
            return -1;                                                  \
        ssize_t got = real(fd, data, size, offset);                     \
        if (got > 0 && mine)                                            \
            note('W', path, "", inode_of(fd), (uint64_t)offset, data, (uint64_t)got); \
        return got;                                                     \
    }
WRITES_AT(pwrite, off_t)
WRITES_AT(pwrite64, off64_t)

ssize_t write(int fd, const void *data, size_t size) {
    REAL(write);
    char path[4096];
    int mine = path_of(fd, path, sizeof path);
    if (mine && is_full())
        return -1;
    off_t offset = mine ? lseek(fd, 0, SEEK_CUR) : 0;
    ssize_t got = real(fd, data, size);
    if (got > 0 && mine)
        note('W', path, "", inode_of(fd), (uint64_t)offset, data, (uint64_t)got);
    return got;
}

#define CUTS(name, place)                                               \
    int name(int fd, place size) {                                      \
        REAL(name);                                                     \
        char path[4096];                                                \
        int failed = real(fd, size);                                    \
        if (!failed && path_of(fd, path, sizeof path))                  \
            note('T', path, "", inode_of(fd), (uint64_t)size, NULL, 0); \
        return failed;                                                  \
    }
CUTS(ftruncate, off_t)
CUTS(ftruncate64, off64_t)

#define SYNCS(name)                                                     \
    int name(int fd) {                                                  \
        char path[4096];                                                \
        if (path_of(fd, path, sizeof path))                             \
            note('S', path, "", inode_of(fd), 0, NULL, 0);              \
        return 0; /* the log knows; a disk need not be waited for */    \
    }
SYNCS(fsync)
SYNCS(fdatasync)

int unlink(const char *path) {
    REAL(unlink);
    int failed = real(path);
    if (!failed && ours(path))
        note('U', path, "", 0, 0, NULL, 0);
    return failed;
}

int rename(const char *from, const char *to) {
    REAL(rename);
    int failed = real(from, to);
    if (!failed && ours(from))
        note('R', from, to, 0, 0, NULL, 0);
    return failed;
}

int link(const char *from, const char *to) {
    REAL(link);
    int failed = real(from, to);
    if (!failed && ours(from))
        note('L', from, to, 0, 0, NULL, 0);
    return failed;
}

int linkat(int from_at, const char *from, int to_at, const char *to, int flags) {
    REAL(linkat);
    int failed = real(from_at, from, to_at, to, flags);
    if (!failed && ours(from))
        note('L', from, to, 0, 0, NULL, 0);
    return failed;
}
