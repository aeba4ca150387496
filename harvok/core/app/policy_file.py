"""A policy as a TOML file: what a device must let through and what it must block. docs/policies.md has every key."""

from typing import Annotated, Literal

from pydantic import Field, TypeAdapter, field_validator, model_validator

from harvok.core.fields import Model, Size, named_once, read_by
from harvok.core.trials.policy import MAX_CHECKS, MAX_HEADER_BYTES, CheckBy, Malformed, Must, PolicyCheck

_PORTS: dict[CheckBy, int] = {"http": 80, "tls": 443, "dns": 53}
_WEB = ("http", "tls")
_NAME = r"^[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?(\.[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?)*$"


class CheckEntry(Model):
    """One thing that is tried, and what must become of it."""

    name: Annotated[str, Field(min_length=1, max_length=60)]
    must: Must
    by: CheckBy
    port: Annotated[int, Field(ge=1, le=65_535)] | None = None
    host: Annotated[str, Field(max_length=100, pattern=_NAME)] | None = None
    content: Literal["test-virus"] | None = None
    uploads: bool = False
    header: Annotated[Size, Field(ge=1, le=MAX_HEADER_BYTES)] | None = None
    malformed: Annotated[Malformed, Field(min_length=1)] | None = None
    flags: Annotated[list[Literal["fin", "syn", "rst", "psh", "ack", "urg"]], Field(max_length=6)] | None = None

    @model_validator(mode="after")
    def _keys_fit(self) -> "CheckEntry":
        """Raises ValueError for a key that says nothing of this kind of check."""
        for_web = [key for key in ("content", "header", "malformed") if getattr(self, key) is not None]
        if for_web and self.by not in _WEB:
            raise ValueError(f"{for_web[0]} is for checks by http or tls, and '{self.name}' is by {self.by}")
        if self.host is not None and self.by not in (*_WEB, "dns"):
            raise ValueError(f"host is for checks by http, tls or dns, and '{self.name}' is by {self.by}")
        if (self.flags is None) == (self.by == "flags"):
            raise ValueError(f"flags are for checks by flags, which have them: see '{self.name}'")
        if self.by == "dns" and self.host is None:
            raise ValueError(f"'{self.name}' asks for no name: give host")
        if self.port is None and self.by not in _PORTS:
            raise ValueError(f"'{self.name}' needs a port")
        return self

    def build(self) -> PolicyCheck:
        """The check as trials have it."""
        return PolicyCheck(
            self.name,
            self.must,
            self.by,
            self.port or _PORTS[self.by],
            self.host or "",
            self.content or "",
            self.uploads,
            round(self.header or 0),
            self.malformed or "",
            tuple(self.flags or ()),
        )


class PolicyFile(Model):
    """A whole policy."""

    format: Literal["harvok-policy"]
    version: Literal[1]
    name: Annotated[str, Field(min_length=1, max_length=60)]
    about: str = ""
    checks: Annotated[list[CheckEntry], Field(min_length=1, max_length=MAX_CHECKS)]

    @field_validator("checks")
    @classmethod
    def _names_differ(cls, checks: list[CheckEntry]) -> list[CheckEntry]:
        return named_once(checks, "checks")

    @model_validator(mode="after")
    def _ports_speak_one_language(self) -> "PolicyFile":
        """Raises ValueError for a port that would have to speak TLS and not."""
        in_tls = {check.build().port for check in self.checks if check.by == "tls"}
        plain = {check.build().port for check in self.checks if check.by in ("tcp", "http")}
        if both := in_tls & plain:
            raise ValueError(f"port {min(both)} has checks by tls and others: give one of them another port")
        return self

    def build(self) -> tuple[PolicyCheck, ...]:
        """The checks as trials have them."""
        return tuple(check.build() for check in self.checks)


POLICIES = "read_policy"
"""In the context in which a file is read: reads the policy that it names."""


NamedPolicy = Annotated[PolicyFile, read_by(POLICIES)]
"""A policy that a file names, and that a record has whole."""

POLICY_FILE: TypeAdapter[PolicyFile] = TypeAdapter(PolicyFile)
