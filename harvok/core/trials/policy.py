"""What a device is to let through and what it is to block: checks that are tried one by one while a load runs. Plain
dataclasses."""

from dataclasses import dataclass, field
from typing import Annotated, Literal

from annotated_types import Ge, Le, MaxLen

from harvok.core.bounds import Count, Name, Port
from harvok.core.ends import Role

MAX_CHECKS, MAX_HEADER_BYTES = 64, 262_144
TRY_S = 1.0
"""How long a try waits for its answer."""

Must = Literal["passed", "blocked"]
CheckBy = Literal["tcp", "udp", "http", "tls", "dns", "flags"]
"""`tcp` and `udp` are an exchange of a line; `http` a request (RFC 9112), `tls` one within TLS, `dns` a question (RFC
1035), `flags` one TCP segment with flags that belong to no connection (RFC 9293)."""
Malformed = Literal["", "two-lengths", "no-host", "space-in-field", "bare-newlines", "zero-byte"]
TEST_VIRUS = "test-virus"


@dataclass(frozen=True, slots=True)
class PolicyCheck:
    """One thing that is tried, towards `port` of the far end, and what must become of it. `host` is the name that is
    asked for; `content` comes in the answer, or goes in the request where `uploads`; `flags` are names of TCP's."""

    name: Name
    must: Must
    by: CheckBy
    port: Port
    host: Name = ""
    content: Literal["", "test-virus"] = ""
    uploads: bool = False
    header_bytes: Annotated[int, Ge(0), Le(MAX_HEADER_BYTES)] = 0
    malformed: Malformed = ""
    flags: Annotated[tuple[Literal["fin", "syn", "rst", "psh", "ack", "urg"], ...], MaxLen(6)] = ()


@dataclass(frozen=True, slots=True)
class CheckCounts:
    """What became of a check at one end. At the near end `tried` times, of which `passed` had the right answer, and
    others ended in the ways of `blocked`; at the far end `arrived` requests were whole and right."""

    tried: Count = 0
    passed: Count = 0
    arrived: Count = 0
    blocked: dict[Name, Count] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class PolicySummary:
    """What one end says of all checks, in their order."""

    direction: Name
    role: Role
    checks: Annotated[list[CheckCounts], MaxLen(MAX_CHECKS)]


@dataclass(frozen=True, slots=True)
class CheckResult:
    """Both ends of one check. `tried` times; `passed` came through there and back, `arrived` there at least."""

    check: PolicyCheck
    tried: int
    passed: int
    arrived: int
    blocked: dict[str, int] = field(default_factory=dict)

    @property
    def wrong(self) -> int:
        """How many tries ended otherwise than they must."""
        return self.passed if self.check.must == "blocked" else self.tried - self.passed
