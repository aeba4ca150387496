/* The yardstick of benchmarks/app_against_c.py for TLS: HTTP/1.1 over TLS over epoll, one client or one server on one
   core, a new connection and a whole handshake for each transaction.

   app_tls_reference serve ADDRESS PORT SIZE CERTIFICATE     until SIGTERM; key and certificate in one PEM file
   app_tls_reference ask ADDRESS PORT CONNECTIONS SECONDS

   The client prints transactions, connections and seconds. Each end does no more than it must: sessions are never
   resumed, certificates not checked, one fixed answer. */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <errno.h>
#include <netinet/tcp.h>
#include <openssl/ssl.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

enum { EVENTS = 512, MOST = 1 << 20 };
enum { CONNECTING, SHAKING, ASKED, ENDING };

struct connection {
    SSL *tls;
    int state;
    int64_t need; /* bytes of an answer that are to come; -1 awaits its head */
};

static struct connection connections[MOST];
static char buffer[1 << 18];
static volatile sig_atomic_t stop;

static void on_term(int number) { (void)number; stop = 1; }

static double now_s(void) {
    struct timespec moment;
    clock_gettime(CLOCK_MONOTONIC, &moment);
    return moment.tv_sec + moment.tv_nsec / 1e9;
}

static void watch(int epoll, int fd, uint32_t events) {
    struct epoll_event event = {.events = events, .data.fd = fd};
    epoll_ctl(epoll, EPOLL_CTL_ADD, fd, &event);
}

static void forget(int fd) {
    SSL_free(connections[fd].tls);
    connections[fd] = (struct connection){0};
    close(fd);
}

static int waits(SSL *tls, int code) {
    int why = SSL_get_error(tls, code);
    return why == SSL_ERROR_WANT_READ || why == SSL_ERROR_WANT_WRITE;
}

static void serve_one(int fd, const char *whole, int total) {
    struct connection *one = &connections[fd];
    if (one->state == SHAKING) {
        int code = SSL_do_handshake(one->tls);
        if (code != 1) {
            if (!waits(one->tls, code)) forget(fd);
            return;
        }
        one->state = ASKED;
    }
    for (;;) {
        int got = SSL_read(one->tls, buffer, sizeof buffer);
        if (got <= 0) {
            if (!waits(one->tls, got)) forget(fd);
            return;
        }
        if (one->state != ASKED || memcmp(buffer + got - 4, "\r\n\r\n", 4)) continue;
        if (SSL_write(one->tls, whole, total) != total) {
            forget(fd);
            return;
        }
        SSL_shutdown(one->tls);
        shutdown(fd, SHUT_WR);
        one->state = ENDING;
    }
}

static int serve(struct sockaddr_in *address, int size, const char *certificate) {
    SSL_CTX *context = SSL_CTX_new(TLS_server_method());
    if (SSL_CTX_use_certificate_chain_file(context, certificate) != 1) return 1;
    if (SSL_CTX_use_PrivateKey_file(context, certificate, SSL_FILETYPE_PEM) != 1) return 1;
    int epoll = epoll_create1(0), on = 1, listener = socket(AF_INET, SOCK_STREAM | SOCK_NONBLOCK, 0);
    setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
    setsockopt(listener, IPPROTO_TCP, TCP_NODELAY, &on, sizeof on);
    if (bind(listener, (void *)address, sizeof *address) || listen(listener, 65535)) return perror("listen"), 1;
    watch(epoll, listener, EPOLLIN);
    char *whole = malloc(size + 256);
    int head = sprintf(whole, "HTTP/1.1 200 OK\r\nContent-Type: application/octet-stream\r\nContent-Length: %d\r\n\r\n", size);
    for (int at = 0; at < size; at++) whole[head + at] = 'a' + at % 26;
    puts("ready");
    fflush(stdout);
    struct epoll_event events[EVENTS];
    while (!stop) {
        int count = epoll_wait(epoll, events, EVENTS, 500);
        for (int at = 0; at < count; at++) {
            int fd = events[at].data.fd;
            if (fd != listener) {
                if (connections[fd].tls) serve_one(fd, whole, head + size);
                continue;
            }
            int taken;
            while ((taken = accept4(listener, 0, 0, SOCK_NONBLOCK)) >= 0) {
                SSL *tls = SSL_new(context);
                SSL_set_fd(tls, taken);
                SSL_set_accept_state(tls);
                connections[taken] = (struct connection){.tls = tls, .state = SHAKING};
                watch(epoll, taken, EPOLLIN | EPOLLOUT | EPOLLET);
            }
        }
    }
    return 0;
}

