"""Descriptions of devices under test: read from files, and made into how a device is asked."""

import os
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING

from harvok.core.models.device import DEVICE_FILE, DeviceFile, DeviceKeys, SnmpKeys, SshKeys, WatchKeys
from harvok.device.orders import SnmpAccess, SshAccess, WatchOrders
from harvok.errors import DeviceFileError
from harvok.rigs.files import read_toml

if TYPE_CHECKING:
    from harvok.rigs.simulated_device import FollowedModel

_HINT = "docs/devices.md has every key; `harvok device new` writes a file that works."


OUTSIDE = "HARVOK_OUTSIDE"
"""The environment variable by which a test in a network that was made for it learns from which one its device is
reached: paths of namespaces, with colons between them."""


@dataclass(frozen=True, slots=True)
class DeviceSettings:
    """A device that a test is to watch. `ports` are the device's ports by the ends of the test that they are wired
    to; `model` is a device that is followed already, in virtual time. By `writing` values of it can be set, and by
    `ssh` it takes commands; None where it does not."""

    name: str
    orders: WatchOrders
    ports: dict[str, str] = field(default_factory=dict)
    model: "FollowedModel | None" = None
    writing: SnmpAccess | None = None
    ssh: SshAccess | None = None


def read_device(path: Path) -> DeviceFile:
    """The device that a TOML file describes. Raises DeviceFileError, naming line and key."""
    return read_toml(path, DEVICE_FILE, "device", _HINT, DeviceFileError)


def read_settings(path: Path) -> DeviceSettings:
    """How the device that a file describes is watched; its secrets in files are beside it. Raises DeviceFileError."""
    return settings_of(read_device(path), path.parent)


def anchored(device: DeviceKeys, folder: Path) -> DeviceKeys:
    """The same device with the files of its secrets by whole paths, of which those that are none are in `folder`."""

    def whole(where: str | None) -> str | None:
        kind, _, name = (where or "").partition(":")
        return f"file:{(folder / name).resolve()}" if kind == "file" else where

    snmp = device.snmp.model_copy(update={key: whole(getattr(device.snmp, key)) for key in _SNMP_SECRETS})
    ssh = device.ssh
    if ssh:
        key_file = str((folder / ssh.key_file).resolve()) if ssh.key_file else None
        ssh = ssh.model_copy(update={"password": whole(ssh.password), "key_file": key_file})
    return DeviceKeys(name=device.name, snmp=snmp, ports=device.ports, watch=device.watch, ssh=ssh)


def named_device(path: Path) -> DeviceKeys:
    """The device that another file names. Raises DeviceFileError, naming line and key."""
    return anchored(read_device(path), path.parent)


_SNMP_SECRETS = ("community", "write_community", "authentication_password", "privacy_password")


def settings_of(file: DeviceKeys, folder: Path = Path()) -> DeviceSettings:
    """How the device of a file is watched; secrets in files are looked for in `folder`. Raises DeviceFileError for a
    secret that is not there."""
    ports = tuple(dict.fromkeys(file.ports.values()))
    access = access_of(file.snmp, folder)
    writes = file.snmp.user or file.snmp.write_community
    return DeviceSettings(
        file.name,
        _orders(access, file.watch, ports),
        dict(file.ports),
        writing=replace(access, community=_secret(file.snmp.write_community, folder)) if writes else None,
        ssh=_ssh_access(file.ssh, folder) if file.ssh else None,
    )


def _ssh_access(keys: SshKeys, folder: Path) -> SshAccess:
    key_file = str(folder / keys.key_file) if keys.key_file else ""
    if key_file and not Path(key_file).is_file():
        raise DeviceFileError(f"there is no private key {key_file}", "Put it there, or name another.")
    password = _secret(keys.password, folder)
    return SshAccess(keys.address, keys.user, keys.host_key, keys.port, password, key_file, _outside())


def _outside() -> tuple[str, ...]:
    """Where the device is reached from, if that is not here."""
    return tuple(filter(None, os.environ.get(OUTSIDE, "").split(":")))


def _orders(access: SnmpAccess, watch: WatchKeys, ports: tuple[str, ...]) -> WatchOrders:
    return WatchOrders(access, watch.every, ports, watch.cpu, watch.memory, watch.temperature)


def access_of(keys: SnmpKeys, folder: Path) -> SnmpAccess:
    """How a device is asked, with the secrets themselves. Raises DeviceFileError for one that is not there."""
    return SnmpAccess(
        host=keys.address,
        port=keys.port,
        community=_secret(keys.community, folder),
        user=keys.user or "",
        authentication=keys.authentication,
        authentication_password=_secret(keys.authentication_password, folder),
        privacy=keys.privacy,
        privacy_password=_secret(keys.privacy_password, folder),
        timeout_s=keys.timeout,
        retries=keys.retries,
        namespaces=_outside(),
    )


def _secret(where: str | None, folder: Path) -> str:
    if where is None:
        return ""
    kind, _, name = where.partition(":")
    if kind == "env":
        if not os.environ.get(name):
            raise DeviceFileError(f"the variable {name} of the environment is not set", "Set it to the secret.")
        return os.environ[name]
    path = folder / name
    try:
        secret = path.read_text(encoding="utf-8").strip()
    except (OSError, UnicodeDecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else "it is not text"
        raise DeviceFileError(f"the secret in {path} cannot be read: {why}", "Put it there, alone.") from error
    if not secret:
        raise DeviceFileError(f"{path} is empty", "Put the secret there, alone.")
    return secret


_ASKING = {
    "2c": """community = "env:DOME_SNMP"     # the variable that holds it, or "file:NAME" for a file beside this one
""",
    "3": """user = "harvok"
authentication = "sha256"       # sha, sha224, sha256, sha384 or sha512
authentication_password = "env:DOME_SNMP_AUTH"
privacy = "aes128"              # aes128, aes192 or aes256; leave both out for authentication alone
privacy_password = "env:DOME_SNMP_PRIV"
""",
}


def device_text(snmp: str) -> str:
    """A description to begin with, for a version of SNMP."""
    return f"""# A device under test, as Harvok asks it. docs/devices.md has every key.
format = "harvok-device"
version = 1
name = "dome-sw-a"

[snmp]
address = "192.0.2.7"
{_ASKING[snmp]}
# Which of its ports each end of a test is wired to: near and far of a test between hosts, or the ports of a rig file.
# `harvok device show FILE` lists its ports.
[ports]
near = "gi1"
far = "gi2"

[watch]
every = "500ms"                 # 100ms to 60s
"""
