"""Every act on data as an operation: parameters that check themselves, and a pure function."""

from lucid_relic.operations import align, capture, clean, colour, fuse, mend, set  # noqa: F401
from lucid_relic.operations.registry import Need, Operation, get_operation, list_operations

__all__ = ["Need", "Operation", "get_operation", "list_operations"]
