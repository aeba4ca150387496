"""Application traffic: users and mixes (RFC 9411)."""

import re
from collections.abc import Sequence
from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from harvok.core.app.mix import NamedMix
from harvok.core.app.policy_file import NamedPolicy
from harvok.core.app.reading import level_names
from harvok.core.ends import PORT_STREAMS, TwoPortDirection
from harvok.core.fields import Duration
from harvok.core.judgement.finding import Finding
from harvok.core.judgement.policy import judge_policy
from harvok.core.judgement.services import judge_services
from harvok.core.kinds.kind import Conditions, Kind
from harvok.core.kinds.step import Step
from harvok.core.procedure import Findings
from harvok.core.procedures.app import AppTest, app_test
from harvok.core.procedures.app_calibration import AppCalibrationTest, calibrate_app
from harvok.core.procedures.beside import Beside
from harvok.core.procedures.rfc9411 import Rfc9411Test, rfc9411
from harvok.core.samples import Event
from harvok.core.trials.app import MAX_ARRIVALS_PER_S, MAX_USERS, Application, AppMix, AppTrial, Level
from harvok.core.udp.service_file import Service
from harvok.core.units import DURATION_FORM, format_rate, format_share, format_size, format_span, parse_duration_s
from harvok.errors import BadQuantityError

_LEVEL = re.compile(r"(\d+)/(\S+)")
_MIN_HOLD_S = 0.5


def parse_level(text: str, ramp_s: float) -> Level:
    """A level as people write it: 512/60s, users and how long they are sustained. Raises BadQuantityError."""
    match = _LEVEL.fullmatch(text.strip())
    if not match:
        raise BadQuantityError(f"'{text}' is not a level such as 512/60s", f"Give users / {DURATION_FORM}.")
    users, hold_s = int(match[1]), parse_duration_s(match[2])
    if not 1 <= users <= MAX_USERS or hold_s < _MIN_HOLD_S:
        raise BadQuantityError(
            f"'{text}' is outside 1 to {MAX_USERS} users for {_MIN_HOLD_S:g} s or more", "Give such a level."
        )
    return Level(hold_s, ramp_s, users)


class AppStep(Step):
    """Users of a mix towards the plan's station: one number of them, several levels, or arrivals."""

    test: Literal["app"]
    mix: NamedMix
    users: Annotated[int, Field(ge=1, le=MAX_USERS)] | None = None
    levels: list[str] = []
    arrivals: Annotated[float, Field(ge=0.01, le=MAX_ARRIVALS_PER_S)] | None = None
    direction: TwoPortDirection = "send"
    ramp: Duration = 5.0
    hold: Annotated[Duration, Field(ge=_MIN_HOLD_S)] = 30.0
    timeout: Annotated[Duration, Field(ge=0.1, le=600)] = 10.0
    services: Annotated[list[Service], Field(max_length=32)] = []
    delay: bool = False
    policy: NamedPolicy | None = None

    @model_validator(mode="after")
    def _says_who_is_there(self) -> Self:
        if (self.users is not None) + bool(self.levels) + (self.arrivals is not None) != 1:
            raise ValueError("give one of users, levels and arrivals")
        try:
            self.all_levels()
        except BadQuantityError as error:
            raise ValueError(f"levels: {error.message}") from error
        return self

    def all_levels(self) -> tuple[Level, ...]:
        """The levels that were asked for, one after the other. Raises BadQuantityError."""
        if self.levels:
            return tuple(parse_level(text, self.ramp) for text in self.levels)
        return (Level(self.hold, self.ramp, self.users, self.arrivals),)

    def build(self, line_bps: float = 0.0) -> AppTest:
        """The test to run."""
        streams = PORT_STREAMS[self.direction]
        trial = AppTrial(self.mix.build(), streams, self.all_levels(), self.ramp, timeout_s=self.timeout)
        return AppTest(trial, self._beside)

    @property
    def labels(self) -> dict[str, list[str]]:
        applications = self.mix.applications
        return {
            "level": level_names(self.all_levels()),
            "application": [application.name for application in applications],
            "action": [action.name for application in applications for action in application.actions],
            "service": [service.name for service in self.services],
            "check": [check.name for check in self.policy.checks] if self.policy else [],
        }

    @property
    def words(self) -> str:
        levels = ", ".join(f"{level.name} for {format_span(level.sustain_s)}" for level in self.all_levels())
        return f"mix {self.mix.name}: {levels}{self._beside_words}"

    @property
    def _beside(self) -> Beside:
        policy = self.policy.build() if self.policy else ()
        return Beside(tuple(service.build() for service in self.services), self.delay, policy)

    @property
    def _beside_words(self) -> str:
        beside = [service.name for service in self.services] + (["delay probes"] if self.delay else [])
        beside += [f"policy {self.policy.name}"] if self.policy else []
        return f"; beside it {', '.join(beside)}" if beside else ""


def mix_conditions(mix: AppMix) -> Conditions:
    """What is done by its users, so that two tests of a mix did the same."""
    yield "test.mix", mix.name
    for application, share in zip(mix.applications, mix.shares(), strict=True):
        yield f"test.mix.{application.name}", f"{share:.3f} of {mix.shared_by}, {_words(application)}"


