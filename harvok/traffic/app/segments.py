"""What the kernel counts of a connection's segments (tcp_info, uapi linux/tcp.h).

Read at the end of connections, so that nothing else of it is taken apart.
"""

import struct

TCP_INFO_BYTES = 144
SEGMENTS_AT = 100
SEGMENTS = struct.Struct("=I32xII")
"""Segments sent again; sent, and received."""
