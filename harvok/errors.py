"""Every error that Harvok raises on purpose, named by who must act. This module imports nothing of Harvok's.

An error carries one clear sentence (what happened, with what was got and what was wanted), a hint (what to do
next), a stable kebab-case reference that scripts may match, and the exit code that the program ends with.
Every class survives pickling, because workers send theirs home.
"""

from typing import ClassVar


class HarvokError(Exception):
    """Base of all errors that a user may see. `message` says what happened, `hint` what to do about it."""

    reference: ClassVar[str] = "harvok-error"
    exit_code: ClassVar[int] = 4

    def __init__(self, message: str, hint: str) -> None:
        super().__init__(message, hint)
        self.message = message
        self.hint = hint

    def __str__(self) -> str:
        return self.message


# --- the person at the keyboard must act -------------------------------------------------------------------


class UsageError(HarvokError):
    """What was asked for makes no sense, or cannot be done as asked. Raised before anything is sent."""

    reference = "wrong-usage"
    exit_code = 2


class BadQuantityError(UsageError):
    """A rate, size or time was not written in a form that Harvok reads."""

    reference = "bad-quantity"


class NothingFoundError(UsageError):
    """A run, a series or a file that was named does not exist."""

    reference = "nothing-found"


class RigFileError(UsageError):
    """A rig file cannot be used as it is."""

    reference = "rig-file"


class ServicesFileError(UsageError):
    """A file of services cannot be used as it is."""

    reference = "services-file"


class MixError(UsageError):
    """A mix of applications cannot be used as it is."""

    reference = "mix"


class PolicyError(UsageError):
    """A policy cannot be used as it is."""

    reference = "policy"


class ImpairmentError(UsageError):
    """An impairment is not known, or its file cannot be used as it is."""

    reference = "impairment"


class DeviceFileError(UsageError):
    """A description of a device cannot be used as it is."""

    reference = "device-file"


class SiteError(UsageError):
    """A site's file cannot be used as it is."""

    reference = "site"


class PlanError(UsageError):
    """A plan cannot be used as it is."""

    reference = "plan"


# --- the near end must act ---------------------------------------------------------------------------------


class NearEndError(HarvokError):
    """This host could not do its part."""

    reference = "near-end"


class TestRunningError(NearEndError):
    """Another Harvok test holds this host; two at once would spoil each other."""

    reference = "test-running"


class UnsupportedError(NearEndError):
    """This operating system lacks what was asked for."""

    reference = "unsupported-here"


class TesterLimitError(NearEndError):
    """The tester cannot do what a trial asks for, so nothing can be said about the device. `held_share` is how much of
    the intended load it held at best; 1 when the load was not what it lacked."""

    reference = "tester-limit"

    def __init__(self, message: str, hint: str, held_share: float = 1.0) -> None:
        super().__init__(message, hint)
        self.held_share = held_share

    def __reduce__(self) -> tuple[type, tuple[str, str, float]]:
        return type(self), (self.message, self.hint, self.held_share)


class StateError(NearEndError):
    """A file or folder that Harvok keeps state in is not this user's own, so that it cannot be believed."""

    reference = "state-file"


class WorkerLostError(HarvokError):
    """A process of the tester's own ended though nobody asked it to, so that what was measured says nothing about the
    equipment; at either end."""

    reference = "worker-lost"


class PortError(NearEndError):
    """An interface of this host cannot be a tester port as it is."""

    reference = "port"


class BrowserLostError(NearEndError):
    """A browser that measured went away, or did not do what its page asks of it."""

    reference = "browser-lost"


class BrokenOffError(NearEndError):
    """The person broke the test off; what was measured is kept."""

    reference = "broken-off"


# --- the far end, or the path to it, must be looked at -----------------------------------------------------


class FarEndError(HarvokError):
    """The station could not do its part, or cannot be reached."""

    reference = "far-end"


class UnknownNameError(FarEndError):
    """The station's name does not resolve to an address."""

    reference = "name-unknown"


class RefusedError(FarEndError):
    """The host answers, and nothing listens on the control port."""

    reference = "control-refused"


class SilentError(FarEndError):
    """Nothing at all came back from the control port, though the host may be there."""

    reference = "control-silent"


class RejectedError(FarEndError):
    """A firewall, at the host or on the way, rejects control connections and says so."""

    reference = "control-rejected"


class NoRouteError(FarEndError):
    """There is no way to the station's address, as this host or a router says."""

    reference = "no-route"


class HostDownError(FarEndError):
    """Nothing answers at the station's address: not the control port, and no ping."""

    reference = "host-down"


class DataBlockedError(FarEndError):
    """Control works and data connections do not."""

    reference = "data-blocked"


class TokenError(FarEndError):
    """The station did not accept the token."""

    reference = "token-refused"


class BusyError(FarEndError):
    """The station serves somebody else; it should be free again in `free_in_s` seconds."""

    reference = "station-busy"

    def __init__(self, message: str, hint: str, free_in_s: float = 0.0) -> None:
        super().__init__(message, hint)
        self.free_in_s = free_in_s


class LimitError(FarEndError):
    """The station's operator does not allow a test of this size."""

    reference = "station-limit"
    exit_code = 2


class ProtocolError(FarEndError):
    """The far end answered something that this version of Harvok does not understand."""

    reference = "protocol"


class PairingError(FarEndError):
    """The two ends of a test are not known to each other."""

    reference = "not-paired"


class StationChangedError(PairingError):
    """A station shows another certificate than the one that it is known by."""

    reference = "station-changed"


class StationLostError(FarEndError):
    """The station went away in mid-test."""

    reference = "station-lost"


class FlowBrokenError(FarEndError):
    """A data connection broke in mid-test."""

    reference = "flow-broken"


class NothingForwardedError(FarEndError):
    """The device between the ports forwards nothing."""

    reference = "nothing-forwarded"


class DeviceSilentError(FarEndError):
    """The device under test does not answer when it is asked what it counts."""

    reference = "device-silent"


class DeviceRefusedError(FarEndError):
    """The device under test answers, and does not do or tell what it is asked."""

    reference = "device-refused"


# --- the logbook -------------------------------------------------------------------------------------------


class LogbookError(HarvokError):
    """The logbook cannot be read or written."""

    reference = "logbook"


class LogbookNewerError(LogbookError):
    """The logbook or record was written by a newer Harvok."""

    reference = "logbook-newer"


class NotKeptError(LogbookError):
    """A run was measured and its record is not in the logbook, but in a file."""

    reference = "not-kept"


class RecordError(LogbookError):
    """A file does not hold a record that this version of Harvok reads."""

    reference = "record-unreadable"
    exit_code = 2
