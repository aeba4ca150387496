"""Every kind of trial, and every kind of answer to one."""

from harvok.core.trials.delay import DelayTrial, DelayTrialResult
from harvok.core.trials.frames import FrameTrial, FrameTrialResult
from harvok.core.trials.link import LinkTrial, LinkTrialResult
from harvok.core.trials.tcp import TcpTrial, TcpTrialResult
from harvok.core.trials.udp import UdpTrial, UdpTrialResult

Trial = TcpTrial | UdpTrial | FrameTrial | DelayTrial | LinkTrial
TrialResult = TcpTrialResult | UdpTrialResult | FrameTrialResult | DelayTrialResult | LinkTrialResult
