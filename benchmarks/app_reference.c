/* The yardstick of benchmarks/app_against_c.py: HTTP/1.1 over epoll, one client or one server on one core.

   app_reference serve ADDRESS PORT SIZE                        until SIGTERM
   app_reference ask ADDRESS PORT CONNECTIONS EACH SIZE SECONDS  EACH transactions a connection, 0 without end

   The client prints transactions, connections and seconds. Each end does no more than it must: one fixed answer, heads
   searched with memmem, bodies cut off in the kernel, large ones sent with sendfile. Checks nothing, times nothing but
   the whole. */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <errno.h>
#include <netinet/tcp.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/mman.h>
#include <sys/sendfile.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum { EVENTS = 512, SMALL = 65536 + 256, MOST = 1 << 20 };

struct connection {
    int state;    /* of a client: 0 connecting, 1 asking */
    int left;     /* transactions to come */
    int64_t need; /* bytes of a body; -1 awaits a head */
    off_t sent;   /* of a server: how much of the answer; -1 nothing to send */
};

static struct connection connections[MOST];
static char buffer[1 << 18];
static volatile sig_atomic_t stop;

static void on_term(int number) { (void)number; stop = 1; }

static uint64_t now_ns(void) {
    struct timespec moment;
    clock_gettime(CLOCK_MONOTONIC, &moment);
    return moment.tv_sec * 1000000000ull + moment.tv_nsec;
}

static void watch(int epoll, int fd, uint32_t events) {
    struct epoll_event event = {.events = events, .data.fd = fd};
    epoll_ctl(epoll, EPOLL_CTL_ADD, fd, &event);
}

static void answer(int fd, const char *whole, int64_t total) {
    struct connection *one = &connections[fd];
    if (total <= SMALL) {
        ssize_t sent = send(fd, whole, total, 0);
        one->sent = sent < total ? (sent < 0 ? 0 : sent) : -1;
    } else {
        one->sent = 0;
    }
}

static void send_rest(int fd, int body, int64_t total) {
    struct connection *one = &connections[fd];
    while (one->sent >= 0 && one->sent < total) {
        if (sendfile(fd, body, &one->sent, total - one->sent) <= 0) return;
    }
    one->sent = -1;
}

static int serve(struct sockaddr_in *address, int size) {
    int epoll = epoll_create1(0), on = 1, listener = socket(AF_INET, SOCK_STREAM | SOCK_NONBLOCK, 0);
    setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
    setsockopt(listener, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
    if (bind(listener, (void *)address, sizeof *address) || listen(listener, 65535)) return perror("listen"), 1;
    watch(epoll, listener, EPOLLIN);
    char *whole = malloc(size + 256);
    int head = sprintf(whole, "HTTP/1.1 200 OK\r\nContent-Type: application/octet-stream\r\nContent-Length: %d\r\n\r\n", size);
    for (int at = 0; at < size; at++) whole[head + at] = 'a' + at % 26;
    int64_t total = head + size;
    int body = memfd_create("answer", 0);
    if (write(body, whole, total) != total) return 1;
    puts("ready");
    fflush(stdout);
    struct epoll_event events[EVENTS];
    while (!stop) {
        int count = epoll_wait(epoll, events, EVENTS, 500);
        for (int at = 0; at < count; at++) {
            int fd = events[at].data.fd;
            if (fd == listener) {
                int taken;
                while ((taken = accept4(listener, 0, 0, SOCK_NONBLOCK)) >= 0) {
                    connections[taken].sent = -1;
                    watch(epoll, taken, EPOLLIN | EPOLLOUT | EPOLLET);
                }
                continue;
            }
            if (events[at].events & EPOLLIN) {
                ssize_t got = recv(fd, buffer, sizeof buffer, 0);
                if (got == 0 || (got < 0 && errno != EAGAIN)) {
                    close(fd);
                    continue;
                }
                if (got > 0 && !memcmp(buffer + got - 4, "\r\n\r\n", 4)) answer(fd, whole, total);
            }
            if (connections[fd].sent >= 0) send_rest(fd, body, total);
        }
    }
    return 0;
}

static int open_one(int epoll, struct sockaddr_in *address, int each) {
    int fd = socket(AF_INET, SOCK_STREAM | SOCK_NONBLOCK, 0);
    if (fd < 0 || (connect(fd, (void *)address, sizeof *address) && errno != EINPROGRESS)) return perror("connect"), 0;
    connections[fd] = (struct connection){.left = each ? each : 1 << 30};
    watch(epoll, fd, EPOLLIN | EPOLLOUT | EPOLLET);
    return 1;
}

/* Reads an answer as far as it is there; 1 when it was whole, -1 when the connection has ended. */
static int take(int fd) {
    struct connection *one = &connections[fd];
    for (;;) {
        ssize_t got;
        if (one->need < 0) {
            got = recv(fd, buffer, sizeof buffer, 0);
            if (got <= 0) return got == 0 ? -1 : 0;
            char *end = memmem(buffer, got, "\r\n\r\n", 4), *length = memmem(buffer, got, "Content-Length: ", 16);
            if (!end || !length || memcmp(buffer, "HTTP/1.1 200", 12)) return -1;
            one->need = atoll(length + 16) - (got - (end + 4 - buffer));
        } else {
            got = recv(fd, buffer, one->need > (1 << 22) ? 1 << 22 : one->need, MSG_TRUNC);
            if (got <= 0) return got == 0 ? -1 : 0;
            one->need -= got;
        }
        if (one->need == 0) return 1;
    }
}

static int ask(struct sockaddr_in *address, int wanted, int each, const char *where, double seconds) {
    int epoll = epoll_create1(0), open = 0;
    uint64_t transactions = 0, opened = 0, began = now_ns(), end = began + (uint64_t)(seconds * 1e9);
    char request[256];
    int length = sprintf(request, "GET /%s HTTP/1.1\r\nHost: hall:80\r\n\r\n", where);
    struct epoll_event events[EVENTS];
    for (;;) {
        while (open < wanted) open += open_one(epoll, address, each);
        int count = epoll_wait(epoll, events, EVENTS, 100);
        if (now_ns() > end) break;
        for (int at = 0; at < count; at++) {
            int fd = events[at].data.fd;
            struct connection *one = &connections[fd];
            if (!one->state) {
                if (events[at].events & (EPOLLERR | EPOLLHUP)) {
                    close(fd);
                    open--;
                    continue;
                }
                one->state = 1;
                one->need = -1;
                opened++;
                if (send(fd, request, length, 0) != length) return 1;
                continue;
            }
            if (!(events[at].events & EPOLLIN)) continue;
            int whole = take(fd);
            transactions += whole > 0;
            if (whole < 0 || (whole > 0 && --one->left == 0)) {
                close(fd);
                open--;
            } else if (whole > 0) {
                one->need = -1;
                if (send(fd, request, length, 0) != length) return 1;
            }
        }
    }
    printf("%lu %lu %.6f\n", transactions, opened, (now_ns() - began) / 1e9);
    return 0;
}

int main(int count, char **words) {
    if (count < 5) return 2;
    signal(SIGTERM, on_term);
    signal(SIGPIPE, SIG_IGN);
    struct sockaddr_in address = {.sin_family = AF_INET, .sin_port = htons(atoi(words[3]))};
    inet_pton(AF_INET, words[2], &address.sin_addr);
    if (!strcmp(words[1], "serve")) return serve(&address, atoi(words[4]));
    return count == 8 ? ask(&address, atoi(words[4]), atoi(words[5]), words[6], atof(words[7])) : 2;
}
