"""What a kind of job is."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from jobs.models import Job
from jobs.voice import Voice


def nothing_left(job: Job) -> None:
    """Clean up after a job that leaves nothing behind but finished steps."""


def always(job: Job) -> bool:
    """A job that can be run again whenever it did not end well."""
    return True


@dataclass(frozen=True)
class JobKind:
    """Its work and what is left of it.

    clean_up removes, at this attempt's turn, what a refused or stopped job left; forget does so for one that never
    began. repeatable says whether a job has all it needs to be run again, instead what to do when it has not.
    """

    name: str
    run: Callable[[Job, Voice], dict[str, Any]]
    clean_up: Callable[[Job], None] = nothing_left
    forget: Callable[[Job], None] = nothing_left
    repeatable: Callable[[Job], bool] = always
    instead: str = ""
    at_desk: bool = False
