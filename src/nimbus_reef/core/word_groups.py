"""Phrases that belong together by a word that several of them share."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Final

LEAST: Final = 3
"""Fewer phrases with a word are no group."""
COMMON: Final = 2 / 3
"""A word that larger part of the phrases has tells none of them from another."""


def shared_words(phrases: Sequence[Sequence[str]], least: int = LEAST) -> list[str]:
    """
    The word that each phrase is grouped by, empty for those that share none.

    The word that most phrases have makes the first group, of the rest the next, ties by the alphabet; words that more
    than two thirds of all have are passed over, and so are groups of fewer than `least`.
    """
    every = Counter(word for phrase in phrases for word in set(phrase))
    common = {word for word, count in every.items() if count > COMMON * len(phrases)}
    found = [""] * len(phrases)
    while True:
        left = [place for place, word in enumerate(found) if not word]
        counts = Counter(word for place in left for word in set(phrases[place]) - common)
        word, count = min(counts.items(), key=lambda each: (-each[1], each[0]), default=("", 0))
        if count < least:
            return found
        for place in left:
            if word in phrases[place]:
                found[place] = word
