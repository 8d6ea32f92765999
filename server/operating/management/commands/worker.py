"""`manage.py worker`: take a slot, rescue lost jobs, then work off the queue."""

import logging
import threading
import time
from typing import Any

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import BaseCommand
from django.db import Error, connections

from jobs import services, slots
from jobs.nursery import make_ready
from jobs.supervise import running_here, take_slot
from objects import room
from operating import care
from operating.looking import look_around

SLOT_SECONDS = 0.5
CARE_SECONDS = 2
RESCUE_SECONDS = 5
log = logging.getLogger(__name__)


class Command(BaseCommand):
    help = "Run a worker of this installation; LUCID_RELIC_WORKERS says how many may run on one data folder."

    def handle(self, *args: Any, **options: Any) -> None:
        number, self.lock = self._slot()
        take_slot(number)
        services.rescue(number)
        connections.close_all()
        threading.Thread(target=_take_care, args=(number,), daemon=True).start()
        if number == 0:
            make_ready()
            threading.Thread(target=look_around, daemon=True).start()
        call_command("db_worker", interval=0.25, startup_delay=False, verbosity=0)

    def _slot(self) -> tuple[int, Any]:
        told = False
        while (found := slots.take_first("worker", settings.WORKERS)) is None:
            if not told:
                self.stderr.write("Another worker works on this data folder; this one waits for it to end.")
            told = True
            time.sleep(SLOT_SECONDS)
        return found


def _take_care(slot: int) -> None:
    """While the worker works: lost jobs, room, and in the first worker what is to be cleared away."""
    last_rescue = 0.0
    while True:
        try:
            room.tend_ballast()
            if time.monotonic() - last_rescue > RESCUE_SECONDS:
                last_rescue = time.monotonic()
                services.rescue(spare=running_here())
            if slot == 0:
                care.when_due()
        except (Error, OSError):
            log.exception("The care of jobs and room failed and is tried again")
        finally:
            connections.close_all()
        time.sleep(CARE_SECONDS)
