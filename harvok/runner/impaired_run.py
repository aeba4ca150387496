"""A test across an impairment between two hosts that are made of this one: cause and effect without a bench."""

from collections.abc import Callable

from harvok.clock import SYSTEM, Clock
from harvok.core.impairment import ImpairmentReport
from harvok.core.models.impairment import ImpairmentFile
from harvok.host.namespaces import DEVICE_PORTS, DeviceSpec
from harvok.host.state import IMPAIRMENT_SOCKET
from harvok.rigs.impaired import ImpairedPath
from harvok.rigs.virtual import VirtualDevice
from harvok.runner.across import HOSTS, AcrossRequest, held, run_between, with_station
from harvok.runner.impair import ImpairmentControl, only_one
from harvok.runner.namespaced import ADDRESSES, host_namespaces


def run_impaired(
    file: ImpairmentFile, request: AcrossRequest, notice: Callable[[str], None], clock: Clock = SYSTEM
) -> tuple[int, ImpairmentReport | None]:
    """Runs the command across an impairment; returns its exit code, and what the bridge did meanwhile.

    Raises UsageError for a command that talks to no station, NearEndError where no virtual hosts can be made.
    """
    with_station(request.words, "")  # refused before anything is built
    spec = DeviceSpec("hosts", addresses=((ADDRESSES[0],), (ADDRESSES[1],)))
    with (
        held(request, file.name, notice, clock) as folder,
        only_one(folder / IMPAIRMENT_SOCKET) as listener,
        VirtualDevice(spec) as device,
    ):
        built = device.built
        outside = built.namespaces[:-1]
        with ImpairedPath(DEVICE_PORTS, file.plan(), [*outside, built.device]) as path:
            ImpairmentControl(listener, path, file, DEVICE_PORTS)
            near, far = host_namespaces(built.namespaces, [*outside, built.other], HOSTS)
            code = run_between(near, far, request, folder)
            return code, path.stop()
