"""Errors that carry a sentence for the technician: what is wrong, where, and what to do."""

SHOWN_LETTERS = 60  # of something foreign within a sentence


def quoted(text: object) -> str:
    """Something foreign as it is named within a sentence: short, on one line, in quotation marks."""
    line = "".join(c if c.isprintable() else "·" for c in str(text)[: SHOWN_LETTERS + 1])
    return f"“{line}”" if len(line) <= SHOWN_LETTERS else f"“{line[:SHOWN_LETTERS]}…”"


class LucidRelicError(Exception):
    """Base of all errors raised on purpose by the core; `str()` is fit to be shown."""


class InputError(LucidRelicError):
    """The input cannot be used: a file, a field or a parameter is wrong."""


class ParameterError(InputError):
    """A parameter of an operation is unknown, of the wrong type or out of its range."""


class StepNotPossible(LucidRelicError):
    """The operation needs something that the state does not have yet."""


class NotAccepted(LucidRelicError):
    """The computation finished but its own verdict refuses the result."""


class DeviceFault(LucidRelicError):
    """The instrument does not do what it is asked; it may again when what the sentence names is put right."""


class Cancelled(LucidRelicError):
    """The technician asked to stop; nothing was changed."""

    def __init__(self) -> None:
        super().__init__("Stopped on request. Nothing was changed.")
