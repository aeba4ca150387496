"""When rounds are due: words that people write, as cron expressions in a named time zone."""

import re
from collections.abc import Iterator
from datetime import datetime, time
from itertools import takewhile
from zoneinfo import ZoneInfo

from cronsim import CronSim, CronSimError

from harvok.errors import UsageError

_DAYS = {"mondays": 1, "tuesdays": 2, "wednesdays": 3, "thursdays": 4, "fridays": 5, "saturdays": 6, "sundays": 0}
_SETS = {"daily": "*", "weekdays": "1-5", "weekends": "0,6"} | {name: str(number) for name, number in _DAYS.items()}
_EVERY = re.compile(r"^every (?:(?P<number>\d+) ?)?(?P<unit>min|minutes?|h|hours?)$")
_ON = re.compile(rf"^(?P<days>{'|'.join(_SETS)}) (?P<hour>\d\d?):(?P<minute>\d\d)$")
_HOURS = re.compile(r"^(\d\d?):(\d\d)-(\d\d?):(\d\d)$")
_FORM = 'Write it as "every hour", "every 15min", "daily 04:30", "weekdays 12:00", "sundays 02:00", or as cron does.'
_DAY_MINUTES = 24 * 60


def cron_expression(text: str) -> str:
    """The five fields of cron that a time stands for, as people write it. Raises UsageError."""
    words = " ".join(text.split()).lower()
    if every := _EVERY.match(words):
        return _every(text, int(every["number"] or 1), every["unit"].startswith("h"))
    on = _ON.match(words)
    fields = f"{int(on['minute'])} {int(on['hour'])} * * {_SETS[on['days']]}" if on else words
    try:
        CronSim(fields, datetime(2026, 1, 1))
    except CronSimError as error:
        raise UsageError(f"'{text}' is no time at which a round could be due", _FORM) from error
    return fields


def _every(text: str, number: int, hours: bool) -> str:
    whole = 24 if hours else 60
    if not number or whole % number:
        raise UsageError(
            f"'{text}' would drift: {whole} {'hours' if hours else 'minutes'} are no multiple of it",
            f"Take a number that divides {whole}, or write it as cron does.",
        )
    step = "*" if number == 1 else f"*/{number}"
    return f"0 {step} * * *" if hours else f"{step} * * * *"


def due_times(expression: str, zone: ZoneInfo, after: datetime, until: datetime) -> Iterator[datetime]:
    """The moments of a cron expression after one moment and up to another, by the clocks of a zone: what falls into
    the hour that daylight saving leaves out is due right after it, and what comes twice is due once."""
    begins = after.astimezone(zone)
    return takewhile(lambda due: due <= until, iter(CronSim(expression, begins)))


def parse_hours(text: str) -> tuple[time, time]:
    """From when to when, "22:00-06:00"; it may go over midnight. Raises UsageError."""
    found = _HOURS.match(text.strip())
    try:
        hour, minute, to_hour, to_minute = map(int, found.groups()) if found else (24, 0, 0, 0)
        begins, ends = time(hour, minute), time(to_hour % 24, to_minute)
    except ValueError:
        begins = ends = time(0)
    if begins == ends:
        raise UsageError(f"'{text}' are no hours from when to when", 'Write them as "22:00-06:00".')
    return begins, ends


def is_within(moment: datetime, hours: tuple[time, time]) -> bool:
    """Whether a moment, by its own clock, is in these hours."""
    begins, ends = hours
    at = moment.time()
    return begins <= at < ends if begins < ends else at >= begins or at < ends
