/* What a disk holds after a loss of power, for tests: each fsync and fdatasync of a file below SHADOW_OF copies what the
 * file holds to a file of that name in SHADOW.  What was written and not synced since is not there;
 * what was deleted is, until the folder itself was synced.
 *
 * The copy is read through the file's own descriptor: to open and close it once more would give up the process's locks.
 */
#define _GNU_SOURCE
#include <dirent.h>
#include <dlfcn.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static void forget(const char *of, const char *to) {
    char path[8192];
    DIR *kept = opendir(to);
    if (!kept) abort();
    for (struct dirent *entry; (entry = readdir(kept));) {
        snprintf(path, sizeof path, "%s/%s", of, entry->d_name);
        if (!access(path, F_OK)) continue;
        snprintf(path, sizeof path, "%s/%s", to, entry->d_name);
        unlink(path);
    }
    closedir(kept);
}

static void keep(int fd) {
    char link[64], path[4096], whole[8192], part[8200], buffer[65536];
    const char *of = getenv("SHADOW_OF"), *to = getenv("SHADOW");
    if (!of || !to) return;
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    ssize_t length = readlink(link, path, sizeof path - 1);
    if (length < 0) return;
    path[length] = 0;
    if (!strcmp(path, of)) return forget(of, to);
    if (strncmp(path, of, strlen(of)) || path[strlen(of)] != '/') return;
    snprintf(whole, sizeof whole, "%s/%s", to, strrchr(path, '/') + 1);
    snprintf(part, sizeof part, "%s.part", whole);
    int copy = open(part, O_WRONLY | O_CREAT | O_TRUNC, 0600);
    if (copy < 0) abort();
    off_t at = 0;
    for (ssize_t got; (got = pread(fd, buffer, sizeof buffer, at)) > 0; at += got)
        if (write(copy, buffer, got) != got) abort();
    close(copy);
    rename(part, whole);
}

int fsync(int fd) {
    static int (*real)(int);
    if (!real) real = (int (*)(int))dlsym(RTLD_NEXT, "fsync");
    int result = real(fd);
    if (!result) keep(fd);
    return result;
}

int fdatasync(int fd) {
    static int (*real)(int);
    if (!real) real = (int (*)(int))dlsym(RTLD_NEXT, "fdatasync");
    int result = real(fd);
    if (!result) keep(fd);
    return result;
}
