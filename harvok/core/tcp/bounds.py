"""What arithmetic lets one TCP flow through, whatever the line carries: by its window, and by the loss it meets."""

import math

_SQUARE_ROOT_LAW = 1.22  # √(3/2): losses at random, an acknowledgement for every segment (Mathis et al.; RFC 6349)


def window_bound_bps(window_bytes: float, rtt_s: float) -> float:
    """What a window lets through at most (RFC 6349 §3.3): window / RTT."""
    return window_bytes * 8 / rtt_s


def square_root_bps(segment_bytes: float, rtt_s: float, loss: float) -> float:
    """About what one Reno-like flow reaches under random loss: segment / RTT × 1.22 / √loss. Other kinds of congestion
    control may do better."""
    return segment_bytes * 8 / rtt_s * _SQUARE_ROOT_LAW / math.sqrt(loss)
