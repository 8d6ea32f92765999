"""Every act on data as an operation: parameters that check themselves, and a pure function."""

from lucid_relic.operations import align, clean, deliver, fuse, mend
from lucid_relic.operations.registry import Operation, get_operation, list_operations

__all__ = ["Operation", "align", "clean", "deliver", "fuse", "get_operation", "list_operations", "mend"]
