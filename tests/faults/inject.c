/* Loaded before libc: lets calls that write below one folder fail, as a full or broken disk does.
 *
 * In the environment: FAULT_UNDER (the folder), FAULT_OP (write, fsync, rename, mkdir, create, any; empty: none), FAULT_ERRNO (or
 * "killed": the process is), FAULT_FROM (from which such call on, counted from 1, every one fails), FAULT_LOG (a file to which each call adds a letter). */
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <limits.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/types.h>
#include <sys/uio.h>
#include <unistd.h>

static int seen;

static int below(const char *path) {
    const char *under = getenv("FAULT_UNDER");
    char full[PATH_MAX];
    if (!under || !path) return 0;
    if (path[0] != '/') {
        char here[PATH_MAX / 2];
        if (!getcwd(here, sizeof here)) return 0;
        snprintf(full, sizeof full, "%s/%.2000s", here, path);
        path = full;
    }
    return strncmp(path, under, strlen(under)) == 0;
}

static int below_fd(int fd) {
    char name[64], path[PATH_MAX];
    snprintf(name, sizeof name, "/proc/self/fd/%d", fd);
    ssize_t size = readlink(name, path, sizeof path - 1);
    if (size < 0) return 0;
    path[size] = 0;
    return below(path);
}

/* 1 (and errno) if this call is to fail. */
static int fails(const char *op) {
    const char *log = getenv("FAULT_LOG"), *wanted = getenv("FAULT_OP"), *from = getenv("FAULT_FROM"), *why = getenv("FAULT_ERRNO");
    if (log) {
        int fd = syscall(SYS_openat, AT_FDCWD, log, O_WRONLY | O_APPEND | O_CREAT, 0600);
        syscall(SYS_write, fd, op, 1);
        syscall(SYS_close, fd);
    }
    if (!wanted || (strcmp(wanted, op) && strcmp(wanted, "any"))) return 0;
    if (++seen < (from ? atoi(from) : 1)) return 0;
    if (why && !strcmp(why, "killed")) kill(getpid(), SIGKILL);
    errno = why ? atoi(why) : EIO;
    return 1;
}

#define REAL(name) ((__typeof__(&name))dlsym(RTLD_NEXT, #name))

ssize_t write(int fd, const void *data, size_t size) { return below_fd(fd) && fails("write") ? -1 : REAL(write)(fd, data, size); }
ssize_t pwrite64(int fd, const void *data, size_t size, off64_t at) { return below_fd(fd) && fails("write") ? -1 : REAL(pwrite64)(fd, data, size, at); }
ssize_t pwrite(int fd, const void *data, size_t size, off_t at) { return below_fd(fd) && fails("write") ? -1 : REAL(pwrite)(fd, data, size, at); }
ssize_t writev(int fd, const struct iovec *data, int count) { return below_fd(fd) && fails("write") ? -1 : REAL(writev)(fd, data, count); }
ssize_t copy_file_range(int from, off64_t *a, int to, off64_t *b, size_t size, unsigned int flags) {
    return below_fd(to) && fails("write") ? -1 : REAL(copy_file_range)(from, a, to, b, size, flags);
}
int fsync(int fd) { return below_fd(fd) && fails("fsync") ? -1 : REAL(fsync)(fd); }
int fdatasync(int fd) { return below_fd(fd) && fails("fsync") ? -1 : REAL(fdatasync)(fd); }
int rename(const char *from, const char *to) { return below(to) && fails("rename") ? -1 : REAL(rename)(from, to); }
int renameat(int a, const char *from, int b, const char *to) { return below(to) && fails("rename") ? -1 : REAL(renameat)(a, from, b, to); }
int renameat2(int a, const char *from, int b, const char *to, unsigned int flags) {
    return below(to) && fails("rename") ? -1 : REAL(renameat2)(a, from, b, to, flags);
}
int symlink(const char *to, const char *path) { return below(path) && fails("create") ? -1 : REAL(symlink)(to, path); }
int mkdir(const char *path, mode_t mode) { return below(path) && fails("mkdir") ? -1 : REAL(mkdir)(path, mode); }
int mkdirat(int at, const char *path, mode_t mode) { return below(path) && fails("mkdir") ? -1 : REAL(mkdirat)(at, path, mode); }

#define OPEN(name, ...)                                                     \
    mode_t mode = 0;                                                        \
    if (flags & (O_CREAT | O_TMPFILE)) {                                    \
        va_list rest;                                                       \
        va_start(rest, flags);                                              \
        mode = va_arg(rest, mode_t);                                        \
        va_end(rest);                                                       \
        if ((flags & O_CREAT) && below(path) && fails("create")) return -1; \
    }                                                                       \
    return REAL(name)(__VA_ARGS__, mode);
int open(const char *path, int flags, ...) { OPEN(open, path, flags) }
int open64(const char *path, int flags, ...) { OPEN(open64, path, flags) }
int openat(int at, const char *path, int flags, ...) { OPEN(openat, at, path, flags) }
int openat64(int at, const char *path, int flags, ...) { OPEN(openat64, at, path, flags) }
