"""systemd units for what stands for months: a station, and the coordinator of a site."""

import shutil
import sys
from collections.abc import Sequence
from pathlib import Path

_HARDENED = """NoNewPrivileges=yes
ProtectSystem=strict
ProtectHome=yes
PrivateTmp=yes
PrivateDevices=yes
ProtectKernelTunables=yes
ProtectKernelModules=yes
ProtectControlGroups=yes
RestrictSUIDSGID=yes
LockPersonality=yes
SystemCallArchitectures=native
RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX AF_NETLINK"""


def _program() -> str:
    return shutil.which("harvok") or str(Path(sys.executable).with_name("harvok"))


def _quoted(word: str) -> str:
    """A word of a command as systemd reads it (systemd.service(5), systemd.unit(5))."""
    escaped = word.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$")
    return escaped if escaped and set(escaped).isdisjoint(" \t'\"\\;") else f'"{escaped}"'


def _unit(what: str, words: Sequence[str], user: str, more: str = "") -> str:
    command = " ".join(map(_quoted, (_program(), *words)))
    return f"""[Unit]
Description=Harvok {what}
After=network-online.target
Wants=network-online.target

[Service]
ExecStart={command}
User={user}
EnvironmentFile=-/etc/harvok/%N.env
Environment=HARVOK_STATE_FOLDER=%S/harvok/state HARVOK_KEYS=%S/harvok/keys
StateDirectory=harvok
StateDirectoryMode=0700
Restart=on-failure
RestartSec=5
KillSignal=SIGTERM
TimeoutStopSec=60
{more}{_HARDENED}

[Install]
WantedBy=multi-user.target
"""


def station_unit(words: Sequence[str], user: str) -> str:
    """A unit for a station that is started with these words. HARVOK_TOKEN comes from its environment file."""
    return _unit("station", ("station", *words), user)


def site_unit(name: str, file: Path, user: str, shared: bool) -> str:
    """A unit that coordinates a site. HARVOK_TOKEN and HARVOK_LOGBOOK come from its environment file."""
    words = ("site", "run", str(file), *(("--shared",) if shared else ()))
    return _unit(f"coordinator of the site {name}", words, user, f"ReadOnlyPaths={file.parent}\n")
