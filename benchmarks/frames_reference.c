/* The yardstick for the frame engine: the same packet rings, driven by a bare C program.
 *
 *   frames_reference send IF FRAME_BYTES SLOTS SECONDS     numbered, stamped frames, flat out; prints frames and seconds; 0 slots for its own ring
 *   frames_reference receive IF SECONDS              counts, checks numbers and adds up delays; prints frames
 */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <errno.h>
#include <linux/filter.h>
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
#include <unistd.h>

enum { STREAM = 77, MARK = 48, BATCH = 64, DATA = 42 };

static uint64_t now(clockid_t clock) {
    struct timespec t;
    clock_gettime(clock, &t);
    return t.tv_sec * 1000000000ull + t.tv_nsec;
}

static void check(int result, const char *what) {
    if (result < 0) { perror(what); exit(1); }
}

static void attach(int fd, const char *interface, int protocol) {
    struct sockaddr_ll address = {.sll_family = AF_PACKET, .sll_protocol = htons(protocol),
                                  .sll_ifindex = if_nametoindex(interface)};
    check(bind(fd, (struct sockaddr *)&address, sizeof address), "bind");
}

static void build(uint8_t *frame, int bytes, uint16_t slot) {
    static const uint8_t head[42] = {2, 0, 0, 0, 0, 2, 2, 0, 0, 0, 0, 1, 8, 0, 0x45};
    memset(frame, 0, bytes);
    memcpy(frame, head, sizeof head);
    *(uint32_t *)(frame + 42) = htonl(STREAM);
    *(uint16_t *)(frame + 46) = htons(slot);
}

