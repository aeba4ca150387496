"""Records of version 1, as Harvok 0.1 wrote them, made into records of version 2.

Version 2 renamed what version 1 called least and most to min and max, in figure keys and in fields; and it made of the
four modes of a UDP test four kinds. Nothing else changed its meaning, so nothing is lost.
"""

from typing import Any

FIGURE_KEYS = {
    "burst-least": "burst-min",
    "burst-most": "burst-max",
    "delay-floor": "delay-floor-min",
    "latency-least": "latency-min",
    "latency-most": "latency-max",
    "negotiated-speed-least": "negotiated-speed-min",
    "one-way-delay-least": "one-way-delay-min",
    "rtt-least": "rtt-min",
    "two-way-delay-least": "two-way-delay-min",
    "two-way-delay-most": "two-way-delay-max",
}
"""Figure keys of version 1 that have another name now."""

_FIELDS = {
    "least_s": "min_s",
    "most_s": "max_s",
    "least_link_ups": "min_link_ups",
    "least_rtt_us": "min_rtt_us",
    "least_transit_s": "min_transit_s",
    "most_transit_s": "max_transit_s",
    "receive_most_bytes": "receive_max_bytes",
    "send_most_bytes": "send_max_bytes",
}
_FREE = ("attributes", "labels", "command")
"""Parts whose words are the user's own."""
_UDP_FIELDS = {
    "load": (),
    "steps": ("shares", "continuous"),
    "search": ("resolution", "loss_tolerance"),
    "services": ("together_s",),
}
"""What a UDP test of version 1 had for each mode; it carried the fields of the other modes as well, unused."""


def upgraded_record(record: dict[str, Any]) -> dict[str, Any]:
    """The record of a run with the names of version 2; one of version 2 as it is."""
    if record.get("version") != 1:
        return record
    new: dict[str, Any] = upgraded_fields(record) | {"version": 2}
    for figure in new.get("figures", []):
        figure["quantity"] = FIGURE_KEYS.get(figure["quantity"], figure["quantity"])
    test = new.get("test", {})
    if test.get("kind") == "udp":
        new["test"] = _udp_test(test)
    return new


def upgraded_fields(part: Any) -> Any:
    """Any part of a record, or an entry of a journal, with the field names of version 2."""
    if isinstance(part, list):
        return [upgraded_fields(one) for one in part]
    if not isinstance(part, dict):
        return part
    return {_FIELDS.get(key, key): value if key in _FREE else upgraded_fields(value) for key, value in part.items()}


def _udp_test(test: dict[str, Any]) -> dict[str, Any]:
    mode = test.get("mode", "load")
    kept = ("direction", "trial", "services", *_UDP_FIELDS[mode])
    return {key: test[key] for key in kept if key in test} | {"kind": f"udp-{mode}"}
