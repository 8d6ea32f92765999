"""What single frames of a pass show: photographs too bright or too dark, and surface that gave no answer."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from lucid_relic.desk.forecast import body_in_view
from lucid_relic.errors import StepNotPossible
from lucid_relic.inspection.findings import finding
from lucid_relic.planning.drop_out import ADVICE, REASONS, DropOut, drop_out
from lucid_relic.types import Instrument, PassState, ScanState, Shutter

LOOKED_AT = 6  # frames of a pass: what is wrong with its light or its surface shows in all of them
CLIPPED, BRIGHT = 254, 0.05  # sRGB byte of a pixel that is clipped; share of the object from which it is told
BLACK, DARK = 10, 0.5  # sRGB byte under which nothing can be told apart; share of the object from which it is told
LOST = 0.08  # share of the object in view that gave no answer, from which it is told
LASTING = ("dark", "glossy", "clear", "range")  # reasons that another side does not mend by itself
WORDS = {
    "dark": "it is too dark for the light",
    "glossy": "it shines",
    "clear": "light goes through it",
    "range": "it lies out of the working band",
}


def _looked_at(scan: PassState) -> list[int]:
    used = scan.frames_used()
    return [int(used[k]) for k in np.unique(np.linspace(0, len(used) - 1, min(LOOKED_AT, len(used))).astype(int))]


@dataclass(frozen=True)
class Light:
    """Shares (0-1) of the object in view whose photograph is clipped, and black."""

    bright: float
    dark: float


def light_of(scan: PassState) -> Light | None:
    """How the photographs of a pass were exposed, on the object alone; None when it has none."""
    bright = dark = count = 0
    for index in _looked_at(scan):
        image = scan.colour_in_depth_view(index)
        if image is None:
            return None
        kept = scan.keep_mask(index)
        own = scan.source.depth(index) > 0
        lightest = image[own if kept is None else own & kept].max(axis=1, initial=0)
        bright += int((lightest >= CLIPPED).sum())
        dark += int((lightest <= BLACK).sum())
        count += len(lightest)
    return Light(bright / count, dark / count) if count else None


def exposures(state: ScanState) -> list[dict[str, Any]]:
    """Passes whose photographs are too bright or too dark."""
    out = []
    for scan in state.passes:
        light = light_of(scan) if scan.cloud is None and scan.keep is not None else None
        if light is None:
            continue
        if light.bright > BRIGHT:
            out.append(finding("exposure", "capture", f"“{scan.title}” is too bright",
                               "That share of the object is clipped in its photographs: its colour is lost there. Less exposure, or several merged.",
                               f"{light.bright:.0%}", about=scan.title))  # fmt: skip
        elif light.dark > DARK:
            out.append(finding("exposure", "capture", f"“{scan.title}” is too dark",
                               "That share of the object is black in its photographs. More exposure or light.",
                               f"{light.dark:.0%}", about=scan.title))  # fmt: skip
    return out


def drop_outs(state: ScanState, sheets: Sequence[Instrument]) -> list[dict[str, Any]]:
    """Passes in whose frames a part of the object gave no answer, with the reason that cost most."""
    out = []
    for scan, sheet in zip(state.passes, sheets, strict=True):
        if scan.cloud is not None or not scan.posed:
            continue
        shares = _lost(scan, sheet)
        if not shares:
            continue
        lost = sum(shares[name] for name in LASTING)
        if lost <= LOST:
            continue
        worst = max(LASTING, key=lambda name: shares[name])
        out.append(finding("drop-out", "capture", f"Part of the object gave no answer in “{scan.title}”",
                           f"For the most part {WORDS[worst]}. {ADVICE[worst]}", f"{lost:.0%}", about=scan.title))  # fmt: skip
    return out


def _lost(scan: PassState, sheet: Instrument) -> dict[str, float]:
    """Share (0-1) of the object that was not measured, by reason, in the mean of some frames."""
    found: list[DropOut] = []
    for index in _looked_at(scan):
        try:
            body = body_in_view(scan, index)
        except StepNotPossible:
            continue
        colour = scan.colour_in_depth_view(index)
        if colour is not None and scan.colour_camera is None:
            found.append(drop_out(body.surface, colour, sheet, Shutter(), body.plate, body.above_mm))
    return {name: float(np.mean([f.shares[name] for f in found])) for name in REASONS} if found else {}
