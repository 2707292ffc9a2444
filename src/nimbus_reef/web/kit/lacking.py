"""No figures is not nothing wrong: what a page says, in its frame, where its window holds nothing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nimbus_reef.analysis.lacking import Lack, lacking
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import NotFound, ReefError
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.params import Scope


class NoFigures(ReefError):
    """A page's window holds no figures of what it shows. Shown in the frame, with what is held."""

    def __init__(self, lack: Lack, figures: Figures, days: str) -> None:
        result = described(lack, figures)
        super().__init__(f"{result.bold} {result.rest}".strip(), remedy=result.remedy, place="")
        self.lack = lack
        self.days = days


@dataclass(frozen=True, slots=True)
class Told:
    """What a page without figures says. bold: the finding; rest: what is held; remedy: what would help."""

    bold: str
    rest: str
    remedy: str
    links: tuple[tuple[str, Window], ...]


def need(facts: Facts, scope: Scope, kinds: Sequence[str], figures: Figures, window: Window | None = None) -> None:
    """
    NoFigures where none of the reports holds a day of the window (that of the scope when not given); NotFound where
    nothing is loaded at all, which leaves no window to speak of.
    """
    if scope.newest is None:
        raise NotFound(f"Nothing is loaded for {scope.account.brand} yet.", remedy="Drop a report in Intake.")
    lack = lacking(facts, scope.account, window or scope.window, kinds)
    if lack is not None:
        raise NoFigures(lack, figures, "against" if window is not None and window != scope.window else "window")


def described(lack: Lack, figures: Figures) -> Told:
    """A window without figures in words, with the days that can be looked at instead."""
    titles = [KINDS[kind].title.lower() for kind in lack.kinds]
    named = titles[0] if len(titles) == 1 else f"{', '.join(titles[:-1])} or {titles[-1]}"
    rest = [f"{KINDS[each.kind].title}: loaded for {figures.days(each.days)}." for each in lack.loaded] or [
        "None of these reports is loaded yet."
    ]
    rest += [
        f"{KINDS[kind].title}: the total of {figures.days(block)} is left out. This period covers only part of it."
        for kind, block in lack.cut
    ]
    links = [(f"Look at {figures.days(each.look_at)}", each.look_at) for each in lack.loaded]
    offered = {days for _, days in links}
    wider = {widened(lack.window, block): block for _, block in lack.cut}
    links += [(f"Widen to {figures.days(block)}", days) for days, block in wider.items() if days not in offered]
    return Told(
        f"No data for {figures.days(lack.window)}.",
        " ".join(rest),
        f"This needs {named} for this period.",
        tuple(dict.fromkeys(links)),
    )


def widened(window: Window, block: Window) -> Window:
    """The window with all days of a block."""
    return Window(min(window.first, block.first), max(window.last, block.last))


def source_words(kind: str, value: int, window: Window) -> str:
    """Which report totals come from, what it leaves out, and how many of the days it holds."""
    words = f"Totals come from {KINDS[kind].title.lower()}"
    if kind == "search_term_daily":
        words += ". Search terms only: clicks without a term are missing"
    if value < window.days:
        words += f". Loaded for {value} of {window.days} days"
    return f"{words}."
