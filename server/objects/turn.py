"""Whose turn it is to write for a job."""

from dataclasses import dataclass
from uuid import UUID


@dataclass(frozen=True)
class Turn:
    """One attempt at a job: what it may write, an older attempt of the same job may not any more."""

    job: UUID
    attempt: int
