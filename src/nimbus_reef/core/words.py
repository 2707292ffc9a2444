"""Search terms as text: the normal form that groups them, and the words they are made of."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable
from functools import lru_cache

_ES_PLURAL = re.compile(r".*(x|ch|sh|ss)es$")


@lru_cache(maxsize=200_000)
def normal_form(term: str) -> str:
    """NFKC, casefolded, spaces collapsed. The form shown stays as it was written."""
    # Casefolding can undo the normal form (ﬀ, ΐ), so it is restored afterwards.
    folded = unicodedata.normalize("NFKC", unicodedata.normalize("NFKC", term).casefold())
    return " ".join(folded.split())


def singular(word: str) -> str:
    """English plurals of words over 3 letters: -ies→y, -(x|ch|sh|ss)es→, -s unless ss/us/is."""
    if len(word) <= 3 or not word.endswith("s"):
        return word
    if word.endswith("ies"):
        return word[:-3] + "y"
    if _ES_PLURAL.match(word):
        return word[:-2]
    return word if word.endswith(("ss", "us", "is")) else word[:-1]


def words(term: str) -> tuple[str, ...]:
    """The words of a term: split at what is no letter, mark or number, plurals undone."""
    # A combining mark belongs to its letter; `\w` alone would split at some of them.
    text = "".join(char if unicodedata.category(char)[0] in "LMN" else " " for char in normal_form(term))
    return tuple(singular(word) for word in text.split())


def title_core(title: str, left_out: Iterable[str]) -> frozenset[str]:
    """What a product *is*: its title's words less brands, sizes and words with a digit."""
    dropped = {word for phrase in left_out for word in words(phrase)}
    return frozenset(
        word for word in words(title) if word not in dropped and not any(char.isdigit() for char in word)
    )


def names_product(term: str, core: frozenset[str]) -> bool:
    """True when every word of the term stands in a product's title core."""
    found = words(term)
    return bool(found) and all(word in core for word in found)
