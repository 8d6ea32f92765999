"""What a job's child process does: its kind's work, every fault made a sentence."""

import traceback
from multiprocessing.connection import Connection
from typing import Any

from jobs.kinds import KINDS
from jobs.models import Job
from jobs.voice import Voice
from objects import core_door

Outcome = tuple[str, str, str, dict[str, Any]]
UNEXPECTED = (
    "An unexpected error stopped the computation. What was finished before is safe; the worker’s log has the details."
)


def work(job: Job, pipe: Connection) -> Outcome:
    """Do a job; every fault becomes a sentence, never an exception."""
    kind = KINDS[job.kind]
    try:
        return (Job.State.DONE, "Done", "", kind.run(job, Voice(pipe)))
    except core_door.LucidRelicError as error:
        failed = ("Not done", str(error))
    except MemoryError:
        failed = ("Out of memory", "There was not enough memory. Choose a larger voxel size.")
    except Exception:
        traceback.print_exc()
        failed = ("Failed", UNEXPECTED)
    kind.clean_up(job)
    return (Job.State.FAILED, *failed, {})
