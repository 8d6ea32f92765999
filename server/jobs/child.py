"""The child process of a job: loads Django and the core once in the fork server, then does one job."""

import ctypes
import os
import signal
from multiprocessing.connection import Connection

import django
from django.apps import apps

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
if not apps.ready and not apps.loading:
    django.setup()
    import jobs.work  # noqa: F401

SET_PARENT_DEATH_SIGNAL = 1


def run_child(job_id: str, pipe: Connection) -> None:
    """Do one job, report its outcome through the pipe, and end."""
    ctypes.CDLL(None).prctl(SET_PARENT_DEATH_SIGNAL, signal.SIGKILL)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    from django.db import connections

    from jobs.models import Job
    from jobs.work import work

    outcome = work(Job.objects.select_related("scan_object").get(pk=job_id), pipe)
    connections.close_all()
    pipe.send({"outcome": outcome})
    pipe.close()
    os._exit(0)
