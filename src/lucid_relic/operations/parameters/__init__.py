"""Parameters of operations: frozen dataclasses that check themselves and describe themselves, by kinds."""

from lucid_relic.operations.parameters.base import Parameters, param
from lucid_relic.operations.parameters.kinds import KINDS, Kind

__all__ = ["KINDS", "Kind", "Parameters", "param"]
