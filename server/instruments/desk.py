"""The desk: which instruments are connected, who drives them, and what is wrong with them just now."""

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from typing import Any

from django.db import transaction
from django.utils import timezone

from instruments.models import Check, NamedSetUp, Stand
from objects import core_door
from objects.errors import Busy, Refused

OF_ONE_PASS = ("title", "model", "hold")  # of a set-up, which the next pass does not take over
IDLE_MINUTES = 10  # after which an instrument is nobody's


def stands() -> dict[str, Stand]:
    """How each instrument stands, by its name."""
    known = {s.name: s for s in Stand.objects.select_related("driver", "asked_by")}
    return {name: known.get(name) or Stand(name=name) for name in core_door.INSTRUMENT_NAMES}


def driver_of(stand: Stand) -> Any:
    """Who drives an instrument; None when nobody does, or has not for some minutes."""
    fresh = stand.driven and timezone.now() - stand.driven < timedelta(minutes=IDLE_MINUTES)
    return stand.driver if fresh else None


def connect(name: str, who: Any, connected: bool) -> None:
    """Connect an instrument, or let it go."""
    with _standing(name, who) as stand:
        stand.connected = connected
        stand.asked_by = None
        if not connected:
            stand.driver = None


def provoke(name: str, who: Any, fault: str) -> None:
    """Provoke a fault in a stand-in, or with an empty name put it right."""
    if fault and fault not in core_door.FAULTS:
        raise Refused(f"There is no such fault; there are {', '.join(core_door.FAULTS)}.")
    with _standing(name, None) as stand:
        stand.fault = fault


def drive(name: str, who: Any) -> None:
    """Take an instrument for a pass or a check; raises `Refused` when it is not connected, `Busy` when another drives it."""
    with _standing(name, who) as stand:
        if not stand.connected:
            raise Refused(f"The {core_door.title_of(name).lower()} is not connected. Connect it under Instruments.")
        stand.driver, stand.driven, stand.asked_by = who, timezone.now(), None


def ask(name: str, who: Any) -> None:
    """Ask whoever drives an instrument to hand it over; one that nobody drives is taken at once."""
    with _standing(name, None) as stand:
        if driver_of(stand) in (None, who):
            stand.driver, stand.driven = who, timezone.now()
        else:
            stand.asked_by = who


def answer(name: str, who: Any, hand_over: bool) -> None:
    """Hand an instrument over to who asked for it, or keep it."""
    with _standing(name, who) as stand:
        if hand_over and stand.asked_by is not None:
            stand.driver, stand.driven = stand.asked_by, timezone.now()
        stand.asked_by = None


@contextmanager
def _standing(name: str, who: Any) -> Iterator[Stand]:
    """A stand under its lock, saved at the end; raises `Busy` when somebody else than `who` drives it."""
    title = core_door.title_of(name).lower()
    with transaction.atomic():
        Stand.objects.get_or_create(name=name)
        stand = Stand.objects.select_for_update().select_related("driver", "asked_by").get(name=name)
        driver = driver_of(stand)
        if who is not None and driver not in (None, who):
            raise Busy(f"{driver.username} drives the {title}. Watch, or ask to take it over.")
        yield stand
        stand.save()


def keep_set_up(who: Any, name: str, set_up: dict[str, Any]) -> NamedSetUp:
    """Keep a set-up under a name; one of that name is replaced. Raises `ParameterError` for one that cannot be."""
    core_door.check_set_up(set_up)
    kept = {k: v for k, v in set_up.items() if k not in OF_ONE_PASS}
    return NamedSetUp.objects.update_or_create(person=who, name=name, defaults={"set_up": kept})[0]


def fault_of(name: str) -> str:
    """The fault that is provoked in an instrument just now; one that is not connected does not answer."""
    stand = Stand.objects.filter(name=name).values_list("fault", "connected").first() if name else None
    if stand is None:
        return ""
    return stand[0] if stand[1] else core_door.CABLE


def colour_of(name: str) -> dict[str, Any]:
    """The newest good colour card of an instrument, as a pass's manifest keeps it; empty when there is none.

    A white sheet that was taken later tells how the light changed since; without a card it balances white alone.
    """
    good = Check.objects.filter(instrument=name, state=Check.State.DONE, ok=True) if name else Check.objects.none()
    card, sheet = (good.filter(kind=kind).first() for kind in ("card", "sheet"))
    told = card or sheet
    if told is None:
        return {}
    kept = {k: told.figures[k] for k in ("matrix", "before", "after")}
    if card and sheet and sheet.created > card.created:
        kept["matrix"] = core_door.card_under_sheet(card.figures, sheet.figures)
        told = sheet
    return {"colour_correction": {**kept, "made": told.created.isoformat()}}
