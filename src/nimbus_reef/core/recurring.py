"""One audit against those before it: what is new, what came back, what is gone."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from enum import StrEnum

Key = tuple[str, str]
"""What a finding is known by from one audit to the next: its check and its row."""


class News(StrEnum):
    """What a finding is, measured by the audits before; one that stood last time is not news."""

    NEW = "new"
    BACK = "came back"


@dataclass(frozen=True, slots=True)
class Since:
    """What changed since the last audit. gone: found then and not now."""

    news: dict[Key, News]
    gone: frozenset[Key]

    def count(self, news: News) -> int:
        """How many findings are new, or came back."""
        return sum(each is news for each in self.news.values())


def since(now: Collection[Key], before: Sequence[Collection[Key]], away: Collection[Key] = ()) -> Since:
    """
    Compares findings with those of earlier audits, the newest first (N43).

    away: findings that somebody has put away; they are neither gone nor news. Without an
    earlier audit nothing is news.
    """
    if not before:
        return Since({}, frozenset())
    last = set(before[0])
    earlier = {key for audit in before[1:] for key in audit}
    news = {key: News.BACK if key in earlier else News.NEW for key in now if key not in last}
    return Since(news, frozenset(last.difference(now, away)))
