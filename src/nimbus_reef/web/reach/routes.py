"""Reach: phrases never bought, room at the top of search, rank gaps, rivals, coverage."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import timedelta
from typing import Final

from flask import Blueprint, flash, redirect, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis.reach import buying, files, market, shares
from nimbus_reef.analysis.reach.pool import is_made
from nimbus_reef.core import rival_sets
from nimbus_reef.core.changes import LONGEST_TEXT
from nimbus_reef.core.checks.reach import PHRASES
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.formats.typed import number
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store.people import account_settings, hidden_findings
from nimbus_reef.web import acting
from nimbus_reef.web.current import context, current_scope, figures, is_first_answer, must_write, services
from nimbus_reef.web.kit.judging import worked_out_first
from nimbus_reef.web.kit.views import AreaView
from nimbus_reef.web.reach import (
    coverage_pages,
    overlap_pages,
    phrase_drawer,
    phrase_pages,
    rank_pages,
    rival_pages,
    share_pages,
    two_phrase_pages,
)
from nimbus_reef.web.view_routes import add_acceptance, add_pages

reach = Blueprint("reach", __name__, url_prefix="/reach")
VIEWS: Final[Mapping[str, AreaView]] = {
    buying.VIEW: AreaView(
        "Phrases never bought",
        phrase_pages.page,
        files.NEEDS["phrases"],
        phrase_pages.LIST,
        drawer=phrase_drawer.of_pool,
        thing="phrase",
        things="phrases",
    ),
    shares.TOP_VIEW: AreaView(
        "Top of search",
        share_pages.top_page,
        files.NEEDS[shares.TOP_VIEW],
        share_pages.TOP,
        thing="target",
        things="targets",
        template="list",
    ),
    shares.TERMS_VIEW: AreaView(
        "Small shares",
        share_pages.terms_page,
        files.NEEDS[shares.TERMS_VIEW],
        share_pages.TERMS,
        thing="search term",
        things="search terms",
        template="list",
    ),
    "ranks": AreaView(
        "Rank gaps",
        rank_pages.gaps_page,
        files.NEEDS["ranks"],
        rank_pages.GAPS,
        drawer=phrase_drawer.of_ranks,
        thing="phrase",
        things="phrases",
        template="list",
    ),
    "rival-ads": AreaView(
        "Rivals’ ads",
        rank_pages.ads_page,
        files.NEEDS["ranks"],
        rank_pages.ADS,
        drawer=phrase_drawer.of_ranks,
        thing="phrase",
        things="phrases",
        template="list",
    ),
    "rivals": AreaView("Rivals", rival_pages.page, files.NEEDS["rivals"], rival_pages.LIST),
    "coverage": AreaView(
        "Coverage", coverage_pages.page, files.NEEDS["coverage"], coverage_pages.LIST, template="list"
    ),
    "own-against-own": AreaView(
        "Own against own", overlap_pages.page, files.NEEDS["own-against-own"], overlap_pages.LIST, template="list"
    ),
    "two-phrases": AreaView("Two phrases", two_phrase_pages.page, files.NEEDS["phrases"], file=two_phrase_pages.table),
}
LATER: Final = timedelta(weeks=4)
MOST_SET_ASIDE: Final = 500


_OF_THE_MARKET: Final = frozenset(VIEWS) - {shares.TOP_VIEW, "rivals"}
"""Views whose rows are phrases of the market."""


def _before(name: str) -> None:
    """Answers with sums first where the pool is made from very many rows."""
    if name not in _OF_THE_MARKET:
        return
    facts, scope = services().facts, current_scope()
    make = lambda: is_made(facts, scope.selection)  # noqa: E731
    reads = [
        ("search_term_daily", market.window(scope.selection)),
        (market.LISTS, market.ranks_window(scope.selection)),
    ]
    worked_out_first(facts, scope, make, reads, first=is_first_answer())


add_pages(
    reach,
    VIEWS,
    "Reach",
    "This area needs keyword lists with ranks or the query funnel, and search terms by day. Shares in the reports of"
    " targets and search terms tell where more can be won.",
    _before,
)
add_acceptance(reach, VIEWS, "Reach")


def _back() -> AnyResponse:
    scope = current_scope()
    return redirect(acting.back_to(scope, scope.link(url_for("reach.view", name="phrases"), open="")))


@reach.post("/phrases/put-away")
def put_away() -> AnyResponse:
    """Sets the selected phrases aside: not ours for good, or for four weeks."""
    who, scope = must_write(), current_scope()
    keys = acting.keys_of(context(), phrase_pages.LIST)
    if not keys:
        raise BadInput("No phrase is selected.", remedy="Select rows first (x), or all filtered rows (X).")
    if len(keys) > MOST_SET_ASIDE:
        raise BadInput(
            f"{figures().counted(len(keys), 'phrase')} are too many to set aside one by one.",
            remedy=f"Select at most {MOST_SET_ASIDE}, or drop a word: that takes all phrases with it at once.",
        )
    later = request.form.get("until") == "later"
    hidden_findings.put(
        services().store,
        scope.account.id,
        who.id,
        PHRASES.key,
        keys,
        until_day=today_of(scope.account) + LATER if later else None,
        until_clicks=None,
        reason="" if later else "not ours",
    )
    done = "hidden for 4 weeks" if later else "marked as not ours"
    flash(f"{figures().counted(len(keys), 'phrase')} {done}. Filter by status to see them.")
    return _back()


@reach.post("/phrases/bring-back")
def bring_back() -> AnyResponse:
    """Brings the selected phrases back that were set aside."""
    who, scope = must_write(), current_scope()
    keys = frozenset(acting.keys_of(context(), phrase_pages.LIST))
    away = hidden_findings.away(services().store, scope.account.id)
    mine = [each.id for each in away if each.check == PHRASES.key and each.row_id in keys]
    count = hidden_findings.bring_back(services().store, scope.account.id, who.id, mine)
    flash(f"{figures().counted(count, 'phrase')} brought back.")
    return _back()


@reach.post("/phrases/words")
def words() -> AnyResponse:
    """Drops all phrases with a word, or takes the word back; kept with the account's settings."""
    who, account = must_write(), current_scope().account
    word, kept = request.form.get("word", "").strip(), account.settings.unwanted_words
    if not word:
        raise BadInput("No word given.", remedy="Choose one in the list of words.")
    after = tuple(each for each in kept if each != word) if request.form.get("back") else (*kept, word)
    changed = replace(account.settings, unwanted_words=tuple(dict.fromkeys(after)))
    account_settings.change(services().store, account.id, who.id, account.settings, changed)
    flash(f"“{word}” is back." if request.form.get("back") else f"Phrases with “{word}” left the pool.")
    return _back()


