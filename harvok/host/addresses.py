"""The addresses by which other hosts may reach this one."""

import ipaddress

import psutil


def own_addresses() -> list[str]:
    """Addresses of interfaces that are up, IPv4 first; loopback only when there is no other."""
    up = {name for name, state in psutil.net_if_stats().items() if state.isup}
    found = [
        ipaddress.ip_address(address.address.partition("%")[0])
        for name, addresses in psutil.net_if_addrs().items()
        if name in up
        for address in addresses
        if address.family.name in ("AF_INET", "AF_INET6")
    ]
    usable = [a for a in found if not a.is_loopback and not a.is_link_local]
    return [str(a) for a in sorted(usable or found, key=lambda a: (a.version, str(a)))]
