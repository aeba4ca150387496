/* The yardstick for the impairment bridge: the same packet rings, driven by a bare C program.
 *
 *   bridge_reference IF OTHER DELAY_NS SECONDS     carries frames both ways, each DELAY_NS after the kernel's stamp;
 *                                                  prints frames in and dropped, for each way
 */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <errno.h>
#include <linux/if_ether.h>
#include <linux/if_packet.h>
#include <net/if.h>
#include <poll.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <time.h>

enum { SLOT = 2048, SEND_SLOTS = 4096, HELD = 1 << 15, RESERVE = 6, RX_VNET = 72, TX_VNET = 32, VNET = 10 };

struct lane {
    int in, out, head, taken, tail;
    uint8_t *rx, *tx;
    uint64_t frames;
};

static uint64_t now(clockid_t clock) {
    struct timespec t;
    clock_gettime(clock, &t);
    return t.tv_sec * 1000000000ull + t.tv_nsec;
}

static void check(int result, const char *what) {
    if (result < 0) { perror(what); exit(1); }
}

static void set(int fd, int option, int value) {
    check(setsockopt(fd, SOL_PACKET, option, &value, sizeof value), "option");
}

static uint8_t *ring(int fd, int option, int slots) {
    struct tpacket_req request = {.tp_block_size = 1 << 20, .tp_block_nr = slots / ((1 << 20) / SLOT),
                                  .tp_frame_size = SLOT, .tp_frame_nr = slots};
    check(setsockopt(fd, SOL_PACKET, option, &request, sizeof request), "ring");
    return mmap(0, (size_t)slots * SLOT, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
}

static void attach(int fd, const char *interface, int protocol) {
    struct sockaddr_ll address = {.sll_family = AF_PACKET, .sll_protocol = htons(protocol),
                                  .sll_ifindex = if_nametoindex(interface)};
    check(bind(fd, (struct sockaddr *)&address, sizeof address), "bind");
}

static struct lane lane(const char *source, const char *target) {
    struct lane made = {socket(AF_PACKET, SOCK_RAW, 0), socket(AF_PACKET, SOCK_RAW, 0)};
    for (int i = 0; i < 2; i++) {
        int fd = i ? made.out : made.in;
        check(fd, "socket");
        set(fd, PACKET_VERSION, TPACKET_V2);
        set(fd, PACKET_VNET_HDR, 1);
    }
    set(made.in, PACKET_IGNORE_OUTGOING, 1);
    set(made.in, PACKET_RESERVE, RESERVE);
    set(made.out, PACKET_LOSS, 1);
    made.rx = ring(made.in, PACKET_RX_RING, HELD);
    made.tx = ring(made.out, PACKET_TX_RING, SEND_SLOTS);
    attach(made.out, target, 0);
    attach(made.in, source, ETH_P_ALL);
    struct packet_mreq member = {.mr_ifindex = if_nametoindex(source), .mr_type = PACKET_MR_PROMISC};
    check(setsockopt(made.in, SOL_PACKET, PACKET_ADD_MEMBERSHIP, &member, sizeof member), "promiscuous");
    return made;
}

static volatile uint32_t *status(uint8_t *slot) { return (volatile uint32_t *)slot; }

/* Sends on what is due; returns whether anything was. */
static int carry(struct lane *l, uint64_t delay_ns) {
    int sent = 0;
    uint64_t wall = now(CLOCK_REALTIME);
    for (; sent < 512; sent++) {
        uint8_t *from = l->rx + (size_t)l->head * SLOT, *to = l->tx + (size_t)l->tail * SLOT;
        struct tpacket2_hdr *head = (void *)from;
        if (!(*status(from) & TP_STATUS_USER) || *status(to) != TP_STATUS_AVAILABLE) break;
        if (head->tp_sec * 1000000000ull + head->tp_nsec + delay_ns > wall) break;
        memcpy(to + TX_VNET, from + RX_VNET, VNET + head->tp_snaplen);
        *(uint16_t *)(to + TX_VNET + 2) = head->tp_snaplen;
        ((struct tpacket2_hdr *)to)->tp_len = VNET + head->tp_snaplen;
        *status(from) = TP_STATUS_KERNEL;
        *status(to) = TP_STATUS_SEND_REQUEST;
        l->head = (l->head + 1) % HELD;
        l->tail = (l->tail + 1) % SEND_SLOTS;
        l->frames++;
    }
    if (sent && send(l->out, 0, 0, MSG_DONTWAIT) < 0 && errno != EAGAIN && errno != ENOBUFS) check(-1, "send");
    return sent;
}

int main(int argc, char **argv) {
    if (argc != 5) return fprintf(stderr, "usage: bridge_reference IF OTHER DELAY_NS SECONDS\n"), 2;
    struct lane lanes[2] = {lane(argv[1], argv[2]), lane(argv[2], argv[1])};
    uint64_t delay_ns = strtoull(argv[3], 0, 10), end = now(CLOCK_MONOTONIC) + (uint64_t)(atof(argv[4]) * 1e9);
    struct pollfd waits[2] = {{.fd = lanes[0].in, .events = POLLIN}, {.fd = lanes[1].in, .events = POLLIN}};
    printf("ready\n");
    fflush(stdout);
    while (now(CLOCK_MONOTONIC) < end) {
        int busy = carry(&lanes[0], delay_ns) + carry(&lanes[1], delay_ns);
        int held = 0;
        for (int i = 0; i < 2; i++) held |= *status(lanes[i].rx + (size_t)lanes[i].head * SLOT) & TP_STATUS_USER;
        if (!busy && !held) poll(waits, 2, 5);
    }
    for (int i = 0; i < 2; i++) {
        struct tpacket_stats told;
        socklen_t size = sizeof told;
        check(getsockopt(lanes[i].in, SOL_PACKET, PACKET_STATISTICS, &told, &size), "statistics");
        printf("%llu %u\n", (unsigned long long)lanes[i].frames, told.tp_drops);
    }
    return 0;
}
