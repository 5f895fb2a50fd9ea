/* Preloaded into a process: counts the C library's calls that change a disk, and lets one of them, or all from one on, fail.
   The counter is a mapped file, so that the helper processes of a job count on. Calls on pipes and terminals don't count. */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdarg.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/types.h>
#include <sys/uio.h>
#include <unistd.h>

enum { KILL = 1, EIO_ONCE = 2, ENOSPC_ONCE = 3, FULL = 4 };

struct counter {
    atomic_long count; /* of calls so far */
    long at;           /* the call that fails; 0 for none */
    long way;
};

static struct counter *counter;

__attribute__((constructor)) static void begin(void) {
    const char *path = getenv("FAULTS_COUNTER");
    int fd = path ? (int)syscall(SYS_openat, AT_FDCWD, path, O_RDWR | O_CLOEXEC) : -1;
    if (fd < 0) return;
    void *map = mmap(NULL, sizeof(struct counter), PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
    if (map != MAP_FAILED) counter = map;
    syscall(SYS_close, fd);
}

/* Whether a call fails. needs_room: whether it takes room on the disk. */
static int fails(int needs_room) {
    if (!counter || !counter->at) return 0;
    long now = atomic_fetch_add(&counter->count, 1) + 1;
    if (counter->way == FULL) {
        if (now < counter->at || !needs_room) return 0;
        errno = ENOSPC;
        return 1;
    }
    if (now != counter->at) return 0;
    if (counter->way == KILL) kill(getpid(), SIGKILL);
    errno = counter->way == EIO_ONCE ? EIO : ENOSPC;
    return 1;
}

static int is_file(int fd) {
    struct stat status;
    return counter && counter->at && !fstat(fd, &status) && S_ISREG(status.st_mode);
}

#define REAL(name) \
    static __typeof__(&name) real; \
    if (!real) real = (__typeof__(&name))dlsym(RTLD_NEXT, #name)

#define CALL(type, name, needs_room, parameters, ...) \
    type name parameters { \
        REAL(name); \
        if (fails(needs_room)) return -1; \
        return real(__VA_ARGS__); \
    }

#define CALL_ON_FILE(type, name, needs_room, parameters, ...) \
    type name parameters { \
        REAL(name); \
        if (is_file(fd) && fails(needs_room)) return -1; \
        return real(__VA_ARGS__); \
    }

CALL(int, rename, 0, (const char *a, const char *b), a, b)
CALL(int, renameat, 0, (int f, const char *a, int g, const char *b), f, a, g, b)
CALL(int, renameat2, 0, (int f, const char *a, int g, const char *b, unsigned int flags), f, a, g, b, flags)
CALL(int, link, 1, (const char *a, const char *b), a, b)
CALL(int, linkat, 1, (int f, const char *a, int g, const char *b, int flags), f, a, g, b, flags)
CALL(int, symlink, 1, (const char *a, const char *b), a, b)
CALL(int, symlinkat, 1, (const char *a, int g, const char *b), a, g, b)
CALL(int, unlink, 0, (const char *a), a)
CALL(int, unlinkat, 0, (int f, const char *a, int flags), f, a, flags)
CALL(int, rmdir, 0, (const char *a), a)
CALL(int, mkdir, 1, (const char *a, mode_t mode), a, mode)
CALL(int, mkdirat, 1, (int f, const char *a, mode_t mode), f, a, mode)
CALL(int, fsync, 1, (int fd), fd)
CALL(int, fdatasync, 1, (int fd), fd)
CALL(int, syncfs, 1, (int fd), fd)
CALL(int, ftruncate, 0, (int fd, off_t size), fd, size)
CALL(int, ftruncate64, 0, (int fd, off64_t size), fd, size)
CALL_ON_FILE(ssize_t, write, 1, (int fd, const void *data, size_t size), fd, data, size)
CALL_ON_FILE(ssize_t, pwrite, 1, (int fd, const void *data, size_t size, off_t at), fd, data, size, at)
CALL_ON_FILE(ssize_t, pwrite64, 1, (int fd, const void *data, size_t size, off64_t at), fd, data, size, at)
CALL_ON_FILE(ssize_t, writev, 1, (int fd, const struct iovec *data, int count), fd, data, count)

ssize_t copy_file_range(int from, off64_t *at, int fd, off64_t *to, size_t size, unsigned int flags) {
    REAL(copy_file_range);
    if (fails(1)) return -1;
    return real(from, at, fd, to, size, flags);
}

/* Opening counts where it makes a file. */
#define OPENING(name, before, ...) \
    int name before { \
        REAL(name); \
        mode_t mode = 0; \
        if (flags & (O_CREAT | O_TMPFILE)) { \
            va_list more; \
            va_start(more, flags); \
            mode = va_arg(more, mode_t); \
            va_end(more); \
        } \
        if ((flags & O_CREAT || (flags & O_TMPFILE) == O_TMPFILE) && fails(1)) return -1; \
        return real(__VA_ARGS__, mode); \
    }

OPENING(open, (const char *path, int flags, ...), path, flags)
OPENING(open64, (const char *path, int flags, ...), path, flags)
OPENING(openat, (int f, const char *path, int flags, ...), f, path, flags)
OPENING(openat64, (int f, const char *path, int flags, ...), f, path, flags)
