"""The only door to the core: everything the server asks of `lucid_relic` goes through this package, by theme."""

from lucid_relic.demo.objects import DEMO_OBJECTS
from lucid_relic.errors import Cancelled, InputError, LucidRelicError
from lucid_relic.progress import Progress
from objects.core_door.captures import (
    capture_path,
    drop_capture,
    import_capture,
    open_pass,
    photograph,
    prepare_model,
    turntable_pass,
    with_new_pass,
)
from objects.core_door.catalogue import check_operation, formats, headline, operations, recipes
from objects.core_door.downloads import MESH_FORMATS, POINTS, download
from objects.core_door.previews import OpenedState, open_for_preview, preview
from objects.core_door.running import run_steps
from objects.core_door.states import load, load_shown, save, store
from objects.core_door.views import live_points, mesh_glb, pass_cloud, write_picture

__all__ = [
    "DEMO_OBJECTS",
    "MESH_FORMATS",
    "POINTS",
    "Cancelled",
    "InputError",
    "LucidRelicError",
    "OpenedState",
    "Progress",
    "capture_path",
    "check_operation",
    "download",
    "drop_capture",
    "formats",
    "headline",
    "import_capture",
    "live_points",
    "load",
    "load_shown",
    "mesh_glb",
    "open_for_preview",
    "open_pass",
    "operations",
    "pass_cloud",
    "photograph",
    "prepare_model",
    "preview",
    "recipes",
    "run_steps",
    "save",
    "store",
    "turntable_pass",
    "with_new_pass",
    "write_picture",
]
