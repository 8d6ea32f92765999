"""JSON (RFC 8259) from outside: within bounds, all numbers finite, all text writable."""

import json
from typing import Any

from lucid_relic.errors import InputError

MAX_DEPTH = 32
MAX_DIGITS = 18  # of a whole number; a longer one is read as a floating-point number


def parse_json(data: bytes | str, where: str, max_bytes: int, any_number: bool = False) -> Any:
    """The value; raises `InputError` that begins with `where` for anything else.

    UTF-8 with or without a byte order mark; nesting of at most `MAX_DEPTH`; no lone surrogates; no NaN and no infinity
    but for `any_number`, when whoever reads the fields looks for them.
    """
    if len(data) > max_bytes:
        raise InputError(f"{where} is larger than {max_bytes / 1e6:.0f} MB")
    try:
        text = data.decode("utf-8-sig") if isinstance(data, bytes) else data
        real = float if any_number else _finite
        value = json.loads(
            text,
            parse_int=lambda digits: int(digits) if len(digits) <= MAX_DIGITS else real(digits),
            parse_float=real,
            parse_constant=float if any_number else _not_a_number,
        )
        _check_depth(value)
        json.dumps(value, ensure_ascii=False).encode()
    except RecursionError:
        raise InputError(f"{where} is nested too deeply") from None
    except UnicodeError:
        raise InputError(f"{where} holds text that is not Unicode in UTF-8") from None
    except ValueError as error:
        raise InputError(f"{where} is not valid JSON: {error}") from None
    return value


def _finite(text: str) -> float:
    value = float(text)
    if abs(value) == float("inf"):
        raise ValueError("a number is too large")
    return value


def _not_a_number(text: str) -> float:
    raise ValueError(f"{text} is not a number")


def _check_depth(value: Any) -> None:
    level = [value]
    for _ in range(MAX_DEPTH):
        level = [x for v in level if isinstance(v, (dict, list)) for x in (v.values() if isinstance(v, dict) else v)]
        if not level:
            return
    raise RecursionError
