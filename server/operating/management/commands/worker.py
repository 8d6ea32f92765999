"""`manage.py worker`: rescue lost jobs, warm the core up, then work off the queue."""

import threading
import time
from typing import Any

from django.core.management import call_command
from django.core.management.base import BaseCommand
from django.db import connections

from jobs import services
from jobs.supervise import running_here

RESCUE_EVERY_SECONDS = 5


class Command(BaseCommand):
    help = "Run the worker of this installation (one per data folder)."

    def handle(self, *args: Any, **options: Any) -> None:
        services.rescue(everything=True)
        connections.close_all()
        threading.Thread(target=_keep_rescuing, daemon=True).start()
        call_command("db_worker", interval=0.25, startup_delay=False, verbosity=0)


def _keep_rescuing() -> None:
    while True:
        time.sleep(RESCUE_EVERY_SECONDS)
        services.rescue(spare=running_here())
        connections.close_all()
