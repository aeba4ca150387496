"""What numbers and names may be that come from elsewhere: the other end of a test, or a file.

Plain annotations, since worker processes import what carries them. Both ends of the control protocol, the logbook and
every import check them where such a value is read; nobody checks them again.
"""

from typing import Annotated

from annotated_types import Ge, Gt, Le, MaxLen

MAX_FLOWS = 1024
"""In one direction of a trial, whatever a station's operator allows."""

UNLIKE_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"
"""None of which look or sound like another: of what people read out over a phone, or copy from a screen."""

Count = Annotated[int, Ge(0), Le(2**63 - 1)]
Flows = Annotated[int, Ge(1), Le(MAX_FLOWS)]
Index = Annotated[int, Ge(0), Le(10**9)]
Seconds = Annotated[float, Ge(0), Le(1e8)]
SignedSeconds = Annotated[float, Ge(-1e10), Le(1e10)]
"""Between two clocks that need not agree."""
SomeSeconds = Annotated[float, Gt(0), Le(1e8)]
Interval = Annotated[float, Ge(0.05), Le(3600)]
Tick = Annotated[float, Ge(0.005), Le(3600)]
BitRate = Annotated[float, Ge(0), Le(1e15)]
Pacing = Annotated[float, Ge(1e3), Le(10e12)]
FrameRate = Annotated[float, Gt(0), Le(1e9)]
Share = Annotated[float, Ge(0), Le(1e4)]
"""Of a core or of all; measured, so that it may be somewhat above 1."""

Port = Annotated[int, Ge(1), Le(65_535)]
Dscp = Annotated[int, Ge(0), Le(63)]
Mss = Annotated[int, Ge(88), Le(65_495)]
SocketBuffer = Annotated[int, Ge(1024), Le(2**30)]
Hops = Annotated[int, Ge(1), Le(255)]
Amount = Annotated[int, Ge(1), Le(10**15)]

Name = Annotated[str, MaxLen(100)]
"""Of a direction, a service, a congestion control."""
Line = Annotated[str, MaxLen(1000)]
