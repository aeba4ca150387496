"""Two examples for each command, shown at the end of its help. A test reads every one of them as the program would."""

EXAMPLES: dict[str, tuple[str, str]] = {
    "guide": ("guide", "guide --decide cable --station hall.example --rated 1G"),
    "station": ("station --pair", "station --browser --token-file /etc/harvok.token"),
    "pairing make": ("pairing make hall.example --code AAAA-BBBB-CCCC", "pairing make hall.example --name dome"),
    "pairing list": ("pairing list", "pairing list --json"),
    "pairing forget": ("pairing forget hall", "pairing forget dome"),
    "preflight": ("preflight hall.example --rated 1G", "preflight dome-rig.toml --json"),
    "tcp": (
        "tcp hall.example --rated 1G --repeat 5 --series before",
        "tcp hall.example --direction both --flows 4 --duration 30s",
    ),
    "udp": (
        "udp hall.example --rate 900M --duration 10s",
        "udp hall.example --rate 1G --search --resolution 1% --repeat 5",
    ),
    "app": (
        "app hall.example --mix web --users 200",
        "app hall.example --mix observatory --levels 50,100,200 --plot users.png",
    ),
    "delay": ("delay hall.example --packets 1000", "delay hall.example --load each --rated 1G"),
    "sweep": (
        "sweep hall.example --over socket-buffer=64k..4M*4",
        "sweep dome.toml --over frame-size=64,512,1518 --plot sizes.png",
    ),
    "ramp": ("ramp dome.toml --loads 10%..100%/10 --plot ramp.png", "ramp hall.toml --stream all:all --loads 50%,90%"),
    "rfc2544": (
        "rfc2544 dome.toml --repeat 5 --series before",
        "rfc2544 dome.toml all --frame-size 64 --frame-size 1518 --direction both",
    ),
    "rfc2889": (
        "rfc2889 hall.toml mesh many-to-one congestion",
        "rfc2889 hall.toml address-capacity --frame-size 64 --learning-rate 4000",
    ),
    "rfc3918": ("rfc3918 hall.toml throughput --groups 20", "rfc3918 hall.toml join-delay leave-delay"),
    "rfc9411": (
        "rfc9411 hall.example connections throughput",
        "rfc9411 gateway.toml connections --object 1k --tls",
    ),
    "impair list": ("impair list", "impair list --json"),
    "impair describe": ("impair describe metro", "impair describe ./ours.toml"),
    "impair start": ("impair start eth1 eth2 metro", "impair start eth1 eth2 metro --for 2h"),
    "impair try": ("impair try metro tcp --flows 4", "impair try clean sweep --over delay=0,5ms,20ms"),
    "impair show": ("impair show", "impair show --json"),
    "impair change": ("impair change satellite", "impair change ./ours.toml --seed 7"),
    "impair stop": ("impair stop", "impair stop --json"),
    "impair check": ("impair check dome.toml", "impair check dome.toml metro --frame-size 512"),
    "impair kernel": ("impair kernel eth1 metro", "impair kernel eth1 --clear"),
    "calibrate": ("calibrate dome.toml", "calibrate hall.toml --stream all:all --frame-size 1518"),
    "rig new": (
        "rig new dome.toml --kind ports --name dome-sw-a --rated 1G --port1 eth1 --port2 eth2",
        "rig new try.toml --kind virtual --name try-sw --rated 1G",
    ),
    "rig try": ("rig try gateway.toml tcp", "rig try gateway.toml app --mix web --users 100"),
    "rig vary": (
        "rig vary --features stateful gateway.toml tcp",
        "rig vary --features stateful,nat --repeats 5 gateway.toml app --mix web --users 100",
    ),
    "rig show": ("rig show dome.toml", "rig show dome.toml --json"),
    "device show": ("device show dome-sw-a.device.toml", "device show dome-sw-a.device.toml --json"),
    "device watch": (
        "device watch dome-sw-a.device.toml --for 5min",
        "device watch dome-sw-a.device.toml --every 1s",
    ),
    "device new": ("device new dome-sw-a.device.toml", "device new dome-sw-a.device.toml --snmp 3"),
    "device stand-in": ("device stand-in --port 16161", "device stand-in --port 16161 --refresh 5s"),
    "mix list": ("mix list", "mix list --json"),
    "mix show": ("mix show web", "mix show ./ours.toml"),
    "mix check": ("mix check web --users 500", "mix check ./ours.toml"),
    "mix new": ("mix new ours.toml", "mix new ours.toml --from observatory"),
    "plan list": ("plan list", "plan list --shared /srv/plans"),
    "plan new": (
        "plan new cable.toml --job cable --rated 1G --station hall.example",
        "plan new switch.toml --job switch --rated 1G --rig dome.toml --within 30min",
    ),
    "plan check": ("plan check cable.toml", "plan check cable.toml --json"),
    "plan show": ("plan show cable.toml", "plan show ./plans/switch.toml"),
    "run": ("run cable.toml", "run dome-switch --with asset=A-17 --unattended"),
    "site new": ("site new campus.toml", "site new campus.toml --overwrite"),
    "site check": ("site check campus.toml", "site check campus.toml --for 1d"),
    "site plan": ("site plan campus.toml", "site plan campus.toml --for 7d"),
    "site run": ("site run campus.toml --once", "site run campus.toml --page page"),
    "site status": ("site status campus.toml", "site status campus.toml --json"),
    "site page": ("site page campus.toml --to page", "site page campus.toml --to page --days 30"),
    "site unit": ("site unit campus.toml", "site unit campus.toml --user harvok"),
    "compare": ("compare before after", "compare before after --changed rig.lead --max-regression 1%"),
    "report make": (
        "report make before after --to report.html",
        "report make before after --plan cable.toml --to report.pdf",
    ),
    "report key": ("report key", "report key --json"),
    "report verify": ("report verify report.html", "report verify report.pdf --key 8933e3e6"),
    "logbook list": ("logbook list --limit 50", "logbook list --series before --json"),
    "logbook show": ("logbook show", "logbook show 20261126-101500-abcd --plot timeline.png"),
    "logbook salvage": ("logbook salvage --to salvaged.sqlite", "logbook salvage --to salvaged.sqlite --overwrite"),
    "logbook sweep": ("logbook sweep buffers", "logbook sweep buffers --plot buffers.png"),
    "logbook export": ("logbook export --to runs.jsonl", "logbook export 20261126-101500-abcd --to run.json"),
    "logbook import": ("logbook import runs.jsonl", "logbook import first.jsonl second.jsonl"),
    "logbook remove": ("logbook remove 20261126-101500-abcd", "logbook remove 20261126-101500-abcd --yes"),
    "logbook thin": ("logbook thin --older-than 90d", "logbook thin --older-than 365d --yes"),
    "logbook places": ("logbook places", "logbook places --json"),
    "logbook trend": (
        "logbook trend goodput-settled --rig 'dome to hall'",
        "logbook trend throughput --rig dome-sw-a --frame-size 64 --to trend.png",
    ),
    "ports": ("ports", "ports --neighbours 30s"),
    "ports watch": ("ports watch eth1", "ports watch eth1 --rated 1G --link-ups 10"),
    "ports pair": ("ports pair eth1 eth2 --rated 1G", "ports pair eth1 eth2 --direction both --flows 4"),
    "explain": ("explain rtt-mean", "explain head-of-line-loss"),
    "ceiling": ("ceiling 1G", "ceiling 10G --mtu 9000 --ip-version 6"),
    "demo": ("demo", "demo app"),
}


def examples_of(path: str) -> str:
    """The end of a command's help; empty for one that has no examples."""
    lines = [f"$ harvok {line}" for line in EXAMPLES.get(path, ())]
    return "\n\n".join(["Examples:", *lines]) if lines else ""