def _conditions(test: AppTest) -> Conditions:
    trial = test.trial
    yield "test.kind", test.kind
    yield from mix_conditions(trial.mix)
    yield "test.direction", " and ".join(stream.name for stream in trial.streams)
    yield "test.levels", ", ".join(f"{level.name} for {format_span(level.sustain_s)}" for level in trial.levels)
    yield "test.timeout", format_span(trial.timeout_s)
    for spec in test.beside.services:
        size = f"{spec.frame_bytes} B frames, {spec.flows} flows, DSCP {spec.dscp or 0}"
        yield f"test.beside.{spec.name}", f"{format_rate(spec.rate_bps)}, {size}"
    for check in test.beside.policy:
        yield f"test.policy.{check.name}", f"{check.by} {check.port} must be {check.must}"
    yield "test.beside.delay-probes", "yes" if test.beside.probes else "no"


def _judge(test: AppTest, findings: Findings, events: Sequence[Event]) -> list[Finding]:
    """What services promise while users are there, and what the policy asks of the device."""
    of_services = judge_services(test.beside.services, findings.figures)
    return [*judge_policy(test.beside.policy, findings.figures), *of_services]


def _words(application: Application) -> str:
    """All that users of an application do, in a line that two of the same have alike."""
    actions = ", ".join(
        f"{action.name} × {action.times}: {action.mean_request_bytes:.0f} B up, "
        f"{action.mean_response_bytes:.0f} B down, "
        f"pause {format_span(action.mean_think_s)}, "
        f"service {format_span(action.mean_service_s)}"
        for action in application.actions
    )
    of_each = application.transactions_per_connection or "all"
    over = " over TLS" if application.tls else ""
    return f"{application.protocol}{over}, {of_each} on a connection, {application.connections} connections: {actions}"


APP = Kind(
    test=AppTest,
    procedure=app_test,
    rig="users",
    takes_events=True,
    quantities=(
        "app-goodput", "transactions-rate", "connections-rate", "open-connections", "app-throughput-l2", "packets-rate",
        "first-byte-median", "first-byte-p999", "response-median", "response-p999", "failed-transactions", "failures",
        "reset-connections", "first-byte-min", "first-byte-mean", "first-byte-max", "response-min", "response-mean",
        "response-max", "handshake-median", "handshake-p99", "tls-handshakes-rate", "tls-handshake-median",
        "tls-handshake-p99", "segments-retransmitted", "unserved-arrivals",
        "users-lag-p99", "media-loss", "media-jitter-median", "media-jitter-max", "wrong-checks", "udp-received",
        "udp-offered", "datagram-loss", "loss-run-longest",
        "socket-drops", "jitter",
        "delay-variation-median", "delay-variation-p99", "delay-variation-p999", "one-way-delay-min",
        "one-way-delay-mean", "clock-error", "udp-goodput", "datagram-duplicates", "datagram-reordered",
        "two-way-delay-median", "two-way-delay-p99", "two-way-loss", "two-way-delay-min", "two-way-delay-mean",
        "two-way-delay-max", "two-way-variation-p99",
    ),
    conditions=_conditions,
    judge=_judge,
    step=AppStep,
    drills_down=("application", "action", "service", "check"),
    held_against_calibration=False,
)  # fmt: skip


def _rfc9411_conditions(test: Rfc9411Test) -> Conditions:
    yield "test.kind", test.kind
    yield "test.cases", " ".join(test.cases)
    yield "test.objects", ", ".join(map(format_size, test.sizes)) or "those of RFC 9411"
    yield "test.sustained", format_span(test.sustain_s)
    yield "test.resolution", format_share(test.resolution)
    yield "test.timeout", format_span(test.timeout_s)
    yield "test.tls", "yes" if test.tls else "no"
    if "mix" in test.cases:
        yield "test.mix", test.mix.name
        yield "test.users", str(test.users)


RFC9411 = Kind(
    test=Rfc9411Test,
    procedure=rfc9411,
    rig="users",
    quantities=(
        "max-connections-rate", "max-app-throughput", "max-open-connections", "app-goodput", "transactions-rate",
        "connections-rate", "first-byte-median", "first-byte-p999", "response-median", "response-p999",
        "failed-transactions", "first-byte-min", "first-byte-mean", "first-byte-max", "response-min", "response-mean",
        "response-max",
    ),
    conditions=_rfc9411_conditions,
    drills_down=("case",),
    held_against_calibration=False,
)  # fmt: skip


def _calibration_conditions(test: AppCalibrationTest) -> Conditions:
    yield "test.kind", test.kind
    yield from mix_conditions(test.trial.mix)
    yield "test.max-users", str(test.max_users)


APP_CALIBRATION = Kind(
    test=AppCalibrationTest,
    procedure=calibrate_app,
    rig="stations",
    quantities=("tester-limit-transactions",),
    conditions=_calibration_conditions,
    held_against_calibration=False,
)
