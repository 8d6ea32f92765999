"""Why an act on an object cannot be done now."""


class NothingThere(Exception):
    """There is nothing to undo or redo."""


class Busy(Exception):
    """The object has a job under way already."""

    def __init__(self, sentence: str = "This object has a job under way. Wait for it or stop it first.") -> None:
        super().__init__(sentence)
