"""A commented rig file to start from."""

import json

from harvok.core.units import format_speed

_TEXT = """\
# A rig of Harvok. docs/rig-files.md explains every key.
version = 1
kind = "simulated"       # a modelled device between two tester ports, in virtual time
name = {name}
rated = "{rated}"             # speed of the ports
seed = 1                 # for jitter, random loss and order: the same seed gives the same run

[device]                 # what is left out has no limit, or does not happen
# forwarding_fps = 1_000_000   # frames/s that it forwards, each direction
# forwarding = "950M"          # b/s of frames that it forwards, each direction
# buffer_frames = 512          # or buffer = "256k" in bytes
# latency = "4us"              # its own, on top of the frame's length for store-and-forward
# jitter = "500ns"             # 0 to this, evenly spread
store_and_forward = true
# loss = "0.001%"              # at random
# reordering = "0.01%"
# duplication = "0%"
# loss_burst_every = "10s"     # loses everything for loss_burst, this often
# loss_burst = "5ms"
# hot_after = "30s"            # under load; its capacity then falls to hot_share
# hot_share = 0.9
# reset = "4s"                 # how long it is dead when it is reset
"""


def rig_text(name: str, rated_bps: float) -> str:
    """The text of a rig file for a device of this name and port speed."""
    return _TEXT.format(name=json.dumps(name), rated=format_speed(rated_bps).removesuffix("b/s").replace(" ", ""))
