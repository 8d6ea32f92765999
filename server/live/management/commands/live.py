"""`manage.py live`: the live service."""

import asyncio
import contextlib
import signal
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand

from live.service import LiveService


class Command(BaseCommand):
    help = "Run the live service: previews from states held in memory (one per data folder)."

    def handle(self, *args: Any, **options: Any) -> None:
        signal.signal(signal.SIGTERM, lambda *_: (_ for _ in ()).throw(KeyboardInterrupt))
        with contextlib.suppress(KeyboardInterrupt):
            asyncio.run(LiveService().serve(settings.LIVE_SOCKET))
