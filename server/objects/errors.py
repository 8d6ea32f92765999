"""Why an act on an object cannot be done now."""


class NothingThere(Exception):
    """There is nothing to undo or redo."""


class Superseded(Exception):
    """This attempt at a job lost its turn: another has taken over, or the job has ended."""


class Refused(Exception):
    """What was asked for makes no sense here; the sentence says why."""


class WrongPlace(Exception):
    """A piece of a file does not begin where what is there ends."""


class NotAllowed(Exception):
    """The person may look at the object, and not do this with it."""

    def __init__(self, sentence: str = "You may look at this object, not change it. Ask its owner.") -> None:
        super().__init__(sentence)


class OverQuota(Exception):
    """The person’s objects take all the room they may."""


class NoRoom(Exception):
    """The disk has no room for what was asked."""


class Busy(Exception):
    """The object has a job under way already."""

    def __init__(self, sentence: str = "This object has a job under way. Wait for it or stop it first.") -> None:
        super().__init__(sentence)
