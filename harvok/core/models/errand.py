"""Errands: tests that a host asks a station for, which is then their near end. docs/control-protocol.md describes their
use."""

from typing import Annotated, Literal

from pydantic import Field

from harvok.core.ethernet import IpVersion
from harvok.core.fields import Model
from harvok.core.models.control import Certificate
from harvok.core.models.run import AnyTest


class Errand(Model):
    """A test towards `station`, which is believed by its `certificate` (PEM; None talks in clear) and lets the near end
    in by `token`. `reflector_port`, `by` and `load_bps` are of a test of delay, `asked_by` is who wants it. Near ends
    of one `group` share the station, and begin their first trial at `begins_ns` by their own wall clocks, each further
    one `every_s` later."""

    test: AnyTest
    station: Annotated[str, Field(min_length=1, max_length=255)]
    certificate: Certificate | None = None
    token: Annotated[str, Field(max_length=200)] = ""
    ip_version: IpVersion | None = None
    rated_bps: Annotated[float, Field(gt=0, le=1e15)] | None = None
    reflector_port: Annotated[int, Field(ge=1, le=65_535)] | None = None
    by: Literal["stamp", "echo"] | None = None
    load_bps: Annotated[float, Field(gt=0, le=1e15)] | None = None
    group: Annotated[str, Field(pattern=r"^[0-9a-f]{8,64}$")] | None = None
    begins_ns: Annotated[int, Field(ge=0, le=2**63 - 1)] = 0
    every_s: Annotated[float, Field(ge=0, le=86_400)] = 0.0
    wait_s: Annotated[float, Field(ge=0, le=86_400)] = 0.0
    near_name: Annotated[str, Field(max_length=100)] = ""
    asked_by: Annotated[str, Field(max_length=100)] = ""
