"""What a fusion is called among the takes."""

import string
from typing import Any

from lucid_relic.errors import ParameterError
from lucid_relic.types import Take, TakeShape

ALIKE = ("voxel_mm", "character", "passes")  # what makes two unnamed takes the same one fused again
LONGEST_NAME = 60


def with_take(
    takes: tuple[Take, ...], name: str, told: dict[str, Any], shape: TakeShape
) -> tuple[tuple[Take, ...], str]:
    """The takes with a new one at the end, and its name.

    It takes the place of one of the same name; without a name, of a lettered one that was fused alike.
    """
    if len(name) > LONGEST_NAME:
        raise ParameterError(f"A take's name may have {LONGEST_NAME} characters at the most.")
    letters = [f"Take {letter}" for letter in string.ascii_uppercase]
    if not name:
        alike = [t.name for t in takes if t.name in letters and all(t.told.get(k) == told[k] for k in ALIKE)]
        free = [letter for letter in letters if letter not in {t.name for t in takes}]
        name = next(iter([*alike, *free, letters[-1]]))
    return (*(t for t in takes if t.name != name), Take(name, told, shape)), name