static void send_frames(const char *interface, int frame_bytes, int slots, double seconds) {
    int slot_bytes = frame_bytes <= 82 ? 128 : 2048;
    slots = slots ? slots : frame_bytes <= 82 ? 8192 : 2048;
    int version = TPACKET_V2, one = 1, fd = socket(AF_PACKET, SOCK_RAW, 0);
    struct tpacket_req request = {.tp_block_size = slot_bytes * slots, .tp_block_nr = 1,
                                  .tp_frame_size = slot_bytes, .tp_frame_nr = slots};
    check(fd, "socket");
    check(setsockopt(fd, SOL_PACKET, PACKET_VERSION, &version, sizeof version), "version");
    check(setsockopt(fd, SOL_PACKET, PACKET_VNET_HDR, &one, sizeof one), "vnet");
    check(setsockopt(fd, SOL_PACKET, PACKET_LOSS, &one, sizeof one), "loss");
    check(setsockopt(fd, SOL_PACKET, PACKET_TX_RING, &request, sizeof request), "ring");
    uint8_t *ring = mmap(0, (size_t)slot_bytes * slots, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
    int wire = frame_bytes - 4;
    for (int i = 0; i < slots; i++) {
        uint8_t *slot = ring + (size_t)i * slot_bytes;
        ((struct tpacket2_hdr *)slot)->tp_len = 10 + wire;
        *(uint16_t *)(slot + 34) = wire; /* virtio_net_hdr.hdr_len: copy it all into a linear buffer */
        build(slot + DATA, wire, i);
    }
    attach(fd, interface, 0);
    uint64_t start = now(CLOCK_MONOTONIC), end = start + (uint64_t)(seconds * 1e9), sent = 0;
    uint32_t lap = 0;
    int at = 0;
    while (now(CLOCK_MONOTONIC) < end) {
        int free = 1;
        for (int i = 0; i < BATCH; i++)
            free &= *(volatile uint32_t *)(ring + (size_t)(at + i) * slot_bytes) == TP_STATUS_AVAILABLE;
        if (free) {
            uint64_t stamp = __builtin_bswap64(now(CLOCK_REALTIME));
            for (int i = 0; i < BATCH; i++) {
                uint8_t *slot = ring + (size_t)(at + i) * slot_bytes;
                *(uint32_t *)(slot + DATA + MARK) = htonl(lap);
                memcpy(slot + DATA + MARK + 4, &stamp, 8);
                *(volatile uint32_t *)slot = TP_STATUS_SEND_REQUEST;
            }
            sent += BATCH;
            at += BATCH;
            if (at == slots) { at = 0; lap++; }
        }
        if (send(fd, 0, 0, MSG_DONTWAIT) < 0 && errno != EAGAIN && errno != ENOBUFS) check(-1, "send");
    }
    printf("%llu %.6f\n", (unsigned long long)sent, (now(CLOCK_MONOTONIC) - start) / 1e9);
}

static void receive_frames(const char *interface, double seconds) {
    enum { BLOCK = 1 << 19, BLOCKS = 128 };
    int version = TPACKET_V3, one = 1, fd = socket(AF_PACKET, SOCK_RAW, 0);
    struct sock_filter code[] = {{0x28, 0, 0, 12}, {0x15, 0, 3, 0x0800}, {0x20, 0, 0, 42},
                                 {0x15, 0, 1, STREAM}, {0x06, 0, 0, 60}, {0x06, 0, 0, 0}};
    struct sock_fprog filter = {6, code};
    struct tpacket_req3 request = {.tp_block_size = BLOCK, .tp_block_nr = BLOCKS, .tp_frame_size = 2048,
                                   .tp_frame_nr = BLOCK / 2048 * BLOCKS, .tp_retire_blk_tov = 8};
    check(fd, "socket");
    check(setsockopt(fd, SOL_PACKET, PACKET_VERSION, &version, sizeof version), "version");
    check(setsockopt(fd, SOL_PACKET, PACKET_IGNORE_OUTGOING, &one, sizeof one), "outgoing");
    check(setsockopt(fd, SOL_SOCKET, SO_ATTACH_FILTER, &filter, sizeof filter), "filter");
    check(setsockopt(fd, SOL_PACKET, PACKET_RX_RING, &request, sizeof request), "ring");
    uint8_t *ring = mmap(0, (size_t)BLOCK * BLOCKS, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
    attach(fd, interface, ETH_P_ALL);
    struct packet_mreq member = {.mr_ifindex = if_nametoindex(interface), .mr_type = PACKET_MR_PROMISC};
    check(setsockopt(fd, SOL_PACKET, PACKET_ADD_MEMBERSHIP, &member, sizeof member), "promiscuous");
    struct pollfd poll_fd = {.fd = fd, .events = POLLIN | POLLERR};
    uint64_t end = now(CLOCK_MONOTONIC) + (uint64_t)(seconds * 1e9), received = 0, disorder = 0, delay = 0, next = 0;
    printf("ready\n");
    fflush(stdout);
    for (int at = 0; now(CLOCK_MONOTONIC) < end;) {
        struct tpacket_block_desc *block = (void *)(ring + (size_t)at * BLOCK);
        if (!(((volatile struct tpacket_hdr_v1 *)&block->hdr.bh1)->block_status & TP_STATUS_USER)) {
            poll(&poll_fd, 1, 50);
            continue;
        }
        uint8_t *frame = (uint8_t *)block + block->hdr.bh1.offset_to_first_pkt;
        for (unsigned i = 0; i < block->hdr.bh1.num_pkts; i++) {
            struct tpacket3_hdr *head = (void *)frame;
            uint8_t *test = frame + head->tp_mac + 42;
            uint64_t number = (uint64_t)ntohl(*(uint32_t *)(test + 6)) * 65536 + ntohs(*(uint16_t *)(test + 4)), stamp;
            memcpy(&stamp, test + 10, 8);
            disorder += number < next;
            next = number + 1;
            delay += head->tp_sec * 1000000000ull + head->tp_nsec - __builtin_bswap64(stamp);
            received++;
            frame += head->tp_next_offset;
        }
        block->hdr.bh1.block_status = TP_STATUS_KERNEL;
        at = (at + 1) % BLOCKS;
    }
    struct timespec cpu;
    clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &cpu);
    printf("%llu %.6f %llu %llu\n", (unsigned long long)received, cpu.tv_sec + cpu.tv_nsec / 1e9,
           (unsigned long long)disorder, (unsigned long long)(received ? delay / received : 0));
}

int main(int argc, char **argv) {
    if (argc == 6 && !strcmp(argv[1], "send")) send_frames(argv[2], atoi(argv[3]), atoi(argv[4]), atof(argv[5]));
    else if (argc == 4 && !strcmp(argv[1], "receive")) receive_frames(argv[2], atof(argv[3]));
    else return fprintf(stderr, "usage: frames_reference send IF BYTES SLOTS SECONDS | receive IF SECONDS\n"), 2;
    return 0;
}