@reach.post("/rivals/choose")
def choose() -> AnyResponse:
    """
    Compares ranks with the selected items from now on, kept by name where one is given; with a set that was kept; or,
    where nothing is selected, with the items that rank most.
    """
    who, scope = must_write(), current_scope()
    account, name = scope.account, request.form.get("set_name", "").strip()
    sets = rival_sets.named(account.settings.rival_sets)
    keys = sets[name] if request.form.get("use") and name in sets else tuple(_rivals_selected())
    changed = replace(account.settings, chosen_rivals=keys)
    if name and keys:
        changed = replace(changed, rival_sets=rival_sets.with_set(account.settings.rival_sets, name, keys))
    account_settings.change(services().store, account.id, who.id, account.settings, changed)
    said = f"Ranks are compared with {figures().counted(len(keys), 'item')}{f' of “{name}”' if name else ''}."
    flash(said if keys else "Ranks are compared with the items that rank most.")
    return _back_to_rivals()


@reach.post("/rivals/forget")
def forget() -> AnyResponse:
    """Forgets a kept set of rivals; what ranks are compared with stays."""
    who, account = must_write(), current_scope().account
    name = request.form.get("set_name", "").strip()
    left = rival_sets.with_set(account.settings.rival_sets, name, ())
    account_settings.change(
        services().store, account.id, who.id, account.settings, replace(account.settings, rival_sets=left)
    )
    flash(f"The set “{name}” is no longer kept.")
    return _back_to_rivals()


def _rivals_selected() -> list[str]:
    keys = acting.keys_of(context(), rival_pages.LIST)
    name, sets = request.form.get("set_name", "").strip(), current_scope().account.settings.rival_sets
    if len(keys) > rival_sets.MOST_ITEMS:
        most = rival_sets.MOST_ITEMS
        raise BadInput(f"More than {most} rivals are selected.", remedy="Select fewer: those you compete with.")
    if "=" in name or len(name) > LONGEST_TEXT:
        raise BadInput("This is no name for a set.", remedy=f"Use up to {LONGEST_TEXT} characters without “=”.")
    if name and name not in rival_sets.named(sets) and len(sets) >= rival_sets.MOST_SETS:
        raise BadInput(f"{rival_sets.MOST_SETS} sets are kept already.", remedy="Remove one that you no longer use.")
    return keys


def _back_to_rivals() -> AnyResponse:
    return redirect(current_scope().link(url_for("reach.view", name="rivals"), open=""))


_GROUPED: Final = {buying.VIEW: phrase_pages.LIST, shares.TERMS_VIEW: share_pages.TERMS}
"""Views whose rows can become campaigns of their own."""


@reach.post("/<name>/group")
def group(name: str) -> AnyResponse | str:
    """Puts the selected rows into the plan as campaigns of their own, one a product, or a product and word."""
    must_write()
    if name not in _GROUPED:
        raise NotFound("Nothing here becomes a campaign.", remedy="Use a link on the page.")
    scope, ask = current_scope(), context()
    keys = acting.keys_of(ask, _GROUPED[name])
    if not keys:
        raise BadInput("No row is selected.", remedy="Select rows first (x), or all filtered rows (X).")
    called, budget = _typed_campaign()
    if name == buying.VIEW:
        found = phrase_pages.grouped(ask, keys, called, budget, by_word=bool(request.form.get("by_word")))
    else:
        found = share_pages.grouped(ask, keys, called, budget)
    return acting.put(
        scope,
        found,
        title=f"Preview: {figures().counted(len(found), 'new campaign')}",
        thing="campaign",
        action=url_for("reach.group", name=name),
        back=acting.back_to(scope, scope.link(url_for("reach.view", name=name), open="")),
    )


def _typed_campaign() -> tuple[str, float | None]:
    """The name and budget that were typed, empty and None for what is usual."""
    name, typed = (request.form.get(each, "").strip() for each in ("campaign_name", "budget"))
    amount = number(typed, current_scope().account.locale) if typed else None
    if typed and (amount is None or amount <= 0):
        raise BadInput(f"“{typed}” is not a budget.", remedy="Write an amount a day, like 12.50.")
    if len(name) > LONGEST_TEXT:
        raise BadInput("The name is too long.", remedy=f"Use at most {LONGEST_TEXT} characters.")
    return name, None if amount is None else float(amount)
