"""Pictures on the shelf."""

import logging
import threading
from pathlib import Path
from typing import Any

from django.conf import settings

from objects import core_door
from objects.models import ScanObject

log = logging.getLogger(__name__)
# One picture is drawn at a time, and of several asked for at one place only the newest.
_drawing = threading.Lock()
_newest: dict[Path, object] = {}


def picture_path(scan_object: ScanObject) -> Path:
    """Where the object's shelf picture lies."""
    return settings.DATA / "pictures" / f"{scan_object.id}.png"


def refresh_picture(scan_object: ScanObject) -> None:
    """Draw the shelf picture of the head anew; an object without surface has none.

    A picture is never worth an error: what was done before it is done.
    """
    _draw(scan_object.head.manifest if scan_object.head else None, picture_path(scan_object))


def refresh_picture_soon(scan_object: ScanObject) -> None:
    """As `refresh_picture`, in a thread: drawing takes a second or more, and nobody should wait for it."""
    head, path, asked = scan_object.head, picture_path(scan_object), object()
    manifest = head.manifest if head else None
    _newest[path] = asked

    def draw() -> None:
        with _drawing:
            if _newest.get(path) is asked:
                del _newest[path]
                _draw(manifest, path)

    threading.Thread(target=draw, daemon=True).start()


def _draw(manifest: dict[str, Any] | None, path: Path) -> None:
    if manifest is None or not (manifest["mesh"] or manifest["passes"]):
        path.unlink(missing_ok=True)
        return
    try:
        core_door.write_picture(manifest, path)
    except Exception:
        log.exception("The shelf picture %s could not be drawn", path.name)
