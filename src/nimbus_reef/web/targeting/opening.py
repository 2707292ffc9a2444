"""Rows, opened: what is proposed on each, and what that rests on and touches. One or a thousand."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Any, Final

import polars as pl

from nimbus_reef.core import bids, costly_words, words
from nimbus_reef.core.checks import WITH_ITS_PRODUCT, WORDS_TO_SHUT_OUT
from nimbus_reef.core.evidence import flagged
from nimbus_reef.core.model import MEASURES, from_micro
from nimbus_reef.core.plan import Action, Change, Entity
from nimbus_reef.core.projection import Projected, part_of
from nimbus_reef.core.proposals import (
    AdProduct,
    Move,
    Place,
    Proposal,
    for_phrase,
    for_target,
    for_term,
    for_winner,
    for_word,
)  # fmt: skip
from nimbus_reef.core.windows import Window
from nimbus_reef.jobs import audit
from nimbus_reef.store import product_frames, row_frames, target_frames
from nimbus_reef.store.accounts import Account
from nimbus_reef.store.facts import TARGET_SOURCES, Facts
from nimbus_reef.web.figures import Figures
from nimbus_reef.web.params import Scope
from nimbus_reef.web.targeting import drawer, pages
from nimbus_reef.web.targeting.pages import TARGETS, TERMS, WORDS, Summed, View

HISTORY_DAYS: Final = 90


@dataclass(frozen=True, slots=True)
class Opened:
    """
    One judged row and what is proposed on it.

    days: day, measures and bid (micro) of a target over its history, in order; null for terms.
    products: the ad group's product ads in the window. home: campaign and ad group in which
    a term that wins gets its target. places: the ad groups that paid for a phrase. item: the term is
    the id of an item, not words.
    """

    row: Mapping[str, Any]
    bid: float | None
    proposal: Proposal
    days: pl.DataFrame | None
    products: pl.DataFrame
    home: tuple[str, str] = ("", "")
    places: tuple[Place, ...] = ()
    item: bool = False

    @property
    def here(self) -> tuple[str, str]:
        """Campaign and ad group of the row; empty where it stands in many."""
        return self.row.get("campaign", ""), self.row.get("ad_group", "")


def sources(view: View) -> tuple[str, ...]:
    """The reports that a view's rows come from, the better first."""
    return TARGET_SOURCES if view is TARGETS else ("search_term_daily",)


def monthly_days(facts: Facts, view: View, what: Scope) -> int:
    """The days that a view's figures per 30 days are scaled from: those of the window that are held."""
    account, window = what.account, what.window
    kind = facts.held(account.id, window).kind if view is TARGETS else "search_term_daily"
    return facts.monthly_days(account.id, kind, window)


def judged(facts: Facts, view: View, what: Scope, window: Window) -> pl.DataFrame:
    """The judged rows of a view, with their row ids."""
    if view is WORDS:
        return audit.judged_words(facts, what.account, window, what.aims, what.narrow)
    judge = audit.judged_targets if view is TARGETS else audit.judged_terms
    rows = judge(facts, what.account, window, what.aims)
    return what.narrow.part(facts, what.account, window, rows)


def summed(facts: Facts, view: View, what: Scope, rows: pl.DataFrame) -> Summed:
    """
    What all rows that fit the scope and its filters come to, now and in the days compared with.

    Kept, so that the next page and another order cost nothing.
    """
    account, against = what.account, what.against

    def make() -> Summed:
        by = "excess" if what.judge == "simple" else "stake"
        counted = pl.col(by) if what.judge == "simple" else pl.col(by).filter(flagged())
        spend, sales, stake = rows.select(
            pl.col("spend", "sales").sum(), counted.sum().alias("at stake")
        ).row(0)
        then = None if against is None or view is WORDS else _money(facts, view, account, against, rows)
        return Summed(int(spend), int(sales), int(stake), then)

    now = (facts.generation(account.id), what.window, against, what.aims, account.min_clicks)
    key = ("summed", view.name, account.id, *now, what.narrow, what.judge, what.where, what.query)
    return facts.cache.get(key, make)


