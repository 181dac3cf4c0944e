/* Loaded before the C library (LD_PRELOAD): ends a process, or lets a call fail, at a chosen one of the calls that change files.

   UPRIGHT_FAULT         kill: end the process (SIGKILL) in the place of the call; after: end it right behind the call;
                         torn: write half of what is to be written, and end it; EIO, ENOSPC: let the call fail so;
                         full: let that one and all further ones that need room fail with ENOSPC
   UPRIGHT_FAULT_AT      which call: 1 is the first one
   UPRIGHT_FAULT_COUNT   a file of 8 bytes in which all processes count their calls together
   UPRIGHT_FAULT_WITHIN  only calls for files in this folder count; what is sent over sockets counts where UPRIGHT_FAULT_SENT is set
*/
#define _GNU_SOURCE
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#define REAL(type, name, ...) \
    static type (*real)(__VA_ARGS__); \
    if (!real) *(void **)&real = dlsym(RTLD_NEXT, name)

enum { GO, FAIL, HALF, BEHIND };

static long *counter(void)
{
    static long *shared;
    const char *path = getenv("UPRIGHT_FAULT_COUNT");
    if (!path) return NULL;
    if (!shared) {
        REAL(int, "open64", const char *, int, ...);
        int fd = real(path, O_RDWR);
        if (fd < 0) return NULL;
        void *at = mmap(NULL, sizeof(long), PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
        close(fd);
        if (at == MAP_FAILED) return NULL;
        shared = at;
    }
    return shared;
}

static void end_here(void) { kill(getpid(), SIGKILL); for (;;) pause(); }

/* What becomes of a call; writes: whether it needs room. */
static int strike(int writes)
{
    long *count = counter();
    const char *how = getenv("UPRIGHT_FAULT"), *at = getenv("UPRIGHT_FAULT_AT");
    if (!count) return GO;
    long now = __atomic_add_fetch(count, 1, __ATOMIC_SEQ_CST);
    if (!how || !at) return GO;
    long chosen = atol(at);
    if (!strcmp(how, "full") && now >= chosen && writes) { errno = ENOSPC; return FAIL; }
    if (now != chosen) return GO;
    if (!strcmp(how, "kill")) end_here();
    if (!strcmp(how, "after")) return BEHIND;
    if (!strcmp(how, "torn")) return HALF;
    if (!strcmp(how, "EIO")) { errno = EIO; return FAIL; }
    if (!strcmp(how, "ENOSPC") && writes) { errno = ENOSPC; return FAIL; }
    return GO;
}

static int is_within(const char *path)
{
    const char *root = getenv("UPRIGHT_FAULT_WITHIN");
    if (!root) return 0;
    if (path[0] == '/') return !strncmp(path, root, strlen(root));
    char here[PATH_MAX];
    return getcwd(here, sizeof here) && !strncmp(here, root, strlen(root));
}

static int is_ours(int fd)
{
    char name[64], path[PATH_MAX];
    if (!getenv("UPRIGHT_FAULT_COUNT")) return 0;
    snprintf(name, sizeof name, "/proc/self/fd/%d", fd);
    ssize_t length = readlink(name, path, sizeof path - 1);
    if (length < 0) return 0;
    path[length] = 0;
    if (!strncmp(path, "socket:", 7)) return getenv("UPRIGHT_FAULT_SENT") != NULL;
    return path[0] == '/' && is_within(path);
}

#define AROUND(ours, writes, failed, call, half) \
    if (!(ours)) return call; \
    switch (strike(writes)) { \
    case FAIL: return failed; \
    case HALF: half; end_here(); \
    case BEHIND: call; end_here(); \
    } \
    return call

ssize_t write(int fd, const void *data, size_t size)
{ REAL(ssize_t, "write", int, const void *, size_t); AROUND(is_ours(fd), 1, -1, real(fd, data, size), real(fd, data, size / 2)); }

ssize_t pwrite64(int fd, const void *data, size_t size, off64_t at)
{ REAL(ssize_t, "pwrite64", int, const void *, size_t, off64_t); AROUND(is_ours(fd), 1, -1, real(fd, data, size, at), real(fd, data, size / 2, at)); }

ssize_t pwrite(int fd, const void *data, size_t size, off_t at) { return pwrite64(fd, data, size, at); }

ssize_t send(int fd, const void *data, size_t size, int flags)
{ REAL(ssize_t, "send", int, const void *, size_t, int); AROUND(is_ours(fd), 0, -1, real(fd, data, size, flags), real(fd, data, size / 2, flags)); }

int fsync(int fd)
{ REAL(int, "fsync", int); AROUND(is_ours(fd), 1, -1, real(fd), ); }

int fdatasync(int fd)
{ REAL(int, "fdatasync", int); AROUND(is_ours(fd), 1, -1, real(fd), ); }

int ftruncate64(int fd, off64_t size)
{ REAL(int, "ftruncate64", int, off64_t); AROUND(is_ours(fd), 1, -1, real(fd, size), ); }

int ftruncate(int fd, off_t size) { return ftruncate64(fd, size); }

int rename(const char *from, const char *to)
{ REAL(int, "rename", const char *, const char *); AROUND(is_within(to), 0, -1, real(from, to), ); }

int renameat2(int a, const char *from, int b, const char *to, unsigned flags)
{ REAL(int, "renameat2", int, const char *, int, const char *, unsigned); AROUND(is_within(to), 0, -1, real(a, from, b, to, flags), ); }

int unlink(const char *path)
{ REAL(int, "unlink", const char *); AROUND(is_within(path), 0, -1, real(path), ); }

int mkdir(const char *path, mode_t mode)
{ REAL(int, "mkdir", const char *, mode_t); AROUND(is_within(path), 1, -1, real(path, mode), ); }

static mode_t mode_of(int flags, va_list more) { return flags & O_CREAT ? va_arg(more, mode_t) : 0; }

#define OPENING(symbol) \
    va_list more; va_start(more, flags); mode_t mode = mode_of(flags, more); va_end(more); \
    REAL(int, symbol, const char *, int, ...); \
    AROUND((flags & O_CREAT) && is_within(path), 1, -1, real(path, flags, mode), )

int open(const char *path, int flags, ...) { OPENING("open"); }
int open64(const char *path, int flags, ...) { OPENING("open64"); }
