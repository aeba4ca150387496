"""Switches off what makes an interface hand on several frames as one, and puts it back as it was.

What an interface had is written down, so that the next `harvok` command puts it back should this one be killed.
"""

import contextlib
from collections.abc import Iterator, Mapping, Sequence

from harvok.host.state import read_cleanup, remove_state, write_cleanup

_COALESCING = ("rx-gro", "rx-lro", "rx-gro-hw")

Features = dict[str, dict[str, bool]]
"""For each interface the features that were changed, and what they were."""


@contextlib.contextmanager
def one_frame_at_a_time(ports: Sequence[str], notes: str) -> Iterator[None]:
    """Lets the ports hand on every frame by itself, as long as this lasts."""
    before: Features = {port: switch(port, dict.fromkeys(_COALESCING, False)) for port in ports}
    before = {port: changed for port, changed in before.items() if changed}
    if not before:
        yield
        return
    write_cleanup(notes, {"features": before})
    try:
        yield
    finally:
        for port, features in before.items():
            switch(port, features)
        remove_state(notes)


def switch(port: str, wanted: Mapping[str, bool]) -> dict[str, bool]:
    """Sets features of an interface (ethtool), those that it has and that are not so already; returns what they were.

    A feature that the driver does not let go of stays as it is.
    """
    from pyroute2 import Ethtool
    from pyroute2.ethtool.ioctl import EthtoolError

    changed: dict[str, bool] = {}
    try:
        with contextlib.closing(Ethtool()) as driver:
            features = driver.get_features(port)
            for name, on in wanted.items():
                known = features.features.get(name)
                if known is not None and bool(known.enable) != on:
                    changed[name] = bool(known.enable)
                    known.enable = on
            if changed:
                driver.set_features(port, features)
    except (EthtoolError, OSError):
        return {}
    return changed


def restore_features(notes: str) -> list[str]:
    """Puts back what a killed process left changed; returns the names of the interfaces."""
    reported = read_cleanup(notes)
    if reported is None:
        return []
    try:
        for port, features in reported["features"].items():
            switch(str(port), {str(name): bool(on) for name, on in features.items()})
    except (TypeError, KeyError, AttributeError):
        return []
    remove_state(notes)
    return list(reported["features"])