def _money(facts: Facts, view: View, account: Account, window: Window, rows: pl.DataFrame) -> tuple[int, int]:
    """Spend and sales of the same rows in other days."""
    if view is TARGETS:
        then, keys = target_frames.target_sums(facts, account.id, window), ["target_id"]
    else:
        then, keys = target_frames.term_sums(facts, account.id, window), ["ad_group_id", "normal_id"]
    same = then.join(rows.select(keys), on=keys, how="semi")
    spend, sales = same.select(pl.col("spend", "sales").sum()).row(0)
    return int(spend), int(sales)


def history(what: Scope) -> Window:
    """The days a trend and the bids that worked are read from."""
    longest = max(HISTORY_DAYS, what.window.days)
    return Window(what.window.shifted(what.window.days - longest).first, what.window.last)


def open_rows(facts: Facts, view: View, what: Scope, rows: pl.DataFrame) -> list[Opened]:
    """Opens judged rows, in their order."""
    products = product_frames.product_rows(facts, what.account.id, what.window)
    of_group = products.partition_by("ad_group_id", as_dict=True)
    opener = {TARGETS.name: _targets, TERMS.name: _terms, WORDS.name: _phrases}[view.name]
    return opener(facts, what, rows, {key[0]: part for key, part in of_group.items()}, products.clear())


def _targets(
    facts: Facts, what: Scope, rows: pl.DataFrame, products: Mapping[Any, pl.DataFrame], none: pl.DataFrame
) -> list[Opened]:
    account, ids = what.account, rows["target_id"].to_list()
    source = facts.held(account.id, what.window).kind
    held = days_with_bids(facts, account, source, history(what), ids)
    by_target = {key[0]: part for key, part in held.partition_by("target_id", as_dict=True).items()}
    no_days = held.clear()
    opened = []
    for row in rows.to_dicts():
        days = by_target.get(row["target_id"], no_days)
        bid = from_micro(row["bid"]) if row["bid"] is not None else None
        past = _past(days, history(what))
        core = drawer.core_row(row, monthly_days(facts, TARGETS, what))
        proposal = for_target(core, bid=bid, history=past, limits=account.bid_limits)
        opened.append(Opened(row, bid, proposal, days, products.get(row["ad_group_id"], none)))
    return opened


def _past(days: pl.DataFrame, window: Window) -> list[bids.Day]:
    """Every day of the history up to the window's end; days that are not held brought nothing."""
    told = {row[0]: row[1:] for row in days.select("day", "clicks", "orders", "spend", "sales", "bid").rows()}
    if not told:
        return []
    nothing = (0, 0, 0, 0, None)
    found = []
    for number in range(window.days):
        day = window.first + timedelta(days=number)
        clicks, orders, spend, sales, bid = told.get(day, nothing)
        found.append(
            bids.Day(
                clicks, orders, from_micro(spend), from_micro(sales), None if bid is None else from_micro(bid)
            )
        )
    return found


def days_with_bids(
    facts: Facts, account: Account, source: str, window: Window, ids: list[int]
) -> pl.DataFrame:
    """Every held day of each target with the bid in force: the newest settings up to it."""
    days = row_frames.target_days(facts, account.id, source, window, ids)
    settings = row_frames.bids(facts, account.id, ids, window).select("target_id", "day", "bid")
    return (
        days.sort("day")
        .join_asof(
            settings.sort("day"), on="day", by="target_id", strategy="backward", check_sortedness=False
        )
        .sort("target_id", "day")
    )


