"""
Names of campaigns by the account's own pattern: named parts and literal separators, as in `{product} · {purpose} ·
{match}`.

See "Names" in docs/calculations.md.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Final

SUGGESTED: Final = ("product", "purpose", "match", "format", "country", "owner")
"""Parts that many accounts have; any word may be one."""
_PART: Final = re.compile(r"\{([^{}]*)\}")
_NAME: Final = re.compile(r"[a-z][a-z0-9_]{0,31}")
LONGEST: Final = 255


@dataclass(frozen=True, slots=True)
class Pattern:
    """A pattern that can be read: its text and the names of its parts, in order."""

    text: str
    parts: tuple[str, ...]

    def read(self, name: str) -> dict[str, str] | None:
        """The parts of a name; None where it does not fit."""
        found = _compiled(self.text).fullmatch(name)
        return found.groupdict() if found else None

    def written(self, parts: Mapping[str, str]) -> str:
        """The name that parts make."""
        return _PART.sub(lambda each: parts[each[1]], self.text)


def pattern_problem(text: str) -> str | None:
    """Why a pattern cannot be used; None when it can."""
    parts = _PART.findall(text)
    if not parts:
        return "has no part. Add one such as {product}"
    if len(text) > LONGEST:
        return f"is longer than {LONGEST} characters"
    for part in parts:
        if not _NAME.fullmatch(part):
            return f"calls a part “{part}”; use small letters, digits and _"
    twice = [part for part, times in Counter(parts).items() if times > 1]
    if twice:
        return f"names {twice[0]} twice"
    if re.search(r"\}\{", text):
        return "has two parts side by side; put something between them"
    if "{" in _PART.sub("", text) or "}" in _PART.sub("", text):
        return "has a brace that is not closed"
    return None


def pattern(text: str) -> Pattern | None:
    """The pattern that a text is; None where it is none."""
    return None if pattern_problem(text) else Pattern(text, tuple(_PART.findall(text)))


@lru_cache(maxsize=64)
def _compiled(text: str) -> re.Pattern[str]:
    """Each part is as short as fits, the last what is left; none is empty, none holds a separator that follows it."""
    pieces = _PART.split(text)
    entries = []
    for place, piece in enumerate(pieces):
        if place % 2 == 0:
            entries.append(re.escape(piece))
            continue
        after = pieces[place + 1]
        within = rf"(?:(?!{re.escape(after)}).)+" if after else ".+"
        entries.append(f"(?P<{piece}>{within})")
    return re.compile("".join(entries), re.DOTALL)


@dataclass(frozen=True, slots=True)
class ParsedNames:
    """Names that fit, with their parts, and those that do not; counts: values of each part, the most frequent first."""

    fits: dict[str, dict[str, str]]
    breaks: tuple[str, ...]
    counts: dict[str, tuple[tuple[str, int], ...]]


def parse(found: Pattern, names: Sequence[str]) -> ParsedNames:
    """All names of an account by one pattern."""
    read = {name: found.read(name) for name in names}
    fits = {name: parts for name, parts in read.items() if parts is not None}
    counts = {
        part: tuple(
            sorted(Counter(parts[part] for parts in fits.values()).items(), key=lambda each: (-each[1], each[0]))
        )
        for part in found.parts
    }
    return ParsedNames(fits, tuple(name for name, parts in read.items() if parts is None), counts)


_SEPARATORS: Final = (" · ", " | ", " - ", " / ", "_", "·", "|")


def suggested(names: Sequence[str]) -> str:
    """The pattern that most names seem to keep: the commonest separator and number of parts; empty without one."""
    shapes = Counter(
        (separator, len(name.split(separator))) for name in names for separator in _SEPARATORS if separator in name
    )
    if not shapes:
        return ""
    (separator, count), times = max(shapes.items(), key=lambda each: (each[1], -_SEPARATORS.index(each[0][0])))
    if times * 2 < len(names) or count > len(SUGGESTED):
        return ""
    return separator.join(f"{{{part}}}" for part in SUGGESTED[:count])


def rename(found: Pattern, name: str, known: Mapping[str, Sequence[str]], fallback: Mapping[str, str]) -> str:
    """
    A name that fits, made of one that does not: parts whose known values stand in it, the rest from what is known of
    the campaign (`fallback`), else "other".

    known: the values that each part has in names that fit.
    """
    low = name.casefold()
    parts = {}
    for part in found.parts:
        inside = [value for value in known.get(part, ()) if value.casefold() in low]
        parts[part] = fallback.get(part) or max(inside, key=len, default="") or "other"
    return found.written(parts)
