"""A phrase opened beside a list of Reach: what it is expected to do, who ranks for it, how ranks went."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from nimbus_reef.analysis.reach import buying, market, ranks, two_phrases
from nimbus_reef.core.model import from_micro
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit import luck
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer, offered
from nimbus_reef.web.reach.rank_course import drawn


def of_pool(ask: Context, row_id: str) -> Drawer:
    """A phrase that was never bought, what its conversion rests on, and the keyword that is proposed."""
    figures = ask.figures
    (row,) = buying.rows_of(ask.facts, ask.selection, [row_id])
    fit = market.fitted(ask.facts, ask.selection.whole)
    own = f"{figures.counted(row['free_clicks'], 'click')} without ads" if row["free_clicks"] else "this phrase"
    picture = luck.of_phrase(row, fit.mean, own, figures) if fit else None
    return _drawer(ask, row, f"It would convert {figures.rate(row['cvr'])}.", _told(row, figures), picture)


def of_ranks(ask: Context, row_id: str) -> Drawer:
    """A phrase of the keyword lists, what comes first on it, and a keyword where one would pay."""
    figures = ask.figures
    (row,) = ranks.rows_of(ask.facts, ask.selection, [row_id])
    lacks = f"The title of {row['sku']} lacks “{row['missing']}”." if row["missing"] and row["sku"] else ""
    paying = f"{figures.counted(row['paying'], 'rival')} with ads." if row["paying"] else ""
    rest = " ".join(filter(None, (f"First: {row['fight']}.", lacks, paying, _searched(row, figures))))
    return _drawer(ask, row, f"{row['gap'].capitalize()}.", rest, None)


def _drawer(ask: Context, row: Mapping[str, Any], bold: str, rest: str, picture: luck.Luck | None) -> Drawer:
    figures, facts, selection = ask.figures, ask.facts, ask.selection
    (proposal,) = ranks.proposals(facts, selection, [row["row_id"]])
    titles, here = market.titles(facts, selection), ask.url("reach.view", name="two-phrases")
    own_title = titles.get(row["sku"] or "", "")
    links = [("Beside another phrase", ask.scope.elsewhere(here, one=row["phrase"]))]
    return Drawer(
        row["row_id"],
        row["phrase"],
        " · ".join(filter(None, (row["sku"] or "no product", row["category"] or "category unknown", own_title))),
        bold,
        rest,
        offered(ask, proposal),
        picture=picture,
        siblings_title="Who ranks for it",
        siblings=tuple(
            (
                "none",
                f"{figures.count(each.rank)}. {each.brand}",
                each.title or each.item,
                "" if each.price is None else figures.money(from_micro(each.price), 2),
            )
            for each in market.ranked(facts, selection, row["normal_id"])
        ),
        course=drawn(two_phrases.course(facts, selection, row["normal_id"]), figures),
        links=tuple(links),
    )


def _searched(row: Mapping[str, Any], figures: Figures) -> str:
    volume = row["volume"]
    return f"{figures.count(volume)} searches a week." if volume is not None else "Its volume is unknown."


def _told(row: Mapping[str, Any], figures: Figures) -> str:
    """What lists say of a phrase."""
    said = [_searched(row, figures)]
    if row["suggested"] is not None:
        said.append(f"The marketplace suggests a bid of {figures.money(row['suggested'], 2)}.")
    if row["brought"]:
        said.append(f"On your list “{row['brought']}”.")
    return " ".join(said)
