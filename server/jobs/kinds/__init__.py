"""Kinds of jobs: one file each, one line here."""

from jobs.kinds.base import JobKind
from jobs.kinds.bring import BRING
from jobs.kinds.capture import CAPTURE
from jobs.kinds.deliver import DELIVER
from jobs.kinds.imports import IMPORT
from jobs.kinds.steps import OPERATION, RECIPE, REPLAY

KINDS: dict[str, JobKind] = {kind.name: kind for kind in (RECIPE, OPERATION, REPLAY, CAPTURE, IMPORT, BRING, DELIVER)}

__all__ = ["KINDS", "JobKind"]
