"""What the first worker does beside its jobs: measure what objects take, and give room back."""

import logging
import time
from datetime import UTC, datetime
from typing import Any

from django.conf import settings

from operating import collect

log = logging.getLogger(__name__)
_measured: Any = datetime.min.replace(tzinfo=UTC)
_collected = time.monotonic()


def when_due() -> None:
    """Do what is due."""
    global _measured, _collected
    _measured = collect.measure_rooms(_measured)
    if settings.COLLECT_HOURS and time.monotonic() - _collected > 3600 * settings.COLLECT_HOURS:
        _collected = time.monotonic()
        given_back = collect.collect()
        log.info("Given back: %s", given_back)
