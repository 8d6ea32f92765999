"""What of an object gave no answer in one frame of a pass, and why: over its photograph, with what helps."""

import numpy as np

from lucid_relic.desk.forecast import body_in_view
from lucid_relic.errors import InputError, StepNotPossible
from lucid_relic.planning.drop_out import ADVICE, drop_out
from lucid_relic.types import Instrument, PassState, Shutter
from lucid_relic.view.packing import pack_arrays

WIDEST_PX = 400  # of the photograph as it is shown
LEAST = 0.002  # share of the object from which a reason is told
WORDS = {
    "dark": "too dark for the light",
    "glossy": "it shines",
    "clear": "light goes through it",
    "steep": "seen from the side",
    "range": "out of the working band",
    "hidden": "no projected light reaches it",
}
NO_PHOTOGRAPH = "This pass has no photographs by the depth camera itself: what gave no answer cannot be told from what is not there."


def packed_unanswered(scan: PassState, index: int, sheet: Instrument) -> bytes:
    """Head: number of frames, width of the photograph, share of the object in view without an answer, and by reason, the
    costliest first, with words and advice; why nothing can be told, or empty. Arrays: photograph (h, w, 3), reason (h, w)
    as `DropOut` has it. The usual exposure is assumed: captures do not tell theirs.

    Raises `InputError` when the pass has no such frame.
    """
    if scan.cloud is not None or not 0 <= index < scan.frame_count:
        raise InputError(f"“{scan.title}” has no frame {index + 1}.")
    nothing = {"frames": scan.frame_count, "width": 0, "lost": 0.0, "reasons": []}
    colour = scan.colour_in_depth_view(index)
    if colour is None or scan.colour_camera is not None:
        return pack_arrays({**nothing, "why": NO_PHOTOGRAPH}, {})
    try:
        body = body_in_view(scan, index)
    except StepNotPossible as why:
        return pack_arrays({**nothing, "why": str(why)}, {})
    found = drop_out(body.surface, colour, sheet, Shutter(), body.plate, body.above_mm)
    told = sorted(((s, n) for n, s in found.shares.items() if s >= LEAST), reverse=True)
    reasons = [{"name": n, "share": round(s, 4), "words": WORDS[n], "advice": ADVICE[n]} for s, n in told]
    every = -(-colour.shape[1] // WIDEST_PX)
    arrays = {"photograph": colour[::every, ::every], "reason": found.reason[::every, ::every]}
    wide = arrays["reason"].shape[1]
    head = {"frames": scan.frame_count, "width": wide, "why": "", "lost": round(found.lost, 4), "reasons": reasons}
    return pack_arrays(head, {name: np.ascontiguousarray(a) for name, a in arrays.items()})
