"""A device under test as a TOML file describes it, and as records keep it. docs/devices.md explains every key."""

from typing import Annotated, Literal

from pydantic import Field, TypeAdapter, model_validator

from harvok.core.device.reading import DeviceFacts
from harvok.core.fields import Duration, Model, read_by

MIN_EVERY_S, MAX_EVERY_S = 0.1, 60.0
USUAL_EVERY_S = 0.5

Secret = Annotated[str, Field(pattern=r"^(env|file):.+$", max_length=400)]
"""Where a secret is: in a variable of the environment, or in a file. Never the secret itself: descriptions are handed
on, and kept with runs."""
EndName = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,31}$")]
DevicePortName = Annotated[str, Field(min_length=1, max_length=100)]


class SnmpKeys(Model):
    """How a device is asked: by a community (SNMPv2c), or as a user (SNMPv3)."""

    address: Annotated[str, Field(min_length=1, max_length=255)]
    port: Annotated[int, Field(ge=1, le=65535)] = 161
    community: Secret | None = None
    write_community: Secret | None = None
    user: Annotated[str, Field(min_length=1, max_length=32)] | None = None
    authentication: Literal["sha", "sha224", "sha256", "sha384", "sha512"] | None = None
    authentication_password: Secret | None = None
    privacy: Literal["aes128", "aes192", "aes256"] | None = None
    privacy_password: Secret | None = None
    timeout: Annotated[Duration, Field(ge=0.05, le=30)] = 1.0
    retries: Annotated[int, Field(ge=0, le=10)] = 2

    @model_validator(mode="after")
    def _one_version(self) -> "SnmpKeys":
        if (self.community is None) == (self.user is None):
            raise ValueError("needs either community (SNMPv2c) or user (SNMPv3)")
        for what in ("authentication", "privacy"):
            method, password = getattr(self, what), getattr(self, f"{what}_password")
            if (method is None) != (password is None):
                raise ValueError(f"{what} and {what}_password go together")
            if method and self.user is None:
                raise ValueError(f"a community has no {what}: that is SNMPv3, with user")
        if self.privacy and not self.authentication:
            raise ValueError("privacy needs authentication as well (RFC 3414 §1.4.3)")
        return self


class SshKeys(Model):
    """How a device takes commands. `host_key` is its public key, as it shows it itself; nothing else is believed."""

    address: Annotated[str, Field(min_length=1, max_length=255)]
    port: Annotated[int, Field(ge=1, le=65535)] = 22
    user: Annotated[str, Field(min_length=1, max_length=64)]
    host_key: Annotated[str, Field(pattern=r"^[a-z0-9@.-]+ [A-Za-z0-9+/=]+$", max_length=4000)]
    password: Secret | None = None
    key_file: Annotated[str, Field(min_length=1, max_length=400)] | None = None

    @model_validator(mode="after")
    def _one_way_in(self) -> "SshKeys":
        if (self.password is None) == (self.key_file is None):
            raise ValueError("needs either password or key_file")
        return self


class WatchKeys(Model):
    """What is watched, and how often."""

    every: Annotated[Duration, Field(ge=MIN_EVERY_S, le=MAX_EVERY_S)] = USUAL_EVERY_S
    cpu: bool = True
    memory: bool = True
    temperature: bool = True


class DeviceKeys(Model):
    """A device: how it is asked, which of its ports each end of a test is wired to, and what is watched."""

    name: Annotated[str, Field(min_length=1, max_length=100)]
    snmp: SnmpKeys
    ports: Annotated[dict[EndName, DevicePortName], Field(max_length=64)] = {}
    watch: WatchKeys = WatchKeys()
    ssh: SshKeys | None = None


class DeviceFile(DeviceKeys):
    """The same in a file of its own."""

    format: Literal["harvok-device"]
    version: Literal[1]


DEVICE_FILE: TypeAdapter[DeviceFile] = TypeAdapter(DeviceFile)

DEVICES = "read_device"
"""In the context in which a file is read: reads the device that it names."""

NamedDevice = Annotated[DeviceKeys, read_by(DEVICES)]
"""A device that a file describes itself, or names the description of."""


class DeviceRecord(Model):
    """The device under test as it was when a run began: `ports` say which of its ports each end of the test was wired
    to, `facts` have the ports that were watched."""

    name: str
    asked_by: str
    every_s: float
    ports: dict[str, str] = {}
    facts: DeviceFacts
