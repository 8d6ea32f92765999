"""Checks of instruments: asked for, run at the desk, kept as a history."""

import logging
from collections.abc import Iterable
from typing import Any

from django.conf import settings
from django.utils import timezone

from instruments import desk
from instruments.models import Check
from objects import core_door
from objects.errors import Busy, Refused
from objects.models import Capture, Snapshot

HISTORY = 24  # checks of a kind that are shown
FITS = 12  # passes whose fits are compared
UNEXPECTED = "The check stopped unexpectedly; the log of the live service has the details. Begin it again."
INTERRUPTED = "The check was interrupted. Begin it again."
log = logging.getLogger(__name__)


class StopCheck(Exception):
    """Somebody stopped the check."""


def begin(name: str, kind: str, who: Any) -> Check:
    """Ask for a check; raises `Refused`, or `Busy` when the instrument is checked already or driven by somebody else."""
    if kind not in core_door.checks_of(name):
        raise Refused(
            f"The {core_door.title_of(name).lower()} has no such check; it has {', '.join(core_door.checks_of(name))}."
        )
    desk.drive(name, who)
    if under_way().filter(instrument=name).exists():
        raise Busy(f"A check of the {core_door.title_of(name).lower()} is under way. Wait for it or stop it first.")
    return Check.objects.create(instrument=name, kind=kind, who=who)


def under_way() -> Any:
    """Checks that wait or run."""
    return Check.objects.exclude(state__in=Check.ENDED)


def stop(check: Check) -> None:
    """Have a check end now; nothing of it is kept but that it was begun."""
    now = timezone.now()
    Check.objects.filter(pk=check.pk, state=Check.State.WAITING).update(
        state=Check.State.STOPPED, words="Stopped", changed=now
    )
    Check.objects.filter(pk=check.pk, state=Check.State.RUNNING).update(stop_wish=True, changed=now)


def history(name: str) -> list[Check]:
    """Ended and running checks of an instrument, newest first, so many of each kind."""
    out: list[Check] = []
    for kind in core_door.checks_of(name):
        out += Check.objects.filter(instrument=name, kind=kind).select_related("who")[:HISTORY]
    return sorted(out, key=lambda c: c.created, reverse=True)


def last_words(names: Iterable[str]) -> list[str]:
    """How some instruments were checked last, a sentence for each kind of check that was ever done."""
    out = []
    for name in sorted(set(names) & set(core_door.INSTRUMENT_NAMES)):
        for kind in core_door.checks_of(name):
            check = Check.objects.filter(instrument=name, kind=kind, state=Check.State.DONE).first()
            if check is not None:
                day = f"{check.created.day} {check.created:%B %Y}"
                out.append(f"{core_door.title_of(name)}, {kind}, {day}: {check.words.rstrip('.')}.")
    return out


def due(name: str, checks: Iterable[Check]) -> list[dict[str, str]]:
    """What should be checked, in sentences; checks are the instrument's, newest first."""
    last: dict[str, tuple[float, bool]] = {}
    for check in checks:
        if check.state == Check.State.DONE and check.kind not in last:
            last[check.kind] = ((timezone.now() - check.created).total_seconds() / 86400, check.ok)
    return core_door.due(name, last, fits_of(name))


def fits_of(name: str) -> list[float]:
    """How well (mm) the frames of an instrument's newest passes fit onto each other, oldest first."""
    newest = Capture.objects.filter(instrument=name, state=Capture.State.COMPLETE).order_by("-created")
    rows = list(newest.values_list("pk", "scan_object__head_id")[:FITS])
    summaries = {s.pk: s.summary for s in Snapshot.objects.filter(pk__in={head for _, head in rows}).only("summary")}
    out = []
    for key, head in reversed(rows):
        for told in summaries.get(head, {}).get("passes", []):
            if told["capture"] == str(key) and told.get("rms_mm"):
                out.append(told["rms_mm"])
    return out


def rescue() -> None:
    """End what a live service that died left running."""
    Check.objects.filter(state=Check.State.RUNNING).update(
        state=Check.State.FAILED, words=INTERRUPTED, changed=timezone.now()
    )


def claim() -> Check | None:
    """The oldest check that waits, taken to be run; None when none waits."""
    for pk in Check.objects.filter(state=Check.State.WAITING).order_by("created").values_list("pk", flat=True):
        if Check.objects.filter(pk=pk, state=Check.State.WAITING).update(state=Check.State.RUNNING):
            return Check.objects.get(pk=pk)
    return None


def run(check: Check) -> None:
    """Run a claimed check to its end; every fault becomes a sentence."""

    def see(glance: core_door.Glance) -> None:
        outline = core_door.save_glance(glance, picture_path(check))
        check.pictures += 1
        _write(check, words=glance.words, done=glance.done, of=glance.of, outline=outline, pictures=check.pictures)
        if Check.objects.filter(pk=check.pk, stop_wish=True).exists():
            raise StopCheck

    try:
        seed = Check.objects.filter(instrument=check.instrument).count()
        ok, words, figures = core_door.run_check(
            check.kind, check.instrument, seed, lambda: desk.fault_of(check.instrument), see
        )
        _write(check, state=Check.State.DONE, ok=ok, words=words, figures=figures, outline=[])
    except StopCheck:
        _write(check, state=Check.State.STOPPED, words="Stopped", outline=[])
    except core_door.LucidRelicError as error:
        _write(check, state=Check.State.FAILED, words=str(error), outline=[])
    except Exception:
        log.exception("A check failed")
        _write(check, state=Check.State.FAILED, words=UNEXPECTED, outline=[])


def picture_path(check: Check) -> Any:
    """Where the newest picture of a check lies."""
    return settings.DATA / "cache" / f"check-{check.pk}.jpg"


def _write(check: Check, **fields: Any) -> None:
    Check.objects.filter(pk=check.pk).update(**fields, changed=timezone.now())
