"""What is out of sight among the findings: put away, or ticked off and watched since."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nimbus_reef.analysis.falls import Watched, watched
from nimbus_reef.analysis.hidden_names import Names, names_of
from nimbus_reef.core.checks import CHECKS, Reading
from nimbus_reef.core.listings import Repaired
from nimbus_reef.core.metrics import ratio
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people.hidden_findings import DONE, PutAway
from nimbus_reef.web.kit.context import Context


@dataclass(frozen=True, slots=True)
class Hidden:
    """A finding put away."""

    id: int
    what: str
    until: str
    reason: str
    by: str


def hidden(away: Sequence[PutAway], names: Names) -> list[Hidden]:
    """What is away, until when and why; names: what a row is called."""
    return [
        Hidden(
            each.id,
            names[each.check, each.row_id],
            (
                "for good"
                if each.for_good
                else f"until {each.until_day}"
                if each.until_day
                else f"until {each.until_clicks} more clicks"
            ),
            each.reason,
            f"{each.by}, {each.since}" if each.by else str(each.since),
        )
        for each in away
    ]


@dataclass(frozen=True, slots=True)
class Ticked:
    """A finding that was done by hand: what was done, and how it went since."""

    id: int
    what: str
    title: str
    done: str
    by: str
    since: str
    tone: str


def ticked(done: Sequence[PutAway], names: Names, since: Mapping[str, Watched], figures: Figures) -> list[Ticked]:
    """What was ticked off; since: what conversion did since a fall of it was."""
    return [
        Ticked(
            each.id,
            names[each.check, each.row_id],
            CHECKS[each.check].title,
            each.reason.removeprefix(DONE),
            f"{each.by}, {figures.day(each.since)}",
            *_since_words(each, since.get(each.row_id), figures),
        )
        for each in done
    ]


def _since_words(each: PutAway, found: Watched | None, figures: Figures) -> tuple[str, str]:
    """How it went since, and its tone; of what is not measured when it comes back."""
    if CHECKS[each.check].reads is not Reading.FALLS:
        back = f" on {figures.day(each.until_day)}" if each.until_day else ""
        return f"returns{back} if it is still found", ""
    if found is None or not found.after[0]:
        return "no clicks yet on complete days", ""
    sides = [
        f"{figures.rate(ratio(orders, clicks))} of {figures.counted(clicks, 'click')}"
        for clicks, orders in (found.before, found.after)
    ]
    tone = {Repaired.BETTER: "gain", Repaired.WORSE: "loss"}.get(found.repaired, "")
    return f"converts {sides[1]}, before {sides[0]}: {found.repaired}", tone


def put_aside(ask: Context, away: Sequence[PutAway]) -> tuple[list[Hidden], list[Ticked]]:
    """What is put away, and what is ticked off with how it went since."""
    names = names_of(ask.facts, ask.selection, away)
    done = [each for each in away if each.done]
    fell = {each.row_id: each.since for each in done if CHECKS[each.check].reads is Reading.FALLS}
    since = watched(ask.facts, ask.selection, fell)
    return hidden([each for each in away if not each.done], names), ticked(done, names, since, ask.figures)
