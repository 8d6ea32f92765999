"""What a job's child process does: its kind's work, every fault made a sentence."""

import traceback
from multiprocessing.connection import Connection
from typing import Any

from jobs.kinds import KINDS
from jobs.models import Job
from jobs.voice import Stopped, Voice
from objects import core_door, room
from objects.errors import Superseded

Outcome = tuple[str, str, str, dict[str, Any]]
UNEXPECTED = (
    "An unexpected error stopped the computation. What was finished before is safe; the worker’s log has the details."
)


def work(job: Job, pipe: Connection) -> Outcome | None:
    """Do a job; every fault becomes a sentence, never an exception but `Stopped`. None when it is not this attempt's turn.

    What was refused leaves nothing behind; after any other fault all that is needed to go on stays.
    """
    kind = KINDS[job.kind]
    try:
        result = kind.run(job, Voice(pipe))
        return (Job.State.DONE, "Done", "\n".join(result.get("refused", [])), result)
    except Superseded:
        return None
    except Stopped:
        raise
    except core_door.LucidRelicError as error:
        failed = ("Not done", str(error))
        kind.clean_up(job)
    except MemoryError:
        failed = ("Out of memory", "There was not enough memory. Choose a larger voxel size.")
    except Exception as error:
        if room.is_full(error):
            room.give_up_ballast()
            failed = ("No room", room.full_sentence())
        else:
            traceback.print_exc()
            failed = ("Failed", UNEXPECTED)
    return (Job.State.FAILED, *failed, {})
