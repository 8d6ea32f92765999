"""Making, describing and deleting objects."""

from typing import Any

from objects import core_door
from objects.actions.guard import acting
from objects.models import ScanObject


def create_object(owner: Any, title: str, notes: str = "", demo_model: str = "") -> ScanObject:
    """A new, empty object."""
    return ScanObject.objects.create(owner=owner, title=title, notes=notes, demo_model=demo_model)


def describe_object(object_id: Any, who: Any, title: str, notes: str | None) -> ScanObject:
    """Give an object another title, and notes unless they are None."""
    with acting(object_id, who, while_busy=True) as scan_object:
        scan_object.title = title
        scan_object.notes = scan_object.notes if notes is None else notes
        scan_object.save(update_fields=["title", "notes"])
    return scan_object


def remember_model(object_id: Any, who: Any, model: str) -> ScanObject:
    """Remember which demo model the virtual scanner sees as this object, unless that is known."""
    with acting(object_id, who, while_busy=True) as scan_object:
        if not scan_object.demo_model:
            scan_object.demo_model = model
            scan_object.save(update_fields=["demo_model"])
    return scan_object


def remember_set_up(object_id: Any, who: Any, set_up: dict[str, Any]) -> None:
    """Keep how a pass was set up with the object, for its next one."""
    with acting(object_id, who, while_busy=True) as scan_object:
        scan_object.set_up = set_up
        scan_object.save(update_fields=["set_up"])


def delete_object(object_id: Any, who: Any) -> None:
    """Delete an object with its captures; its stored arrays go with the next collection, unless others share them."""
    with acting(object_id, who, as_owner=True) as scan_object:
        keys = [str(c.id) for c in scan_object.captures.all()]
        scan_object.delete()
    for key in keys:
        core_door.drop_capture(key)