static int open_one(int epoll, struct sockaddr_in *address, SSL_CTX *context) {
    int fd = socket(AF_INET, SOCK_STREAM | SOCK_NONBLOCK, 0);
    if (fd < 0 || (connect(fd, (void *)address, sizeof *address) && errno != EINPROGRESS)) return perror("connect"), 0;
    SSL *tls = SSL_new(context);
    SSL_set_fd(tls, fd);
    SSL_set_connect_state(tls);
    connections[fd] = (struct connection){.tls = tls, .state = CONNECTING, .need = -1};
    watch(epoll, fd, EPOLLIN | EPOLLOUT | EPOLLET);
    return 1;
}

/* Goes on with a connection; 1 when its answer is whole, -1 when it failed. */
static int go_on(int fd, const char *request, int length, uint64_t *opened) {
    struct connection *one = &connections[fd];
    if (one->state < ASKED) {
        int code = SSL_do_handshake(one->tls);
        if (code != 1) return waits(one->tls, code) ? 0 : -1;
        one->state = ASKED;
        ++*opened;
        if (SSL_write(one->tls, request, length) != length) return -1;
    }
    for (;;) {
        int got = SSL_read(one->tls, buffer, sizeof buffer);
        if (got <= 0) return waits(one->tls, got) ? 0 : -1;
        if (one->need < 0) {
            char *end = memmem(buffer, got, "\r\n\r\n", 4), *size = memmem(buffer, got, "Content-Length: ", 16);
            if (!end || !size || memcmp(buffer, "HTTP/1.1 200", 12)) return -1;
            one->need = atoll(size + 16) - (got - (end + 4 - buffer));
        } else {
            one->need -= got;
        }
        if (one->need == 0) return 1;
    }
}

static int ask(struct sockaddr_in *address, int wanted, double seconds) {
    SSL_CTX *context = SSL_CTX_new(TLS_client_method());
    SSL_CTX_set_session_cache_mode(context, SSL_SESS_CACHE_OFF);
    int epoll = epoll_create1(0), open = 0;
    uint64_t transactions = 0, opened = 0;
    char request[] = "GET /object HTTP/1.1\r\nHost: hall:443\r\nConnection: close\r\n\r\n";
    struct epoll_event events[EVENTS];
    double began = now_s();
    for (;;) {
        while (open < wanted) open += open_one(epoll, address, context);
        int count = epoll_wait(epoll, events, EVENTS, 100);
        if (now_s() > began + seconds) break;
        for (int at = 0; at < count; at++) {
            int fd = events[at].data.fd;
            if (!connections[fd].tls || (connections[fd].state == CONNECTING && !(events[at].events & EPOLLOUT))) continue;
            int whole = go_on(fd, request, sizeof request - 1, &opened);
            if (!whole) continue;
            transactions += whole > 0;
            forget(fd);
            open--;
        }
    }
    printf("%lu %lu %.6f\n", transactions, opened, now_s() - began);
    return 0;
}

int main(int count, char **words) {
    if (count != 6) return 2;
    signal(SIGTERM, on_term);
    signal(SIGPIPE, SIG_IGN);
    struct sockaddr_in address = {.sin_family = AF_INET, .sin_port = htons(atoi(words[3]))};
    inet_pton(AF_INET, words[2], &address.sin_addr);
    if (!strcmp(words[1], "serve")) return serve(&address, atoi(words[4]), words[5]);
    return ask(&address, atoi(words[4]), atof(words[5]));
}
