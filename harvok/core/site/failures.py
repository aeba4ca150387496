"""Why a test between two stations did not come about, in kinds that an operator acts upon."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class FailureKind:
    """One kind: its key in records, what it is called, and what to do."""

    key: str
    name: str
    advice: str


_KINDS = (
    FailureKind("name", "name unknown", "Correct the address in the site's file, or the name service."),
    FailureKind("no-route", "no route", "Look at the routes of the router that the reason names, or of this host."),
    FailureKind("host-down", "host down", "See whether the host is up and wired."),
    FailureKind("refused", "refused", "Start `harvok station` there: the host is up, and nothing listens."),
    FailureKind("filtered-control", "control filtered", "Let the station's control port through the firewall."),
    FailureKind("filtered-data", "data filtered", "Let the station's data port, TCP and UDP, through the firewall."),
    FailureKind("busy", "station busy", "Somebody else tests there: agree on hours, or allow more time with late."),
    FailureKind("not-paired", "not paired", "Check the token, and pair: `harvok pairing make`."),
    FailureKind("version", "version", "Upgrade Harvok at the older end."),
    FailureKind("not-allowed", "not allowed", "Ask the operator of that station for what its limits forbid."),
    FailureKind("broken", "test broken", "Look at the run, as far as it came, and at both hosts."),
)
FAILURES = {kind.key: kind for kind in _KINDS}
"""Every kind, by its key."""
BROKEN = FAILURES["broken"]

_BY_REFERENCE = {
    "name-unknown": "name",
    "no-route": "no-route",
    "host-down": "host-down",
    "control-refused": "refused",
    "control-silent": "filtered-control",
    "control-rejected": "filtered-control",
    "data-blocked": "filtered-data",
    "station-busy": "busy",
    "test-running": "busy",
    "not-paired": "not-paired",
    "station-changed": "not-paired",
    "token-refused": "not-paired",
    "protocol": "version",
    "station-limit": "not-allowed",
}


def failure_of(reference: str) -> FailureKind:
    """The kind of failure that an error is, by its reference; one that broke off in mid-test, or that is none of the
    others, is a broken test."""
    return FAILURES[_BY_REFERENCE.get(reference, "broken")]
