"""Making, describing and deleting objects."""

from typing import Any

from django.db import transaction
from django.http import Http404
from django.utils import timezone

from objects import core_door
from objects.actions.guard import acting
from objects.models import ScanObject
from objects.selectors import thrown_away_by


def create_object(owner: Any, title: str, notes: str = "", demo_model: str = "") -> ScanObject:
    """A new, empty object."""
    return ScanObject.objects.create(owner=owner, title=title, notes=notes, demo_model=demo_model)


MOST_TAGS = 20


def describe_object(object_id: Any, who: Any, title: str, notes: str | None) -> ScanObject:
    """Give an object another title, and notes unless they are None."""
    return change_object(object_id, who, {"title": title, **({} if notes is None else {"notes": notes})})


def change_object(object_id: Any, who: Any, told: dict[str, Any]) -> ScanObject:
    """Change what is told: title, notes, tags, and whether it is archived."""
    with acting(object_id, who, while_busy=True) as scan_object:
        for name in ("title", "notes"):
            if name in told:
                setattr(scan_object, name, told[name])
        if "tags" in told:
            own = [tag.strip() for tag in told["tags"]]
            scan_object.tags = list(dict.fromkeys(tag for tag in own if tag))[:MOST_TAGS]
        if "archived" in told and told["archived"] != (scan_object.archived is not None):
            scan_object.archived = timezone.now() if told["archived"] else None
        scan_object.save(update_fields=["title", "notes", "tags", "archived"])
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


def throw_away_object(object_id: Any, who: Any) -> None:
    """Throw an object away; it can be taken back until its grace is over."""
    with acting(object_id, who, as_owner=True) as scan_object:
        scan_object.deleted = timezone.now()
        scan_object.save(update_fields=["deleted"])


def take_object_back(object_id: Any, who: Any) -> ScanObject:
    """Take an object back that was thrown away; raises `Http404` when it is not among those of a person."""
    with transaction.atomic():
        scan_object = thrown_away_by(who).select_for_update().filter(pk=object_id).first()
        if scan_object is None:
            raise Http404
        scan_object.deleted = None
        scan_object.save()
    return scan_object


def delete_for_good(scan_object: ScanObject) -> None:
    """Delete an object with its captures; its stored arrays go with the next collection, unless others share them."""
    keys = [str(c.id) for c in scan_object.captures.all()]
    scan_object.delete()
    for key in keys:
        core_door.drop_capture(key)
