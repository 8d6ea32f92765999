"""What there is to run, and in which words."""

from typing import Any

from lucid_relic.errors import ParameterError
from lucid_relic.io.formats import FORMATS
from lucid_relic.operations import get_operation, list_operations
from lucid_relic.operations.words import count


def check_operation(name: str, parameters: dict[str, Any]) -> dict[str, Any]:
    """Title, stage and full parameters of an operation; raises `ParameterError` for a wrong one."""
    operation = get_operation(name)
    full = operation.parameters.from_dict(parameters).as_dict()
    return {"operation": name, "title": operation.title, "stage": operation.stage, "parameters": full}


def headline(name: str, report: dict[str, Any]) -> str:
    """The figures that say most of a step's report; a pass that was added tells its frames or points."""
    try:
        return get_operation(name).headline_of(report)
    except ParameterError:
        if report.get("points"):
            return f"{count(report['points'])} points"
        return f"{report['frames']} frames" if report.get("frames") else ""


def told_of(name: str, title: str, report: dict[str, Any], known: bool) -> str:
    """A step that ended, as a log says it."""
    said = headline(name, report)
    return f"{title}{f': {said}' if said else ''}{' (known from before, not computed again)' if known else ''}."


def operations() -> list[dict[str, Any]]:
    """All operations with what bench and forms need."""
    return [
        {
            "name": o.name,
            "title": o.title,
            "stage": o.stage,
            "help": o.help,
            "key": o.key,
            "weight": o.weight,
            "needs": [{"name": need.value, "sentence": need.sentence} for need in o.needs],
            "preview": o.preview is not None,
            "parameters": o.parameters.describe(),
        }
        for o in list_operations()
    ]


def formats() -> list[dict[str, Any]]:
    """The formats that a mesh can be delivered in."""
    able = [f for f in FORMATS if f.write_mesh is not None]
    return [{"name": f.name, "help": f.help, "carries": sorted(f.carries)} for f in able]
