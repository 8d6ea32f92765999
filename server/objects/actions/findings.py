"""Findings that people live with."""

from typing import Any

from objects.actions.guard import acting
from objects.errors import NothingThere
from objects.models import AcceptedFinding, ScanObject
from objects.selectors import told_findings

GONE = "This finding is not there any more."
NOT_ACCEPTED = "This finding was not accepted, or was taken back already."


def accept_finding(object_id: Any, who: Any, name: str, word: str) -> ScanObject:
    """Live with a finding of what is shown, by its name, with a word why; raises `NothingThere` when it is gone."""
    with acting(object_id, who, while_busy=True) as scan_object:
        told, _ = told_findings(scan_object, scan_object.head)
        found = next((f for f in told if f["name"] == name), None)
        if found is None:
            raise NothingThere(GONE)
        AcceptedFinding.objects.create(
            scan_object=scan_object, kind=found["kind"], about=found["about"], figure=found["figure"],
            place=found["place"], title=found["title"], word=word, who=who,
        )  # fmt: skip
    return scan_object


def mind_finding(object_id: Any, who: Any, accepted_id: int) -> ScanObject:
    """Take it back that a finding was accepted."""
    with acting(object_id, who, while_busy=True) as scan_object:
        if not scan_object.accepted.filter(pk=accepted_id).delete()[0]:
            raise NothingThere(NOT_ACCEPTED)
    return scan_object
