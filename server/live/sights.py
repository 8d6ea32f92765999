"""What the head sees before a pass and in a hand, and how well an object was seen, for the bench."""

from typing import Any

from django.db import connection

from objects import core_door
from objects.models import ScanObject, Snapshot

FIELDS = {
    "instrument", "path", "exposure_ms", "gain_db", "infrared", "gate_mm", "spacing_mm", "colour", "title", "stops",
    "start_deg", "elevation_deg", "tip_deg", "tip_about_deg", "model", "delay_s", "hold", "shots", "held_by",
    "sweep", "fine", "use",
}  # fmt: skip
MOST_MOVES = 10
NO_SET_UP = "This is not a set-up of a pass."


def set_up_fault(set_up: Any) -> str:
    """Why a set-up cannot be, in a sentence; empty when it can."""
    if not isinstance(set_up, dict) or not set(set_up) <= FIELDS or "instrument" not in set_up:
        return NO_SET_UP
    try:
        core_door.check_set_up(set_up)
    except core_door.LucidRelicError as error:
        return str(error)
    except (TypeError, ValueError, IndexError, OverflowError):
        return NO_SET_UP
    return ""


def steering_of(said: Any) -> dict[str, Any]:
    """How somebody steers a head, checked; raises `ValueError` or `TypeError` for what is no steering."""
    said = said or {}
    moves = {str(name): float(value) for name, value in said.get("moves", {}).items()}
    if len(moves) > MOST_MOVES:
        raise ValueError
    covered, back = said.get("covered"), said.get("back_to")
    ranges = {name: _range(said[name]) for name in ("drop", "bring_back") if said.get(name) is not None}
    return {
        "moves": moves, "take_next": bool(said.get("next")), "covered": None if covered is None else bool(covered),
        "back_to": None if back is None else int(back), **ranges,
    }  # fmt: skip


def _range(said: Any) -> tuple[int, int]:
    first, last = said
    return int(first), int(last)


def coverage(asked: dict[str, Any], echo: dict[str, Any]) -> bytes:
    """In the live service: how well an object was seen, or what is taken of it just now, packed."""
    if asked.get("capture"):
        return core_door.coverage_of_capture(asked["capture"], asked["use"], echo)
    try:
        row = Snapshot.objects.filter(pk=asked["snapshot"]).first()
    finally:
        connection.close()
    if row is None:
        raise core_door.InputError("There is no such state of this object.")
    return core_door.coverage_of_object(row.manifest, asked["use"], asked["instrument"], echo)


def hand(asked: dict[str, Any], echo: dict[str, Any]) -> bytes:
    """In the live service: what there is to see of a pass by hand, after the head was steered, packed."""
    steering = asked["steer"]
    core_door.steer(asked["capture"], **steering)
    return core_door.hand_scene(asked["capture"], asked["since"], echo, asked["plainly"])


def sight(asked: dict[str, Any], echo: dict[str, Any]) -> bytes:
    """In the live service: the sight of an object's set-up, packed."""
    try:
        model = ScanObject.objects.filter(pk=asked["object"]).values_list("demo_model", flat=True).first()
    finally:
        connection.close()
    return core_door.preview_sight(asked["set_up"], asked["set_up"].get("model") or model or "owl", echo)
