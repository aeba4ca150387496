"""What every rig for frames must do: a conformance check that new rigs pass before they are done."""

from harvok.core.ends import RECEIVE, SEND
from harvok.core.observer import Observer
from harvok.core.trials.frames import FrameTrial, LoadStep
from harvok.rigs.frame_rigs import FrameRig

_LOAD = LoadStep(1000.0, 0.3)
_ROUNDING = 16  # frames: trials of several steps are rounded to whole batches


def check_rig(rig: FrameRig, loss_allowed: int = 0) -> list[str]:
    """Runs a few short trials on a rig that forwards a thousand frames a second, and returns what is wrong with its
    answers, in sentences; an empty list is a pass. How well it holds a load is not asked: that is for a calibration."""
    one_way = FrameTrial((128,), (_LOAD,), pause_s=0.0)
    return [
        *_check(rig, one_way, loss_allowed),
        *_check(rig, FrameTrial((128,), (_LOAD,), (RECEIVE, SEND), pause_s=0.0), loss_allowed),
        *_check(rig, FrameTrial((128, 512, 1518), (_LOAD,), burst_frames=16, pause_s=0.0), loss_allowed),
        *_check(rig, FrameTrial((128,), (_LOAD,), address_pairs=50, pause_s=0.0), loss_allowed),
        *_check(rig, FrameTrial((128,), (_LOAD, LoadStep(200.0, 0.3)), pause_s=0.0), loss_allowed),
        *_check(rig, FrameTrial((128,), (_LOAD,), tag_at_s=0.1, tags=20, pause_s=0.0), loss_allowed),
    ]


def _check(rig: FrameRig, trial: FrameTrial, loss_allowed: int) -> list[str]:
    """One trial and what its answer must be like."""
    result = rig.run(trial, Observer())
    wrong = []
    if [one.direction for one in result.directions] != [stream.name for stream in trial.streams]:
        wrong.append("one result for each direction, in the order asked for")
    intended = sum(step.load_fps * step.duration_s for step in trial.steps)
    before = (
        trial.steps[0].load_fps * (trial.tag_at_s or 0.0) if trial.tags else intended
    )  # frames that none is tagged of
    for one in result.directions:
        truths = {
            f"{one.sent_frames} sent of {intended:g} intended": 0 < one.sent_frames <= intended + _ROUNDING,
            f"{one.lost_frames} lost, {one.received_frames} received": 0 <= one.lost_frames <= loss_allowed,
            f"sending took {one.sending_s} s": 0 < one.sending_s < 2 * trial.duration_s,
            f"delays {one.delay}": bool(one.delay and 0 < one.delay.min_s <= one.delay.mean_s <= one.delay.max_s),
            f"{len(one.tagged_delays_s)} tagged of {trial.tags}": bool(one.tagged_delays_s)
            == (one.sent_frames > before),
            "a last loss goes with a loss": bool(one.lost_frames) == (one.last_loss_s is not None),
            "no frame is of the tester's own doing": not (one.duplicates or one.reordered or one.looped_frames),
        }
        wrong += [f"{trial}: {what}" for what, true in truths.items() if not true]
    return wrong
