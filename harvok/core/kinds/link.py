"""What a port negotiates while leads are plugged and moved."""

from collections.abc import Sequence

from harvok.core.judgement.finding import Finding
from harvok.core.judgement.link import judge_link
from harvok.core.kinds.kind import Conditions, Kind
from harvok.core.procedure import Findings
from harvok.core.procedures.link import LinkTest, link_test
from harvok.core.samples import Event
from harvok.core.trials.link import link_ups


def _conditions(test: LinkTest) -> Conditions:
    yield "test.kind", test.kind
    yield "test.port", test.trial.port


def _judge(test: LinkTest, findings: Findings, events: Sequence[Event]) -> list[Finding]:
    return judge_link(test.trial.port, link_ups(events), test.rated_bps, test.min_link_ups)


LINK = Kind(
    test=LinkTest,
    procedure=link_test,
    rig="port",
    quantities=("negotiated-speed-min", "link-ups", "link-flaps"),
    conditions=_conditions,
    judge=_judge,
)
