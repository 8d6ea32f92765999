"""Many objects at once, as rows alone, for figures of the shelf."""

from typing import Any

STAGES = ("capture", "clean", "align", "fuse")
SUMMARY = {
    "passes": [{"title": "upright"}] * 2, "mesh": {"size_mm": [60, 50, 40], "watertight": True, "textured": False},
    "upright": True, "points": 0,
}  # fmt: skip


def crowd(owner: Any, objects: int, steps: int) -> None:
    """So many objects with so many steps each."""
    from objects.models import ScanObject, Snapshot, Step

    passes = [{"capture": "x", "turntable": {"degrees": [float(n) for n in range(48)]}}] * 2
    for number in range(objects):
        scan_object = ScanObject.objects.create(owner=owner, title=f"Tile {number}")
        before = None
        for n in range(steps):
            after = Snapshot.objects.create(
                scan_object=scan_object, manifest={"passes": passes, "mesh": None}, summary=SUMMARY,
                findings=[{"stage": "fuse"}],
            )  # fmt: skip
            Step.objects.create(
                scan_object=scan_object, operation="fuse", title="Fuse", stage=STAGES[n % len(STAGES)], before=before,
                after=after, report={"figures": list(range(50))},
            )  # fmt: skip
            before = scan_object.head = after
        scan_object.save()
