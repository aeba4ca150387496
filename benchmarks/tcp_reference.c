/* The yardstick: a bare TCP send or receive loop, with the same buffer sizes as Harvok's worker.
 *
 *   tcp_reference receive PORT FLOWS SECONDS    prints payload bytes per second over the middle of the test
 *   tcp_reference send HOST PORT FLOWS SECONDS
 *
 * One process per flow, as Harvok has one worker per core. The receiver counts from the first byte and leaves out
 * nothing; both end after SECONDS.
 */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <netinet/in.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

enum { CHUNK = 128 * 1024 };

static double now(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec + t.tv_nsec / 1e9;
}

static void die(const char *what)
{
    perror(what);
    exit(1);
}

static void send_flow(const char *host, int port, double seconds)
{
    static char buffer[CHUNK];
    struct sockaddr_in to = { .sin_family = AF_INET, .sin_port = htons(port) };
    inet_pton(AF_INET, host, &to.sin_addr);
    for (int i = 0; i < CHUNK; i++) /* memory of its own: untouched, all of it would be one page of zeros */
        buffer[i] = (char)rand();
    int fd = socket(AF_INET, SOCK_STREAM, 0);
    if (connect(fd, (struct sockaddr *)&to, sizeof to) < 0)
        die("connect");
    double end = now() + seconds;
    while (now() < end)
        if (send(fd, buffer, CHUNK, MSG_NOSIGNAL) < 0)
            break;
    _exit(0);
}

static void receive_flow(int fd, double seconds, double *rate)
{
    static char buffer[CHUNK];
    long long total = recv(fd, buffer, CHUNK, 0);
    double start = now(), end = start + seconds, t = start;
    while (t < end) {
        ssize_t got = recv(fd, buffer, CHUNK, 0);
        if (got <= 0)
            break;
        total += got;
        t = now();
    }
    *rate = t > start ? total / (t - start) : 0;
    _exit(0);
}

int main(int argc, char **argv)
{
    if (argc == 6 && !strcmp(argv[1], "send")) {
        int flows = atoi(argv[4]);
        for (int i = 0; i < flows; i++)
            if (fork() == 0)
                send_flow(argv[2], atoi(argv[3]), atof(argv[5]));
        while (wait(NULL) > 0)
            ;
        return 0;
    }
    if (argc == 5 && !strcmp(argv[1], "receive")) {
        int flows = atoi(argv[3]), one = 1;
        double *rates = mmap(NULL, 4096, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0), sum = 0;
        struct sockaddr_in here = { .sin_family = AF_INET, .sin_port = htons(atoi(argv[2])) };
        int door = socket(AF_INET, SOCK_STREAM, 0);
        setsockopt(door, SOL_SOCKET, SO_REUSEADDR, &one, sizeof one);
        if (bind(door, (struct sockaddr *)&here, sizeof here) < 0 || listen(door, 64) < 0)
            die("listen");
        puts("ready");
        fflush(stdout);
        for (int i = 0; i < flows; i++) {
            int fd = accept(door, NULL, NULL);
            if (fork() == 0)
                receive_flow(fd, atof(argv[4]), &rates[i]);
            close(fd);
        }
        while (wait(NULL) > 0)
            ;
        for (int i = 0; i < flows; i++)
            sum += rates[i];
        printf("%.0f\n", sum);
        return 0;
    }
    fputs("usage: tcp_reference send HOST PORT FLOWS SECONDS | receive PORT FLOWS SECONDS\n", stderr);
    return 2;
}
