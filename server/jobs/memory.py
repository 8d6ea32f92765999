"""How much memory a job will take, so that as many run side by side as the computer bears."""

from pathlib import Path
from typing import Any

from django.conf import settings

from jobs.models import Job

WAITS = "Waits until {needs:.1f} GB of memory are free beside what runs"
PROCESS_MB = 450  # of the program with its compiled loops
# The print recipe takes 770 MB of 48 frames of 640 × 480; a replay from its 900 000 triangles 580 MB.
BYTES_PER_PIXEL, BYTES_PER_TRIANGLE, BYTES_PER_POINT = 30, 300, 400
HEADROOM = 1.25  # what was measured of the same object before may grow by a quarter


def free_mb() -> float:
    """Memory that may still be taken (MB): what the system says is free, less what is kept for views and web pages."""
    for line in Path("/proc/meminfo").read_text().splitlines():
        if line.startswith("MemAvailable:"):
            return int(line.split()[1]) / 1024 - settings.MEMORY_RESERVE_MB
    return float("inf")


def forecast_mb(job: Job) -> float:
    """What a job will take at most (MB): what such a job took of this object before, or what its size lets expect."""
    before = Job.objects.filter(scan_object=job.scan_object_id, kind=job.kind, title=job.title, state=Job.State.DONE)
    peak = before.order_by("-finished").values_list("result__peak_mb", flat=True).first()
    if peak:
        return HEADROOM * float(peak)
    head = job.scan_object.head
    return PROCESS_MB if head is None else expected_mb(head.summary)


def expected_mb(summary: dict[str, Any]) -> float:
    """What work on an object of that size takes at most (MB)."""
    pixels = sum(p["frames"] * p.get("width", 640) ** 2 * 0.75 for p in summary["passes"] if not p.get("points"))
    points = sum(p["points"]["count"] for p in summary["passes"] if p.get("points"))
    triangles = summary["mesh"]["triangles"] if summary.get("mesh") else 0
    return PROCESS_MB + (pixels * BYTES_PER_PIXEL + points * BYTES_PER_POINT + triangles * BYTES_PER_TRIANGLE) / 1e6
