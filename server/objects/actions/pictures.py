"""Pictures on the shelf."""

import logging
from pathlib import Path

from django.conf import settings

from objects import core_door
from objects.models import ScanObject

log = logging.getLogger(__name__)


def picture_path(scan_object: ScanObject) -> Path:
    """Where the object's shelf picture lies."""
    return settings.DATA / "pictures" / f"{scan_object.id}.png"


def refresh_picture(scan_object: ScanObject) -> None:
    """Draw the shelf picture of the head anew; an object without surface has none.

    A picture is never worth an error: what was done before it is done.
    """
    head = scan_object.head
    if head is None or not (head.manifest["mesh"] or head.manifest["passes"]):
        picture_path(scan_object).unlink(missing_ok=True)
        return
    try:
        core_door.write_picture(head.manifest, picture_path(scan_object))
    except Exception:
        log.exception("The shelf picture of “%s” could not be drawn", scan_object.title)
