"""The small family of errors the product raises, each with where and what."""

from __future__ import annotations


class CalmTariffError(Exception):
    """Something the caller can act on. `where` names the field or thing, `what` says what is wrong."""

    def __init__(self, what: str, where: str = "") -> None:
        super().__init__(f"{where}: {what}" if where else what)
        self.what = what
        self.where = where


class Invalid(CalmTariffError):
    """Input that cannot be accepted as it is."""


class NotFound(CalmTariffError):
    """The thing asked for does not exist, or not for the one who asks."""


class NotAllowed(CalmTariffError):
    """The person is known but may not do this."""


class NotSignedIn(CalmTariffError):
    """Nobody is signed in, or the session has ended."""


class Conflict(CalmTariffError):
    """The thing is in a state in which this cannot be done."""


class Away(CalmTariffError):
    """Something outside that has to be asked does not answer, or not as it must."""


class Deadlocked(Conflict):
    """Two did things at the same moment that wait for each other. Nothing of this one was done: it may be tried again
    as it was."""


class TooMany(CalmTariffError):
    """Too often in too short a time. `wait` is how many seconds to wait before it is worth trying again."""

    def __init__(self, what: str, wait: int, where: str = "") -> None:
        super().__init__(what, where)
        self.wait = wait


class Stale(CalmTariffError):
    """Somebody else changed the thing first. `current` is what it is now."""

    def __init__(self, what: str, where: str = "", current: object = None) -> None:
        super().__init__(what, where)
        self.current = current
