"""Every command: its name, the module that holds it, and its one-line summary. A command is loaded when it is used.

Each module has `app`, a typer.Typer with one command, or with several for a group.
"""

from typing import NamedTuple


class Row(NamedTuple):
    """One command of the program."""

    module: str
    summary: str


COMMANDS: dict[str, Row] = {
    "guide": Row("harvok.cli.commands.guide", "Ask what is to be decided, and lead to a verdict."),
    "station": Row("harvok.cli.commands.station", "Make this host the far end of tests."),
    "pairing": Row("harvok.cli.commands.pairing", "Make stations and near ends known to each other."),
    "preflight": Row("harvok.cli.commands.preflight", "Look for what could spoil a test, before it is run."),
    "tcp": Row("harvok.cli.commands.tcp", "Measure TCP goodput to and from a station."),
    "udp": Row("harvok.cli.commands.udp", "Send numbered datagrams: rate, loss, order, jitter, delay."),
    "app": Row("harvok.cli.commands.app", "Have users of applications talk to a station (RFC 9411)."),
    "delay": Row("harvok.cli.commands.delay", "Measure two-way delay (STAMP or echo), idle and under load."),
    "sweep": Row("harvok.cli.commands.sweep", "Vary settings, loads, delay or loss, against a baseline."),
    "ramp": Row("harvok.cli.commands.ramp", "Take a device through a range of loads: loss and delay over load."),
    "rfc2544": Row("harvok.cli.commands.rfc2544", "Benchmark a device between two ports (RFC 2544)."),
    "rfc2889": Row("harvok.cli.commands.rfc2889", "Benchmark a switch between many ports (RFC 2889)."),
    "rfc3918": Row("harvok.cli.commands.rfc3918", "Benchmark multicast from one port to others (RFC 3918)."),
    "rfc9411": Row("harvok.cli.commands.rfc9411", "Search what a device carries of application traffic (RFC 9411)."),
    "impair": Row("harvok.cli.commands.impair", "Put delay, loss and their like on a path on purpose."),
    "calibrate": Row("harvok.cli.commands.calibrate", "Measure what this tester itself can do on a rig."),
    "rig": Row("harvok.cli.commands.rig", "Write, check and show rig files."),
    "device": Row("harvok.cli.commands.device", "Ask the device under test what it is and what it counts."),
    "mix": Row("harvok.cli.commands.mix", "Write, check and show mixes of applications."),
    "plan": Row("harvok.cli.commands.plan", "List, write, check and show plans."),
    "run": Row("harvok.cli.commands.run", "Run a plan and say ACCEPT, REJECT or RETEST."),
    "site": Row("harvok.cli.commands.site", "Test many stations on a schedule: check it, run it, see how it goes."),
    "compare": Row("harvok.cli.commands.compare", "Compare two series and say ACCEPT, REJECT or RETEST."),
    "report": Row("harvok.cli.commands.report", "Write reports, and check them against the logbook."),
    "logbook": Row("harvok.cli.commands.logbook", "List, show, export, import and remove runs."),
    "ports": Row("harvok.cli.commands.ports", "Show this host's interfaces, and what may hold one down."),
    "explain": Row("harvok.cli.commands.explain", "Explain a figure, a limiter, an error or a term."),
    "ceiling": Row("harvok.cli.commands.ceiling", "Print what the arithmetic allows for a line rate."),
    "demo": Row("harvok.cli.commands.demo", "Show the whole job on this host alone, in under a minute."),
}

GROUPS: dict[str, tuple[str, ...]] = {
    "Begin": ("guide", "demo", "explain", "ceiling"),
    "Prepare": ("station", "pairing", "rig", "device", "mix", "plan", "ports", "preflight", "calibrate"),
    "Measure between hosts": ("tcp", "udp", "delay", "app", "rfc9411", "sweep", "impair"),
    "Measure between ports": ("rfc2544", "rfc2889", "rfc3918", "ramp"),
    "Decide": ("run", "compare", "site"),
    "Keep": ("logbook", "report"),
}
"""The commands as the help shows them, in the order of the work."""
