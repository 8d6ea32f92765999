"""System checks: a wrong deployment is told when it starts, with an id and what to do."""

import os
from typing import Any

from django.conf import settings
from django.core.checks import CheckMessage, Error, Warning, register

LONGEST_SOCKET = 100  # bytes that a path of a local socket may have on every system
LOOPBACK = {"127.0.0.1", "localhost", "[::1]", "::1", "testserver"}
LEAST_FREE_BYTES = 2 * 2**30  # a capture of 48 frames and a recipe's snapshots take about 1 GB


@register()
def data_folder(app_configs: Any, **kwargs: Any) -> list[CheckMessage]:
    """The data folder can be written and has room."""
    found: list[CheckMessage] = []
    if not os.access(settings.DATA, os.W_OK):
        hint = "Give the account that runs the server the right to write there, or set LUCID_RELIC_DATA."
        found.append(Error(f"The data folder {settings.DATA} cannot be written.", hint=hint, id="lucid_relic.E001"))
    else:
        room = os.statvfs(settings.DATA)
        if room.f_bavail * room.f_frsize < LEAST_FREE_BYTES:
            hint = "Make room, or set LUCID_RELIC_DATA to a folder on a larger disk."
            found.append(Warning("Less than 2 GB are free for data.", hint=hint, id="lucid_relic.W001"))
    return found


@register()
def secret_key(app_configs: Any, **kwargs: Any) -> list[CheckMessage]:
    """The kept secret is readable by its owner alone."""
    path = settings.DATA / "secret.key"
    if path.exists() and path.stat().st_mode & 0o077:
        hint = f"chmod 600 {path}"
        return [Warning("Others can read the secret key.", hint=hint, id="lucid_relic.W002")]
    return []


@register()
def demo_stays_at_home(app_configs: Any, **kwargs: Any) -> list[CheckMessage]:
    """An installation that signs its demo technician in by itself answers to this computer only."""
    outside = [host for host in settings.ALLOWED_HOSTS if host not in LOOPBACK]
    if settings.DEMO and outside:
        hint = "Unset LUCID_RELIC_DEMO, or take the hosts out of LUCID_RELIC_HOSTS."
        return [Error(f"The demo would answer to {', '.join(outside)}.", hint=hint, id="lucid_relic.E002")]
    return []


@register()
def live_socket(app_configs: Any, **kwargs: Any) -> list[CheckMessage]:
    """The path of the live service's socket is short enough."""
    if len(os.fsencode(settings.LIVE_SOCKET)) > LONGEST_SOCKET:
        hint = "Set LUCID_RELIC_LIVE_SOCKET to a shorter path."
        return [Error(f"{settings.LIVE_SOCKET} is too long for a socket.", hint=hint, id="lucid_relic.E003")]
    return []


@register()
def front_end(app_configs: Any, **kwargs: Any) -> list[CheckMessage]:
    """The front end is built."""
    if not (settings.WEB_DIST / "index.html").exists():
        return [Warning("The front end is not built.", hint="Run `make build`.", id="lucid_relic.W003")]
    return []


@register()
def database(app_configs: Any, **kwargs: Any) -> list[CheckMessage]:
    """Transactions take the lock when they begin: with any other mode the database is locked under load."""
    if settings.DATABASES["default"]["OPTIONS"].get("transaction_mode") != "IMMEDIATE":
        hint = "Set transaction_mode to IMMEDIATE in the database's OPTIONS."
        return [Error("Transactions do not begin with the lock.", hint=hint, id="lucid_relic.E004")]
    return []
