"""Answers for the tester's addresses, and asks for those of gateways, on ports that the kernel gives no address.

The addresses belong to hardware addresses of our own, so that the kernel never sees the test frames as its own and
spends no time on them.
"""

import ipaddress
import select
import socket
import threading

from harvok.core.wire.frame_orders import AnswerOrder, Gateways
from harvok.core.wire.neighbours import Address, Answer, Question, answer, ask, read
from harvok.traffic.packet_filter import attach_filter
from harvok.traffic.rings import listen_to_everything, open_packet_socket

_EVERY_PROTOCOL = 0x0003
_ASK_EVERY_S, _ASK_FOR_S = 0.2, 2.0


def _only_questions_and_answers() -> list[tuple[int, int, int, int]]:
    """A BPF program that passes ARP, and ICMPv6 neighbour discovery."""
    return [
        (0x28, 0, 0, 12),
        (0x15, 5, 0, 0x0806),
        (0x15, 0, 5, 0x86DD),
        (0x30, 0, 0, 20),
        (0x15, 0, 3, 58),
        (0x30, 0, 0, 54),
        (0x35, 0, 1, 135),
        (0x06, 0, 0, 128),
        (0x06, 0, 0, 0),
    ]


class Answerer:
    """Serves one or more ports; `run` never returns and is meant for a thread of its own."""

    def __init__(self, order: AnswerOrder) -> None:
        self._macs = [bytes.fromhex(mac) for _, _, mac in order.ports]
        self._networks = [[ipaddress.ip_network(text) for text in networks] for _, networks, _ in order.ports]
        self._gateways = order.gateways
        self._found: list[str | None] = [None] * len(order.ports)
        self._all_found = threading.Event()
        self._sockets = [_listening(interface) for interface, _, _ in order.ports]

    def run(self) -> None:
        poll = select.poll()
        ports = {sock.fileno(): number for number, sock in enumerate(self._sockets)}
        for sock in self._sockets:
            poll.register(sock, select.POLLIN)
        while True:
            for fd, _ in poll.poll():
                number = ports[fd]
                self._hear(number, self._sockets[number].recv(256))

    def resolve(self) -> Gateways:
        """Asks for the gateways until all have answered, or for two seconds."""
        for _ in range(round(_ASK_FOR_S / _ASK_EVERY_S)):
            for number, gateway in enumerate(self._gateways):
                if gateway and not self._found[number]:
                    target, own = (ipaddress.ip_address(text) for text in gateway)
                    self._sockets[number].send(ask(target, own, self._macs[number]))
            self._look_whether_all_found()
            if self._all_found.wait(_ASK_EVERY_S):
                break
        return Gateways(list(self._found))

    def _hear(self, number: int, frame: bytes) -> None:
        message = read(frame)
        if isinstance(message, Question) and self._is_ours(number, message.target):
            self._sockets[number].send(answer(message, self._macs[number]))
        gateway = self._gateways[number]
        if isinstance(message, Answer) and gateway and str(message.address) == gateway[0]:
            self._found[number] = message.mac.hex()
            self._look_whether_all_found()

    def _is_ours(self, number: int, target: Address) -> bool:
        gateway = self._gateways[number]
        if gateway and str(target) == gateway[0]:
            return False
        return any(target in network for network in self._networks[number])

    def _look_whether_all_found(self) -> None:
        if all(mac or not gateway for mac, gateway in zip(self._found, self._gateways, strict=True)):
            self._all_found.set()


def _listening(interface: str) -> socket.socket:
    sock = open_packet_socket(interface)
    attach_filter(sock, _only_questions_and_answers())
    sock.bind((interface, _EVERY_PROTOCOL))
    listen_to_everything(sock, interface)
    return sock
