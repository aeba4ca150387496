"""Reads a file of services."""

from pathlib import Path

from harvok.core.udp.service_file import SERVICES_FILE
from harvok.core.udp.services import ServiceSpec
from harvok.errors import ServicesFileError
from harvok.rigs.files import read_toml

_HINT = "docs/guide.md has a file of services to start from, with every key."


def read_services(path: Path) -> tuple[ServiceSpec, ...]:
    """The services of a file. Raises ServicesFileError, naming line and key."""
    file = read_toml(path, SERVICES_FILE, "services", _HINT, ServicesFileError)
    return tuple(service.build() for service in file.services)
