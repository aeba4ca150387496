"""Where a step between two hosts runs."""

from dataclasses import replace

from harvok.core.kinds.step import Step
from harvok.core.kinds.table import kind_of
from harvok.rigs.reflected import LoadSettings
from harvok.rigs.stations import StationsSettings
from harvok.runner.benches.reflector import reflector_of
from harvok.runner.request import Place, ReflectorPlace
from harvok.station.address import parse_station


def place_between(settings: StationsSettings, step: Step) -> Place:
    """The station of a step, or its reflector; only a load needs the station itself."""
    if kind_of(step.example).rig != "reflector":
        return settings
    load = LoadSettings(getattr(step, "load_rate", None))
    if step.needs_token:
        return ReflectorPlace(settings, load=load)
    host, _ = parse_station(settings.station)
    return ReflectorPlace(replace(settings, station=host), reflector_of(settings.station), load=load)
