"""How much memory the machine can still give, so that a computation can refuse before it starts."""

from pathlib import Path

FALLBACK = 8 * 2**30  # bytes


def available_bytes() -> int:
    """Bytes that can be taken without swapping (Linux `MemAvailable`; 8 GiB where it is not told)."""
    try:
        for line in Path("/proc/meminfo").read_text().splitlines():
            if line.startswith("MemAvailable:"):
                return int(line.split()[1]) * 1024
    except OSError:
        pass
    return FALLBACK
