"""What users of a mix ask of a path at most, by arithmetic: as if every answer came at once."""

from collections.abc import Iterator
from dataclasses import dataclass

from harvok.core.trials.app import Application, AppMix


@dataclass(frozen=True, slots=True)
class AppDemand:
    """What the users of an application ask for at L7, bodies only. None where they never pause, and the service takes
    no time: then they take what the path gives."""

    application: str
    transactions_per_s: float | None
    up_bps: float | None
    down_bps: float | None


def demands(mix: AppMix, users: int) -> list[AppDemand]:
    """Of each application, when so many users are there. Where weights share out transactions or bytes, each user goes
    from one application to the next, and one that never pauses is held up by those that do."""
    passes_per_s = _passes_per_s(mix, users)
    return [_demand(one, rate) for one, rate in zip(mix.applications, passes_per_s, strict=True)]


def _passes_per_s(mix: AppMix, users: int) -> Iterator[float | None]:
    lengths_s = [_pass_s(application) for application in mix.applications]
    all_s = sum(share * length_s for share, length_s in zip(mix.shares(), lengths_s, strict=True))
    for share, length_s in zip(mix.shares(), lengths_s, strict=True):
        each_s = length_s if mix.shared_by == "users" else all_s
        yield users * share / each_s if each_s else None


def _pass_s(application: Application) -> float:
    """How long all actions take once: pauses, and the service's own time, over the connections of a user."""
    return sum(
        action.mean_think_s + action.lasts_s + action.mean_service_s * max(action.times / application.connections, 1.0)
        for action in application.actions
    )


def _demand(application: Application, passes_per_s: float | None) -> AppDemand:
    if passes_per_s is None:
        return AppDemand(application.name, None, None, None)
    return AppDemand(
        application.name,
        passes_per_s * application.transactions,
        passes_per_s * application.request_bytes * 8,
        passes_per_s * application.response_bytes * 8,
    )
