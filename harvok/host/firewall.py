"""Features of a gateway as rules of this kernel's firewall (nftables), set through its library."""

import ctypes
from collections.abc import Iterator

from harvok.core.gateway import GatewayFeatures
from harvok.errors import UnsupportedError

_LIBRARY = "libnftables.so.1"
_NOWHERE = "203.0.113"  # RFC 5737: documentation addresses, so that no packet of a test matches


def ruleset_of(features: GatewayFeatures, inside: str, outside: str) -> str:
    """The rules between two interfaces; empty where no feature needs any."""
    if not features.names:
        return ""
    chains = [
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


def _forward_rules(features: GatewayFeatures, inside: str, outside: str) -> Iterator[str]:
    for number in range(features.rules):
        yield f"ip saddr {_NOWHERE}.{number % 256} tcp dport {1 + number % 65535} drop"
    for port in features.blocks:
        yield f"meta l4proto {{ tcp, udp }} th dport {port} counter drop"
    if features.table is not None:
        yield f"ct state new ct count over {features.table} counter drop"
    if features.stateful:
        yield "ct state established,related accept"
        yield f'iifname "{inside}" ct state new accept'
        yield f'iifname "{outside}" drop'


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
