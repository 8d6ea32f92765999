"""Every change of an object is one action: permission, busy guard under the lock, step and event in one place."""

from objects.actions.bundles import bundle_document, need_empty, take_bundle
from objects.actions.captures import (
    accept_capture,
    add_arrival,
    add_copy,
    complete_capture,
    drop_capture,
    hold_capture,
    throw_away_capture,
)
from objects.actions.guard import acting, acting_job, asked_to_work
from objects.actions.history import FinishedStep, record_step, redo, undo
from objects.actions.objects import create_object, delete_object, describe_object, remember_model, remember_set_up
from objects.actions.sharing import link_of, make_link, share_with, stop_sharing, take_back
from objects.actions.uploads import (
    begin_upload,
    delete_upload,
    drop_upload,
    own_upload,
    received_bytes,
    take_piece,
    upload_path,
    whole_uploads,
)

__all__ = [
    "FinishedStep",
    "accept_capture",
    "acting",
    "acting_job",
    "add_arrival",
    "add_copy",
    "asked_to_work",
    "begin_upload",
    "bundle_document",
    "complete_capture",
    "create_object",
    "delete_object",
    "delete_upload",
    "describe_object",
    "drop_capture",
    "drop_upload",
    "hold_capture",
    "link_of",
    "make_link",
    "need_empty",
    "own_upload",
    "received_bytes",
    "record_step",
    "redo",
    "remember_model",
    "remember_set_up",
    "share_with",
    "stop_sharing",
    "take_back",
    "take_bundle",
    "take_piece",
    "throw_away_capture",
    "undo",
    "upload_path",
    "whole_uploads",
]
