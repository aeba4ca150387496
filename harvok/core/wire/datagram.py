"""The head of every numbered datagram, and of the exchange that opens a flow.

    0        2             10            18
    +--------+-------------+-------------+----------------------------
    | trial  | number      | stamp       | random bytes to the size wanted
    +--------+-------------+-------------+----------------------------

`trial` is a tag, the first two bytes of the trial's id; `stamp` the sender's wall clock in nanoseconds.

A flow opens in four datagrams, none larger than the one it answers: the near end's hello (core.wire.hello), the far
end's challenge, the hello again with the challenge proven, and WELCOME. Only then is anything sent to that address: a
hello that somebody saw and sends again from a forged address leads nowhere.
"""

import hashlib
import hmac
import struct

from harvok.core.wire.hello import HELLO_BYTES

HEAD_BYTES = 18
MAX_PAYLOAD_BYTES = 65_507 - 20  # the largest IP packet, less UDP's header and IPv6's
TRIAL_TAG_BYTES = 2
CHALLENGE_BYTES = 16
ANSWER_BYTES = HELLO_BYTES + 32

HEAD = struct.Struct("!HQQ")


def answer_challenge(hello: bytes, challenge: bytes, key: bytes) -> bytes:
    """The hello with a challenge proven: the near end has the key and receives at the address that it sends from."""
    return hello + hmac.digest(key, hello + challenge, hashlib.sha256)


def is_answered(answer: bytes, challenge: bytes, key: bytes) -> bool:
    """Whether an answer proves a challenge under the key."""
    if len(answer) != ANSWER_BYTES:
        return False
    hello = answer[:HELLO_BYTES]
    return hmac.compare_digest(answer[HELLO_BYTES:], hmac.digest(key, hello + challenge, hashlib.sha256))


def challenge_for(address: tuple[str, int], secret: bytes) -> bytes:
    """The challenge to an address: made again when the answer comes, so that nothing need be remembered."""
    return hmac.digest(secret, repr(address[:2]).encode(), hashlib.sha256)[:CHALLENGE_BYTES]
