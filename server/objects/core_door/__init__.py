"""The only door to the core: everything the server asks of `lucid_relic` goes through this package, by theme."""

from lucid_relic.demo.objects import DEMO_OBJECTS
from lucid_relic.errors import Cancelled, InputError, LucidRelicError, quoted
from lucid_relic.io.bounded_json import parse_json
from lucid_relic.progress import Progress, silent
from objects.core_door.arrivals import (
    UNITS_MM,
    Arrival,
    arrival_key,
    arrivals,
    check_said,
    drop_arrival,
    readable_suffixes,
)
from objects.core_door.captures import (
    capture_facts,
    capture_key,
    capture_path,
    drop_capture,
    is_whole,
    prepare_model,
    turntable_pass,
    with_new_pass,
)
from objects.core_door.catalogue import check_operation, formats, headline, operations, recipes
from objects.core_door.downloads import MESH_FORMATS, POINTS, download_file, download_name, make_download
from objects.core_door.previews import OpenedState, open_for_preview, preview
from objects.core_door.running import run_steps
from objects.core_door.states import load, load_shown, save, store, stored_names, storing
from objects.core_door.views import (
    frame_file,
    make_frame,
    make_mesh,
    make_pass,
    make_picture,
    mesh_file,
    pass_file,
    photograph,
    picture_file,
    shown_file,
)

__all__ = [
    "DEMO_OBJECTS",
    "MESH_FORMATS",
    "POINTS",
    "UNITS_MM",
    "Arrival",
    "Cancelled",
    "InputError",
    "LucidRelicError",
    "OpenedState",
    "Progress",
    "arrival_key",
    "arrivals",
    "capture_facts",
    "capture_key",
    "capture_path",
    "check_operation",
    "check_said",
    "download_file",
    "download_name",
    "drop_arrival",
    "drop_capture",
    "formats",
    "frame_file",
    "headline",
    "is_whole",
    "load",
    "load_shown",
    "make_download",
    "make_frame",
    "make_mesh",
    "make_pass",
    "make_picture",
    "mesh_file",
    "open_for_preview",
    "operations",
    "parse_json",
    "pass_file",
    "photograph",
    "picture_file",
    "prepare_model",
    "preview",
    "quoted",
    "readable_suffixes",
    "recipes",
    "run_steps",
    "save",
    "shown_file",
    "silent",
    "store",
    "stored_names",
    "storing",
    "turntable_pass",
    "with_new_pass",
]
