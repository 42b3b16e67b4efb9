// Preloaded into a lab's daemon: its syncs wait as long as the file exists that KARST_LAB_HANG names, as those of a disk that
// hangs do.
#define _GNU_SOURCE
#include <dlfcn.h>
#include <stdlib.h>
#include <unistd.h>

static void hang(void) {
    const char *file = getenv("KARST_LAB_HANG");
    while (file && access(file, F_OK) == 0) usleep(5000);
}

int fdatasync(int fd) {
    static int (*next)(int);
    if (!next) next = (int (*)(int))dlsym(RTLD_NEXT, "fdatasync");
    hang();
    return next(fd);
}

int fsync(int fd) {
    static int (*next)(int);
    if (!next) next = (int (*)(int))dlsym(RTLD_NEXT, "fsync");
    hang();
    return next(fd);
}
