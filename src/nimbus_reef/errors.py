"""
The base exceptions: what went wrong, where, and what the person can do about it.

Problems *in data* are returned as values that name their row; these exceptions
stop an operation. Each carries a `remedy`, shown beside the message wherever the
message is shown, and the web maps each class to one HTTP status at one border.
"""

from __future__ import annotations

import errno


class ReefError(Exception):
    """Something a person can act on. `remedy` says how, in one plain sentence."""

    def __init__(self, message: str, *, remedy: str = "", place: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.remedy = remedy
        self.place = place

    def __str__(self) -> str:
        where = f"{self.place}: " if self.place else ""
        return " ".join(part for part in (f"{where}{self.message}", self.remedy) if part)


class BadInput(ReefError):
    """What was typed, chosen or linked to cannot be understood."""


class BadFile(ReefError):
    """A file cannot be loaded; nothing of it was."""


class NotFound(ReefError):
    """The thing asked for is not there, or not for this person to see."""


class NotAllowed(ReefError):
    """The person may see this but not do that."""


class Conflict(ReefError):
    """The state changed under the person's hands; looking again settles it."""


class DiskFull(ReefError):
    """There is no room for what is to be written; whatever was begun is taken back."""

    def __init__(self, what: str = "The disk is full") -> None:
        super().__init__(f"{what}: nothing was changed.", remedy="Make room in REEF_VAR, then try it again.")


def is_full_disk(problem: OSError) -> bool:
    """Whether a fault of the file system is that there is no room, or no more of one's share."""
    return problem.errno in (errno.ENOSPC, errno.EDQUOT)


class TooMany(ReefError):
    """Something was tried too often lately."""


class StoreAway(ReefError):
    """The database does not answer."""


class MarketplaceAway(ReefError):
    """A marketplace does not answer in good time; whatever was begun is taken up again."""


class MarketplaceRefused(ReefError):
    """A marketplace says no, and will say so again."""


class NeedsYes(ReefError):
    """Loading would remove or touch something unusual; `questions` say what."""

    def __init__(self, questions: tuple[str, ...]) -> None:
        super().__init__(
            "The file was read, but loading it needs a yes.", remedy="Confirm the points listed, or discard the file."
        )
        self.questions = questions
