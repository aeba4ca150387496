"""Features of a gateway as rules of this kernel's firewall (nftables), set through its library."""

import ctypes
from collections.abc import Iterator

from harvok.core.ethernet import ETHERNET_HEADER_BYTES, FCS_BYTES
from harvok.core.gateway import GatewayFeatures
from harvok.errors import UnsupportedError

_LIBRARY = "libnftables.so.1"
_NOWHERE = "203.0.113"  # RFC 5737: documentation addresses, so that no packet of a test matches

_TCP_KEPT = "1h"  # longer than any test: a connection leaves the table with its first FIN or RST
_OTHERS_KEPT = "30s"  # as the kernel's own table keeps UDP without an answer (nf_conntrack_udp_timeout)
_ROOM_AGAIN = "100ms"


def ruleset_of(features: GatewayFeatures, inside: str, outside: str) -> str:
    """The rules between two interfaces; empty where no feature needs any."""
    if not features.names:
        return ""
    chains = [
        *(_table_of_connections(features.table) if features.table is not None else ()),
        "chain forward { type filter hook forward priority filter; policy accept;",
        *_forward_rules(features, inside, outside),
        "}",
    ]
    if features.nat:
        chains += [
            "chain leaving { type nat hook postrouting priority srcnat; policy accept;",
            f'oifname "{outside}" masquerade',
            "}",
        ]
    return "\n".join(["table inet gateway {", *chains, "}", ""])


def _table_of_connections(size: int) -> Iterator[str]:
    """A table of exactly `size`: a set that a first packet has to find room in. Counting the kernel's own entries
    instead (`ct count`) walks through all of them for each new one, which ten thousand are too many for."""
    yield f"set connections {{ typeof ct id; size {size}; flags dynamic,timeout; timeout {_TCP_KEPT};"
    yield f"gc-interval {_ROOM_AGAIN}; }}"
    yield "chain tracked {"
    yield "meta l4proto tcp update @connections { ct id } return"
    yield f"meta l4proto != tcp update @connections {{ ct id timeout {_OTHERS_KEPT} }} return"
    yield "counter drop"
    yield "}"


def _forward_rules(features: GatewayFeatures, inside: str, outside: str) -> Iterator[str]:
    for number in range(features.rules):
        yield f"ip saddr {_NOWHERE}.{number % 256} tcp dport {1 + number % 65535} drop"
    for port in features.blocks:
        yield f"meta l4proto {{ tcp, udp }} th dport {port} counter drop"
    if features.table is not None:
        yield "tcp flags & (fin | rst) != 0 delete @connections { ct id }"
        yield "ct state new jump tracked"
        yield f"ct state established meta l4proto != tcp update @connections {{ ct id timeout {_OTHERS_KEPT} }}"
    if features.stateful:
        yield "ct state established,related accept"
        yield f'iifname "{inside}" ct state new accept'
        yield f'iifname "{outside}" drop'


def cut_of(port: str, bridged: bool) -> str:
    """The rules by which nothing goes through a port of a switch, or of a router."""
    return _forwarding(f"{_family(bridged)} cut_{port}", -300, f'oifname "{port}" drop', f'iifname "{port}" drop')


def no_frame_above(size_bytes: int) -> str:
    """The rules by which a switch drops frames above a size, FCS counted."""
    packet_bytes = size_bytes - ETHERNET_HEADER_BYTES - FCS_BYTES
    return _forwarding(f"{_family(True)} frames", -200, f"meta length > {packet_bytes} drop")


def _forwarding(table: str, priority: int, *rules: str) -> str:
    """A table whose rules all look at what is forwarded."""
    chain = f"chain forward {{ type filter hook forward priority {priority}; policy accept;"
    return "\n".join([f"table {table} {{", chain, *rules, "}", "}", ""])


def joined_again(port: str, bridged: bool) -> str:
    """The rules by which a port that was cut, or was not, is as it was before."""
    table = f"table {_family(bridged)} cut_{port}"
    return f"add {table}\ndelete {table}\n"


def _family(bridged: bool) -> str:
    return "bridge" if bridged else "inet"


def apply_ruleset(text: str) -> None:
    """Sets rules in the network namespace of this thread. Raises UnsupportedError where there is no such library, and
    OSError where the kernel refuses."""
    if not text:
        return
    try:
        library = ctypes.CDLL(_LIBRARY)
    except OSError as error:
        raise UnsupportedError(
            "a gateway with features needs the library of nftables", "Install it: apt-get install libnftables1."
        ) from error
    library.nft_ctx_new.restype = ctypes.c_void_p
    library.nft_ctx_get_error_buffer.restype = ctypes.c_char_p
    context = ctypes.c_void_p(library.nft_ctx_new(0))
    library.nft_ctx_buffer_error(context)
    try:
        if library.nft_run_cmd_from_buffer(context, text.encode()):
            said = library.nft_ctx_get_error_buffer(context) or b""
            raise OSError(0, f"the rules of the gateway: {said.decode(errors='replace').strip().splitlines()[0]}")
    finally:
        library.nft_ctx_free(context)
