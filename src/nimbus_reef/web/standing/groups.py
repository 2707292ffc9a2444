"""Groups against peers, the mix of formats, and what the account is made of."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from nimbus_reef.analysis.standing import NONE_GIVEN, Placed
from nimbus_reef.analysis.wording import ahead_words
from nimbus_reef.core import peers
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.peers import RATED
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.strips import Strip, strip


@dataclass(frozen=True, slots=True)
class GroupLine:
    """One category, format, portfolio or country."""

    name: str
    share: str
    cells: tuple[Strip, ...]
    overall: str


def group_lines(groups: Sequence[tuple[str, float, list[Placed]]], figures: Figures) -> list[GroupLine]:
    """Groups with a strip per metric, and their overall standing."""
    whole = sum(spend for _, spend, _ in groups)
    entries = []
    for name, spend, placed in groups:
        at = peers.overall({each.standing.metric: each.standing.percentile for each in placed})
        entries.append(
            GroupLine(
                name,
                figures.rate(ratio(spend, whole), 0),
                tuple(strip(each.standing, figures) for each in placed),
                figures.count(at),
            )
        )
    return entries


@dataclass(frozen=True, slots=True)
class FormatPair:
    """Our share above the peers'; bars are 0 … 100 wide."""

    name: str
    ours: str
    ours_bar: float
    theirs: str
    theirs_bar: float


def format_words(name: str) -> str:
    """The ads of a format, as a group of them is called."""
    return "ads of unknown format" if name == NONE_GIVEN else f"{name} ads"


def format_pairs(mix: Sequence[Mapping[str, Any]], what: str, figures: Figures) -> list[FormatPair]:
    """Shares of spend or of campaigns by ad format."""
    return [
        FormatPair(
            f"{each['format'].capitalize()} ads",
            figures.rate(each[f"{what}_share"], 0),
            100 * (each[f"{what}_share"] or 0),
            figures.rate(each[f"peer_{what}_share"], 0),
            100 * (each[f"peer_{what}_share"] or 0),
        )
        for each in mix
    ]


def format_answer(
    mix: Sequence[Mapping[str, Any]], formats: Sequence[tuple[str, float, list[Placed]]], figures: Figures
) -> Answer:
    """Where our mix is furthest from the peers', and the weakest and the strongest standing of a format."""
    known = [each for each in mix if None not in (each["spend_share"], each["peer_spend_share"])]
    bold = "No format mix of peers loaded."
    if all(each["spend_share"] is None for each in mix):
        bold = "Ad formats unknown. Load the campaigns report."
    elif known:
        furthest = max(known, key=lambda each: abs(each["spend_share"] - each["peer_spend_share"]))
        bold = (
            f"{furthest['format'].capitalize()} ads take {figures.rate(furthest['spend_share'], 0)} of spend, "
            f"{figures.rate(furthest['peer_spend_share'], 0)} at peers."
        )
    placed = [
        (each.standing.percentile, f"{RATED[each.standing.metric].label} of {format_words(name)}")
        for name, _, places in formats
        for each in places
        if each.standing.percentile is not None
    ]
    if not placed:
        return Answer(bold, "No format has enough clicks and orders to compare with peers.")
    low, weakest = min(placed)
    return Answer(bold, f"Weakest: {weakest}, {ahead_words(low, figures)}.")
