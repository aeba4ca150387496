"""Records of version 1, as Harvok 0.1 wrote them, made into records of version 2.

Version 2 renamed what version 1 called least and most to min and max, in figure keys and in fields; it made of the four
modes of a UDP test four kinds; and it puts everything that was seen while a trial ran into samples and events on one
time axis. Version 1 did not record how its halves lay on such an axis: each begins at its origin here. Nothing else
changed its meaning, and nothing is lost.
"""

from collections.abc import Iterable, Iterator
from dataclasses import asdict
from typing import Any

from harvok.core.ends import TWO_WAY, CpuUse
from harvok.core.samples import Sample, in_columns
from harvok.core.trials.delay import Echo
from harvok.core.trials.link import link_event
from harvok.core.trials.tcp import TcpInfo, TcpInterval
from harvok.core.trials.udp import UdpInterval

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
    new["trials"] = [_trial(one) for one in new.get("trials", [])]
    for figure in new.get("figures", []):
        figure["quantity"] = FIGURE_KEYS.get(figure["quantity"], figure["quantity"])
    test = new.get("test", {})
    if test.get("kind") == "udp":
        new["test"] = _udp_test(test)
    return new


def upgraded_fields(part: Any) -> Any:
    """Any part of a record with the field names of version 2."""
    if isinstance(part, list):
        return [upgraded_fields(one) for one in part]
    if not isinstance(part, dict):
        return part
    return dict(_field(key, value) for key, value in part.items())


def _field(key: str, value: Any) -> tuple[str, Any]:
    """A field with its name of version 2; directions that were asked for are streams."""
    if key == "directions" and all(isinstance(one, str) for one in value):
        return "streams", [asdict(TWO_WAY[one]) for one in value]
    return _FIELDS.get(key, key), value if key in _FREE else upgraded_fields(value)


def upgraded_entry(entry: dict[str, Any], trial: dict[str, Any] | None) -> dict[str, Any]:
    """An entry of a journal, whose trial is known unless it begins one."""
    new = upgraded_fields(entry)
    if trial is None:
        return {"trial": new}
    if "role" in new:
        return {"samples": _columns(_of_intervals([new], trial))}
    seen = _trial({"trial": trial, "result": new})
    return {key: seen[key] for key in ("result", "samples", "events")}


def _trial(old: dict[str, Any]) -> dict[str, Any]:
    """A trial with its time series in samples and events."""
    trial, result = old["trial"], old.get("result")
    samples = list(_of_intervals(old.get("intervals", []), trial))
    events: list[dict[str, Any]] = []
    if result:
        result = dict(result)
        for direction in result.get("directions", []):
            for half in ("sender_intervals", "receiver_intervals"):
                samples += _of_intervals(direction.pop(half, []), trial)
        samples += [sample for echo in result.pop("echoes", []) for sample in Echo(**echo).samples(0.0)]
        if trial["kind"] == "link":
            events = [asdict(link_event(port=trial["port"], **event)) for event in result.pop("events", [])]
            result["link_ups"] = sum(event["name"] == "up" for event in events)
    return {"trial": trial, "result": result, "samples": _columns(samples), "events": events}


def _of_intervals(intervals: Iterable[dict[str, Any]], trial: dict[str, Any]) -> Iterator[Sample]:
    for interval in intervals:
        source = TWO_WAY[interval["direction"]].end_of(interval["role"])
        known = interval | {"cpu": CpuUse(**interval["cpu"]) if interval.get("cpu") else None}
        if "ticks" in interval:
            infos = [TcpInfo(**info) for info in interval["tcp"]]
            yield from TcpInterval(**known | {"tcp": infos}).samples(source, 0.0)
        else:
            service = trial["services"][interval["service"]].get("name", "")
            yield from UdpInterval(**known).samples(source, 0.0, service)


def _columns(samples: Iterable[Sample]) -> list[dict[str, Any]]:
    return [asdict(columns) for columns in in_columns(samples)]


def _udp_test(test: dict[str, Any]) -> dict[str, Any]:
    mode = test.get("mode", "load")
    kept = ("direction", "trial", "services", *_UDP_FIELDS[mode])
    return {key: test[key] for key in kept if key in test} | {"kind": f"udp-{mode}"}
