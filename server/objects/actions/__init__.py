"""Every change of an object is one action: permission, busy guard under the lock, step and event in one place."""

from objects.actions.captures import complete_capture
from objects.actions.guard import acting, acting_job
from objects.actions.history import record_step, redo, undo
from objects.actions.objects import create_object, delete_object, describe_object, remember_model
from objects.actions.pictures import picture_path, refresh_picture
from objects.actions.uploads import delete_upload

__all__ = [
    "acting",
    "acting_job",
    "complete_capture",
    "create_object",
    "delete_object",
    "delete_upload",
    "describe_object",
    "picture_path",
    "record_step",
    "redo",
    "refresh_picture",
    "remember_model",
    "undo",
]