def _terms(
    facts: Facts, what: Scope, rows: pl.DataFrame, products: Mapping[Any, pl.DataFrame], none: pl.DataFrame
) -> list[Opened]:
    everywhere = (
        judged(facts, TERMS, what, what.window).group_by("normal_id").agg(pl.col("orders").sum()).rows()
    )
    orders = dict(everywhere)
    advertised = _advertised(facts, what)
    shapes = product_frames.item_shapes(facts, what.account.id)
    winning = set(audit.winners(facts, what.account, what.window, what.aims)["row_id"])
    homes = {
        row[0]: (row[2], row[3]) for row in target_frames.homes(facts, what.account.id, what.window).rows()
    }
    days = monthly_days(facts, TERMS, what)
    opened = []
    for row in rows.to_dicts():
        group = row["ad_group_id"]
        own = products.get(group, none)
        item = words.item_shape(row["term"]) in shapes
        if row["row_id"] in winning:
            proposal = for_winner(drawer.core_row(row, days), what.account.bid_limits)
            opened.append(Opened(row, None, proposal, None, own, homes[group], item=item))
            continue
        proposal = for_term(
            drawer.core_row(row, days),
            row["term"],
            products=advertised.get(group, []),
            orders_elsewhere=int(orders.get(row["normal_id"], 0) - row["orders"]),
        )
        opened.append(Opened(row, None, proposal, None, own, item=item))
    return opened


def _advertised(facts: Facts, what: Scope) -> dict[Any, list[AdProduct]]:
    """The enabled products of each ad group, with rows in the window or without, by what they are called."""
    account = what.account
    catalog = product_frames.catalog(facts, account.id).drop("sku")
    spent = product_frames.product_rows(facts, account.id, what.window).select(
        "ad_group_id", "product_id", "spend"
    )
    known = (
        product_frames.enabled_ads(facts, account.id, what.window)
        .unique(["ad_group_id", "product_id"], maintain_order=True)
        .join(catalog, on="product_id")
        .join(spent, on=["ad_group_id", "product_id"], how="left")
        .with_columns(pl.col("spend").fill_null(0))
    )
    found: dict[Any, list[AdProduct]] = {}
    for row in known.to_dicts():
        found.setdefault(row["ad_group_id"], []).append(
            AdProduct(
                row["sku"], row["title"], from_micro(row["spend"]),
                words.title_core(row["title"], [row["brand"] or account.brand]),
            )
        )  # fmt: skip
    return found


def deciding(facts: Facts, view: View, what: Scope, row: Mapping[str, Any]) -> list[dict[str, Any]]:
    """The words that a target's or term's verdict hangs on; none of phrases."""
    fit = None if view is WORDS else target_frames.fitted(facts, what.account.id, what.window)
    if fit is None or row["p_over"] is None or row["p_free"] is None:
        return []
    keys = ("target_id",) if view is TARGETS else ("ad_group_id", "normal_id")
    mine = pl.all_horizontal(pl.col(key) == row[key] for key in keys)
    return costly_words.deciding(fit, mine, slow=row["p_over"] > row["p_free"]).to_dicts()


def beginnings(phrase: str) -> list[str]:
    """What every spelling of a phrase's words has in it: a plural may end otherwise (berry, berries)."""
    return [stem.removesuffix("y") for stem in phrase.split() if stem != "+"]


def phrase_terms(facts: Facts, what: Scope, phrase: str) -> pl.DataFrame:
    """
    The judged terms that hold a phrase, with spelt: the words as they stand there; dearest first. Words that
    stand in the same searches ("hand + second") are found by the longest of them.
    """
    terms = judged(facts, TERMS, what, what.window)
    phrase = max(phrase.split(" + "), key=len)
    rough = pl.lit(True)
    for part in beginnings(phrase):
        rough = rough & pl.col("term").str.to_lowercase().str.contains(part, literal=True)
    near = terms.filter(rough)
    spelt = [words.spelt(term, phrase) for term in near["term"]]
    return (
        near.with_columns(spelt=pl.Series(spelt, dtype=pl.String))
        .drop_nulls("spelt")
        .sort("spend", descending=True, maintain_order=True)
    )


def _offered(facts: Facts, what: Scope, phrase: str) -> str:
    """The words that a phrase negative would be made of; see `costly_words.phrase_of`."""
    if " + " not in phrase:
        return phrase
    return costly_words.phrase_of(phrase, phrase_terms(facts, what, phrase)["term"].to_list())


