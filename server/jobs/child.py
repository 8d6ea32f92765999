"""The child process of a job: loads Django and the core once in the fork server, then does one job."""

import ctypes
import fcntl
import os
import resource
import signal
from multiprocessing.connection import Connection

import django
from django.apps import apps

NICENESS = 10  # of jobs: people who look come first, and an idle computer gives a job all it has
SET_PARENT_DEATH_SIGNAL = 1
SET_SIGNAL = 10  # F_SETSIG of fcntl(2), which Python does not name


def end_with_parent() -> None:
    """Be killed when the thread that started this process ends; for processes that were started directly."""
    parent = os.getppid()
    ctypes.CDLL(None).prctl(SET_PARENT_DEATH_SIGNAL, signal.SIGKILL)
    if os.getppid() != parent:
        os._exit(1)


os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
if not apps.ready and not apps.loading:
    end_with_parent()  # the fork server: while it loads the core it would not see that its worker is gone
    django.setup()
    import jobs.work  # noqa: F401
    from objects.core_door import make_loops_ready

    make_loops_ready()


def end_with(leash: Connection) -> None:
    """Be killed by the system when the last holder of the leash's other end is gone, whatever this process does then.

    The signal that a pipe sends when it can be read (fcntl(2), O_ASYNC) is made a kill: nothing is ever written to it.
    """
    fd = leash.fileno()
    fcntl.fcntl(fd, fcntl.F_SETOWN, os.getpid())
    fcntl.fcntl(fd, SET_SIGNAL, signal.SIGKILL)
    fcntl.fcntl(fd, fcntl.F_SETFL, fcntl.fcntl(fd, fcntl.F_GETFL) | os.O_ASYNC)
    if leash.poll():  # gone before the signal was set
        os._exit(1)


def run_child(job_id: str, attempt: int, pipe: Connection, leash: Connection) -> None:
    """Do one attempt at a job, report its outcome through the pipe, and end."""
    end_with(leash)
    os.nice(NICENESS)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    from django.db import connections

    from jobs.models import Job
    from jobs.work import work

    job = Job.objects.select_related("scan_object").filter(pk=job_id, attempts=attempt).first()
    if job is not None:
        outcome = work(job, pipe)
        connections.close_all()
        if outcome is not None:
            outcome[3]["peak_mb"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
        pipe.send({"outcome": outcome})
    pipe.close()
    os._exit(0)
