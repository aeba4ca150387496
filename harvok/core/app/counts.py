"""Counts of application traffic, of several processes, actions or applications, as one."""

from collections.abc import Sequence

from harvok.core.measures.bins import merged
from harvok.core.trials.app import ActionCounts, ConnectionCounts, LevelCounts, MediaCounts


def joined_levels(parts: Sequence[LevelCounts]) -> LevelCounts:
    """What several processes say of one level."""
    if len(parts) == 1:
        return parts[0]
    return LevelCounts(
        parts[0].level,
        max(part.seconds for part in parts),
        [joined_actions(ones) for ones in zip(*(part.actions for part in parts), strict=True)],
        [joined_connections(ones) for ones in zip(*(part.connections for part in parts), strict=True)],
        sum(part.mean_open_connections for part in parts),
        sum(part.mean_users for part in parts),
        merged(part.lag for part in parts),
        sum(part.unserved for part in parts),
    )


def joined_actions(ones: Sequence[ActionCounts]) -> ActionCounts:
    """By the numbers of the first; reasons of failures in their order."""
    reasons = sorted({reason for one in ones for reason in one.failures})
    return ActionCounts(
        ones[0].application if ones else 0,
        ones[0].action if ones else 0,
        sum(one.transactions for one in ones),
        sum(one.request_bytes for one in ones),
        sum(one.response_bytes for one in ones),
        merged(one.first_byte for one in ones),
        merged(one.response for one in ones),
        {reason: sum(one.failures.get(reason, 0) for one in ones) for reason in reasons},
        joined_media([one.media for one in ones if one.media]),
    )


def joined_media(ones: Sequence[MediaCounts]) -> MediaCounts | None:
    """None where there are no media streams."""
    if not ones:
        return None
    return MediaCounts(
        sum(one.sent_up for one in ones),
        sum(one.lost_up for one in ones),
        sum(one.sent_down for one in ones),
        sum(one.lost_down for one in ones),
        merged(one.jitter_up for one in ones),
        merged(one.jitter_down for one in ones),
    )


def joined_connections(ones: Sequence[ConnectionCounts]) -> ConnectionCounts:
    """By the number of the first."""
    return ConnectionCounts(
        ones[0].application if ones else 0,
        sum(one.opened for one in ones),
        sum(one.resets for one in ones),
        sum(one.segments_sent for one in ones),
        sum(one.segments_received for one in ones),
        sum(one.retransmitted for one in ones),
        merged(one.handshake for one in ones),
        merged(one.tls_handshake for one in ones),
    )