def _phrases(
    facts: Facts, what: Scope, rows: pl.DataFrame, products: Mapping[Any, pl.DataFrame], none: pl.DataFrame
) -> list[Opened]:
    advertised = _advertised(facts, what)
    opened = []
    for row in rows.to_dicts():
        places, own = [], [none]
        for (group,), terms in (
            phrase_terms(facts, what, _offered(facts, what, row["phrase"]))
            .filter(pl.col("spend") > 0)
            .partition_by("ad_group_id", as_dict=True, maintain_order=True)
            .items()
        ):
            here = products.get(group, none)
            own.append(here)
            places.append(
                Place(
                    terms["campaign"][0], terms["ad_group"][0], from_micro(int(terms["spend"].sum())),
                    tuple(terms["spelt"].unique(maintain_order=True)), tuple(terms["row_id"]),
                    any(words.names_product(row["phrase"], each.core) for each in advertised.get(group, [])),
                )
            )  # fmt: skip
        core = drawer.core_row(row, monthly_days(facts, WORDS, what))
        proposal = (
            for_phrase(core, places) if row["fate"] is None else for_word(core, drawer.word_row(row), places)
        )
        hit = pl.concat(own).group_by("sku").agg(pl.col(MEASURES).sum())
        opened.append(Opened(row, None, proposal, None, hit, places=tuple(places)))
    return opened


def changes_of(opened: Opened, write: Figures) -> list[Change]:
    """The proposal as rows of the change sheet; none when nothing is proposed."""
    row, move = opened.row, opened.proposal.move
    if move is Move.NONE:
        return []
    fact, _ = drawer.sentence(row, write)
    reason = drawer.reason_line(
        fact, drawer.offer(opened.proposal, opened.bid, write, opened.home, opened.here)
    ).replace("\u2060", "")  # where lines end is the page's business
    here = {"campaign": opened.here[0], "ad_group": opened.here[1], "reason": reason, "row": 0}
    if opened.places:
        return [
            _negative(spelt, WORDS_TO_SHUT_OUT.key, "negative_phrase", {**here, "campaign": place.campaign, "ad_group": place.ad_group})
            for place in opened.places if not place.names_product
            for spelt in place.spelt
        ]  # fmt: skip
    if move is Move.NEGATIVE:
        return [_negative(row["term"], "wasted-terms", _keeping_out(opened), here)]
    if move is Move.PROMOTE:
        return _promoted(opened, here)
    finding = _finding_of(row)
    target = {"target": row["target"], "match_type": row["match_type"], "finding": finding}
    if move is Move.PAUSE:
        paused = Change(
            action=Action.UPDATE, entity=Entity.TARGET, field="state", old_value=row["state"] or "enabled",
            new_value="paused", **target, **here,
        )  # fmt: skip
        return [paused]
    moved = Change(
        action=Action.UPDATE, entity=Entity.TARGET, field="bid", old_value=f"{opened.bid:.2f}",
        new_value=f"{opened.proposal.new_bid:.2f}", **target, **here,
    )  # fmt: skip
    return [moved]


def _finding_of(row: Mapping[str, Any]) -> str:
    """The check that a change of a target is filed under: the one that found it."""
    if row["verdict"] not in pages.LEANING:
        return "bid-advice"
    if not row["own_fault"] and not row["by_words"]:
        return WITH_ITS_PRODUCT.key
    return "costly-targets" if row["orders"] else "no-order-targets"


def _keeping_out(opened: Opened) -> str:
    return "negative_item" if opened.item else "negative_exact"


def _negative(term: str, finding: str, match_type: str, here: Mapping[str, Any]) -> Change:
    return Change(
        action=Action.CREATE, entity=Entity.NEGATIVE, target=term, match_type=match_type,
        field="state", new_value="enabled", finding=finding, **here,
    )  # fmt: skip


