"""The registry of operations, from which interface, API and command line are derived."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from lucid_relic.errors import ParameterError
from lucid_relic.operations.parameters import Parameters
from lucid_relic.progress import Progress
from lucid_relic.types import ScanState

Report = dict[str, Any]
Run = Callable[[ScanState, Any, Progress], tuple[ScanState, Report]]


@dataclass(frozen=True)
class Operation:
    """One act on data: its name, the words people see, its stage, its parameters and its function."""

    name: str
    title: str
    stage: str
    help: str
    parameters: type[Parameters]
    run: Run


_REGISTRY: dict[str, Operation] = {}


def operation(name: str, title: str, stage: str, parameters: type[Parameters]) -> Callable[[Run], Run]:
    """Register a function as an operation; the first line of its docstring is the help."""

    def register(run: Run) -> Run:
        text = (run.__doc__ or "").strip().splitlines()[0]
        _REGISTRY[name] = Operation(name, title, stage, text, parameters, run)
        return run

    return register


def get_operation(name: str) -> Operation:
    """The operation of that name; raises `ParameterError` when there is none."""
    if name not in _REGISTRY:
        raise ParameterError(f"There is no operation “{name}”; known are: {', '.join(sorted(_REGISTRY))}.")
    return _REGISTRY[name]


def list_operations() -> list[Operation]:
    """All operations in the order of their registration."""
    return list(_REGISTRY.values())