def _promoted(opened: Opened, here: Mapping[str, Any]) -> list[Change]:
    """A target of its own in its home; where that is another ad group, the term is kept from this one."""
    term, home = opened.row["term"], dict(zip(("campaign", "ad_group"), opened.home, strict=True))
    made = Change(
        action=Action.CREATE, entity=Entity.TARGET, target=term, match_type="item" if opened.item else "exact", field="bid",
        new_value=f"{opened.proposal.new_bid:.2f}", finding=audit.WINNERS, **{**here, **home},
    )  # fmt: skip
    return (
        [made]
        if opened.here == opened.home
        else [made, _negative(term, audit.WINNERS, _keeping_out(opened), here)]
    )


def report_rows(facts: Facts, view: View, what: Scope, row: Mapping[str, Any]) -> tuple[str, pl.DataFrame]:
    """The report that a row's figures come from, and its rows in the window (see `rows_behind`)."""
    account = what.account
    source = facts.held(account.id, what.window).kind if view is TARGETS else "search_term_daily"
    if view is WORDS:
        held = phrase_terms(facts, what, row["phrase"]).select("ad_group_id", "normal_id")
        keys = row_frames.keys_of_terms(facts, account.id, held)["target_term_id"].to_list()
    elif view is TERMS:
        keys = row_frames.term_keys(facts, account.id, row["ad_group_id"], row["normal_id"])[
            "target_term_id"
        ].to_list()
    elif source == "target_daily":
        keys = [row["target_id"]]
    else:
        keys = row_frames.terms_of(facts, account.id, row["target_id"], what.window)[
            "target_term_id"
        ].to_list()
    return source, row_frames.rows_behind(facts, account.id, source, what.window, keys)


def break_even(facts: Facts, account: Account, row: Mapping[str, Any]) -> tuple[str, float] | None:
    """The main product of a row's ad group and its margin before ads: ACOS at which nothing is earned."""
    if row.get("main_product") is None:
        return None
    known = product_frames.catalog(facts, account.id).filter(pl.col("sku") == row["main_product"])
    margin = known["margin"].drop_nulls()
    return (row["main_product"], margin[0] / 100) if len(margin) else None


def proposed(
    opened: Opened, view: View, what: Scope, write: Figures, facts: Facts
) -> list[tuple[Change, dict[str, Any]]]:
    """
    The proposal as rows of the change sheet, each with what its promise rests on.

    A phrase's projection is shared over its ad groups by what each spent on it.
    """
    basis = _basis_of(opened, view, what, facts)
    changes = changes_of(opened, write)
    if not opened.places:
        return [(change, basis) for change in changes]
    free = {(each.campaign, each.ad_group): each for each in opened.places if not each.names_product}
    spent = sum(place.spend for place in free.values())
    made = []
    for change in changes:
        place = free[change.campaign, change.ad_group]
        share = place.spend / spent / len(place.spelt) if spent else 0.0
        part = part_of(opened.proposal.projected, share)
        made.append((change, {**basis, "projected": _as_lists(part), "terms": list(place.terms)}))
    return made


def _basis_of(opened: Opened, view: View, what: Scope, facts: Facts) -> dict[str, Any]:
    """What the promise of an accepted change rests on, for holding it to that later."""
    core = drawer.core_row(opened.row, monthly_days(facts, view, what))
    return {
        "window": [what.window.first.isoformat(), what.window.last.isoformat()],
        "clicks": core.clicks, "orders": core.orders, "spend": core.spend, "sales": core.sales,
        "a": core.a, "b": core.b, "aov": core.aov, "target_acos": core.target_acos,
        "view": view.name, "row_id": opened.row["row_id"],
        "projected": _as_lists(opened.proposal.projected),
    }  # fmt: skip


def _as_lists(projected: Projected) -> dict[str, list[float]]:
    ranges = {"spend": projected.spend, "sales": projected.sales}
    return {name: [each.low, each.middle, each.high] for name, each in ranges.items()}
