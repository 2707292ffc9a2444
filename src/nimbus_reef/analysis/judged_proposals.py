"""What is proposed on judged targets, search terms and phrases, and what it rests on and touches."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from datetime import timedelta
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.analysis import bid_advice, bid_response
from nimbus_reef.analysis.destinations import Destination, places
from nimbus_reef.analysis.judged import Judged, judged_targets, judged_terms, judged_words, never_shut_out, winners
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import change, evidence_of, promise
from nimbus_reef.core import bids, costly_words, evidence, own_limits, past_bids, words
from nimbus_reef.core.bids import BidMove, TargetAdvice
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.checks.targeting import WASTED_TERMS, WINNERS, WORDS_TO_SHUT_OUT, filed_under
from nimbus_reef.core.costly_words import WordAdvice
from nimbus_reef.core.model import MEASURES, MatchType, Verdict, from_micro
from nimbus_reef.core.projection import part_of
from nimbus_reef.core.promises import as_ranges
from nimbus_reef.core.proposals import EntityKey, Package, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.recommendations import (
    AdProduct,
    Move,
    Place,
    Recommendation,
    Row,
    Word,
    can_be_negative,
    for_phrase,
    for_target,
    for_term,
    for_winner,
    for_word,
)
from nimbus_reef.core.response import USUAL, ClickResponse
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import product_frames, row_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import TARGET_SOURCES, Facts

HISTORY_DAYS: Final = 90


@dataclass(frozen=True, slots=True)
class JudgedRow:
    """
    One judged row, what is recommended for it and what that rests on.

    products: the ad group's product ads in the window. destinations: where a term that wins may get its target, the
    first of them where it is proposed. places: the ad groups that paid for a phrase. item: the term is the id of an
    item, not words. response: how clicks answer bids in the account.
    """

    row: Mapping[str, Any]
    bid: float | None
    recommendation: Recommendation
    products: pl.DataFrame
    destinations: tuple[Destination, ...] = ()
    places: tuple[Place, ...] = ()
    item: bool = False
    response: ClickResponse = USUAL

    @property
    def home(self) -> tuple[str, str]:
        """Campaign and ad group of the row; empty where it stands in many."""
        return str(self.row.get("campaign", "")), str(self.row.get("ad_group", ""))

    @property
    def destination(self) -> Destination | None:
        """Where it gets its target; None of what gets none."""
        return self.destinations[0] if self.destinations else None

    def sent_to(self, key: str) -> JudgedRow:
        """The same with another of its destinations chosen; BadInput for one that is not offered."""
        chosen = next((each for each in self.destinations if each.key == key), None)
        if chosen is None:
            raise BadInput("This ad group is not an option.", remedy="Choose one from the list.")
        return replace(self, destinations=(chosen, *(each for each in self.destinations if each != chosen)))


def sources(subject: Subject) -> tuple[str, ...]:
    """The reports that rows of a subject come from, the better first."""
    return TARGET_SOURCES if subject is Subject.TARGET else ("search_term_daily",)


def source(facts: Facts, selection: Selection, subject: Subject) -> str:
    """The one report that rows of a subject come from in a window."""
    return (
        facts.target_source(selection.account.id, selection.window).kind
        if subject is Subject.TARGET
        else "search_term_daily"
    )


def judged_as(subject: Subject) -> Judged:
    """The rows whose verdicts a subject's rest on."""
    return Judged.TARGETS if subject is Subject.TARGET else Judged.TERMS


def monthly_days(facts: Facts, selection: Selection, subject: Subject) -> int:
    """The days that a row's figures per 30 days are scaled from: those of the window that are held."""
    return facts.monthly_days(selection.account.id, source(facts, selection, subject), selection.window)


def judged(facts: Facts, selection: Selection, subject: Subject) -> pl.DataFrame:
    """The judged rows of a subject in the part that is looked at, with their row ids."""
    if subject is Subject.PHRASE:
        return judged_words(facts, selection)
    rows = judged_targets(facts, selection) if subject is Subject.TARGET else judged_terms(facts, selection)
    return selection.within(facts, rows)


def history(selection: Selection) -> Window:
    """The days a trend and the bids that worked are read from."""
    longest = max(HISTORY_DAYS, selection.window.days)
    return Window(selection.window.shifted(selection.window.days - longest).first, selection.window.last)


def core_row(row: Mapping[str, Any], days: int) -> Row:
    """A judged row of a frame as the core's proposals take it, money in units."""
    has_prior = row["prior_a"] is not None
    more = None
    if has_prior and row["needed_cvr"] is not None:
        more = evidence.clicks_needed(
            np.array([row["n"]]),
            np.array([row["k"]]),
            np.array([row["prior_a"]]),
            np.array([row["prior_b"]]),
            np.array([row["needed_cvr"]]),
        )[0]
    return Row(
        days=days,
        clicks=row["clicks"],
        orders=row["orders"],
        spend=from_micro(row["spend"]),
        sales=from_micro(row["sales"]),
        a=(row["prior_a"] or 0) + row["k"] if has_prior else 1.0,
        b=row["prior_b"] + row["n"] - row["k"] if has_prior else 1.0,
        aov=from_micro(row["shrunk_aov"] or 0),
        target_acos=row["target_acos"],
        verdict=Verdict(row["verdict"]),
        own_test=row["own_test"],
        own_fault=row["own_fault"],
        more_clicks=more,
        by_words=bool(row.get("by_words")),
    )


def word_row(row: Mapping[str, Any]) -> Word:
    """A row of words that was judged by its factor, as the core's proposals take it."""
    return Word(
        row["p_word"] or 0.0,
        row["factor"],
        row["limit"] or 1.0,
        row["cells"],
        WordAdvice(row["fate"]),
        row["good_terms"],
        row["good_orders"],
    )


def recommended(facts: Facts, selection: Selection, subject: Subject, rows: pl.DataFrame) -> list[JudgedRow]:
    """Judged rows of a subject with what is recommended for each, in their order."""
    products = product_frames.product_rows(facts, selection.account.id, selection.window)
    if subject is not Subject.PHRASE:
        products = products.filter(pl.col("ad_group_id").is_in(rows["ad_group_id"].unique().implode()))
    of_group = products.partition_by("ad_group_id", as_dict=True)
    recommend = {Subject.TARGET: _targets, Subject.TERM: _terms, Subject.PHRASE: _phrases}[subject]
    return recommend(facts, selection, rows, {key[0]: part for key, part in of_group.items()}, products.clear())


def limited(account: Account, rows: pl.DataFrame) -> pl.DataFrame:
    """Rows with the limits of their bids that are set below the account: see `limits_of`."""
    return rows.with_columns(own_limits.columns(account.own_limits, account.bid_limits, rows.columns))


def limits_of(account: Account, row: Mapping[str, Any]) -> bids.BidLimits:
    """What the bid of a row of `limited` keeps to."""
    return own_limits.in_force(account.own_limits, account.bid_limits, row)


def _targets(
    facts: Facts, selection: Selection, rows: pl.DataFrame, products: Mapping[Any, pl.DataFrame], none: pl.DataFrame
) -> list[JudgedRow]:
    account = selection.account
    rule, response = account.settings.bid_rule, bid_response.learned(facts, selection)
    monthly = monthly_days(facts, selection, Subject.TARGET)
    opened = []
    for row in bid_advice.with_advice(facts, selection, limited(account, rows)).to_dicts():
        advice = _advice(row)
        proposal = _waits(row) or for_target(core_row(row, monthly), advice, rule, response)
        own = products.get(row["ad_group_id"], none)
        opened.append(JudgedRow(row, advice.bid, proposal, own, response=response))
    return opened


_ADVICE: Final = tuple(field.name for field in fields(TargetAdvice) if field.name not in ("bid", "move"))


def _advice(row: Mapping[str, Any]) -> TargetAdvice:
    """The advice on a judged target that has it beside."""
    bid = from_micro(row["bid"]) if row["bid"] is not None else None
    return TargetAdvice(bid=bid, move=BidMove(row["move"]), **{name: row[name] for name in _ADVICE})


def history_of(facts: Facts, selection: Selection, target_id: int) -> pl.DataFrame:
    """A target's days over its history: day, measures, bid (micro)."""
    kind, span = source(facts, selection, Subject.TARGET), history(selection)
    return days_with_bids(facts, selection.account, kind, span, [target_id])


def worked_at(selection: Selection, days: pl.DataFrame, target_acos: float) -> tuple[Reason, ...]:
    """The highest bid at which a target met its target, by its days over its history; nothing where none did."""
    best = past_bids.best_working(past_bids.blocks(_past(days, history(selection))), target_acos)
    return () if best is None else (Reason(ReasonKey.BEST_BID, (best.bid,)),)


def dried_up(
    selection: Selection, days: pl.DataFrame, bid: float | None, target_acos: float
) -> past_bids.PastBlock | None:
    """The past two weeks that sold within target at another bid than today's, of a target that sells little now."""
    return past_bids.dried_up(_past(days, history(selection)), bid, target_acos)


def _waits(row: Mapping[str, Any]) -> Recommendation | None:
    """Nothing, of a row whose campaign is too young for its purpose; else None."""
    if not row.get("waits"):
        return None
    return Recommendation(Move.NONE, (Reason(ReasonKey.WAITS, (row["waits"],)),))


def _past(days: pl.DataFrame, window: Window) -> list[past_bids.Day]:
    """Every day of the history up to the window's end; days that are not held brought nothing."""
    by_key = {row[0]: row[1:] for row in days.select("day", "clicks", "orders", "spend", "sales", "bid").rows()}
    if not by_key:
        return []
    nothing = (0, 0, 0, 0, None)
    found = []
    for number in range(window.days):
        day = window.first + timedelta(days=number)
        clicks, orders, spend, sales, bid = by_key.get(day, nothing)
        found.append(
            past_bids.Day(
                clicks, orders, from_micro(spend), from_micro(sales), None if bid is None else from_micro(bid)
            )
        )
    return found


def days_with_bids(facts: Facts, account: Account, source: str, window: Window, ids: list[int]) -> pl.DataFrame:
    """Every held day of each target with the bid in force: the newest settings up to it."""
    days = row_frames.target_days(facts, account.id, source, window, ids)
    settings = row_frames.bids(facts, account.id, ids, window).select("target_id", "day", "bid")
    return (
        days.sort("day")
        .join_asof(settings.sort("day"), on="day", by="target_id", strategy="backward", check_sortedness=False)
        .sort("target_id", "day")
    )


def _terms(
    facts: Facts, selection: Selection, rows: pl.DataFrame, products: Mapping[Any, pl.DataFrame], none: pl.DataFrame
) -> list[JudgedRow]:
    same = judged(facts, selection, Subject.TERM).filter(
        pl.col("normal_id").is_in(rows["normal_id"].unique().implode())
    )
    orders = dict(same.group_by("normal_id").agg(pl.col("orders").sum()).rows())
    products_of = advertised(facts, selection, rows["ad_group_id"])
    shapes = product_frames.item_shapes(facts, selection.account.id)
    winning = set(winners(facts, selection)["row_id"])
    homes, ratio = places(facts, selection), bid_ratios(facts, selection, rows)
    days = monthly_days(facts, selection, Subject.TERM)
    never = never_shut_out(selection.account)
    opened = []
    for row in limited(selection.account, rows).to_dicts():
        group = row["ad_group_id"]
        own = products.get(group, none)
        item = words.item_shape(row["term"]) in shapes
        if row["row_id"] in winning:
            found = homes.for_term(row["term"], (row["campaign"], row["ad_group"]), products_of.get(group, []))
            proposal = for_winner(core_row(row, days), limits_of(selection.account, row), ratio=ratio[row["row_id"]])
            if not found:
                proposal = Recommendation(Move.NONE, (Reason(ReasonKey.NO_DESTINATION),))
            opened.append(JudgedRow(row, None, proposal, own, found, item=item))
            continue
        proposal = _waits(row) or for_term(
            core_row(row, days),
            row["term"],
            loses=row["loses"],
            p_lose=row["p_lose"],
            margin=row["margin"],
            products=products_of.get(group, []),
            orders_elsewhere=int(orders.get(row["normal_id"], 0) - row["orders"]),
            never=never,
            own_exact=own_exact(row),
        )
        opened.append(JudgedRow(row, None, proposal, own, item=item))
    return opened


def bid_ratios(facts: Facts, selection: Selection, rows: pl.DataFrame) -> dict[str, float]:
    """
    What is bid for each unit paid for a click of a term, by row: the bid of the target that brought most; 1 where it is
    not known.
    """
    settings = setting_frames.target_settings(facts, selection.account.id, selection.window).select("target_id", "bid")
    frame = rows.select("row_id", "target_id", "clicks", "spend").join(settings, on="target_id", how="left")
    return {
        row_id: bids.bid_ratio(bid, spend / clicks) if bid and clicks and spend else 1.0
        for row_id, _, clicks, spend, bid in frame.rows()
    }


def own_exact(row: Mapping[str, Any]) -> bool:
    """Whether a term was brought by an exact target of the same words: its own keyword."""
    return (
        row["match_type"] == MatchType.EXACT
        and row["targets"] == 1
        and words.normal_form(row["target"]) == words.normal_form(row["term"])
    )


def advertised(facts: Facts, selection: Selection, groups: pl.Series) -> dict[Any, list[AdProduct]]:
    """The enabled products of some ad groups, with rows in the window or without, by what they are called."""
    account = selection.account
    catalog = product_frames.catalog(facts, account.id).drop("sku")
    spent = product_frames.product_rows(facts, account.id, selection.window).select(
        "ad_group_id", "product_id", "spend"
    )
    known = (
        product_frames.enabled_ads(facts, account.id, selection.window)
        .filter(pl.col("ad_group_id").is_in(groups.unique().implode()))
        .unique(["ad_group_id", "product_id"], maintain_order=True)
        .join(catalog, on="product_id")
        .join(spent, on=["ad_group_id", "product_id"], how="left")
        .with_columns(pl.col("spend").fill_null(0))
    )
    found: dict[Any, list[AdProduct]] = {}
    for row in known.to_dicts():
        found.setdefault(row["ad_group_id"], []).append(
            AdProduct(
                row["sku"],
                row["title"],
                from_micro(row["spend"]),
                words.title_core(row["title"], [row["brand"] or account.brand]),
            )
        )
    return found


def deciding(facts: Facts, selection: Selection, subject: Subject, row: Mapping[str, Any]) -> list[dict[str, Any]]:
    """The words that a target's or term's verdict hangs on; none of phrases."""
    fit = None if subject is Subject.PHRASE else target_frames.fitted(facts, selection.account.id, selection.window)
    if fit is None or row["p_over"] is None or row["p_free"] is None:
        return []
    keys = ("target_id",) if subject is Subject.TARGET else ("ad_group_id", "normal_id")
    mine = pl.all_horizontal(pl.col(key) == row[key] for key in keys)
    return costly_words.deciding(fit, mine, slow=row["p_over"] > row["p_free"]).to_dicts()


def beginnings(phrase: str) -> list[str]:
    """What every spelling of a phrase's words has in it: a plural may end otherwise (berry, berries)."""
    return [stem.removesuffix("y") for stem in phrase.split() if stem != "+"]


def phrase_terms(facts: Facts, selection: Selection, phrase: str) -> pl.DataFrame:
    """
    The judged terms that hold a phrase, with spelt: the words as they stand there; dearest first. Words that
    stand in the same searches ("hand + second") are found by the longest of them.
    """
    terms = judged(facts, selection, Subject.TERM)
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


def _offered(facts: Facts, selection: Selection, phrase: str) -> str:
    """The words that a phrase negative would be made of; see `costly_words.phrase_of`."""
    if " + " not in phrase:
        return phrase
    return costly_words.phrase_of(phrase, phrase_terms(facts, selection, phrase)["term"].to_list())


def _phrases(
    facts: Facts, selection: Selection, rows: pl.DataFrame, products: Mapping[Any, pl.DataFrame], none: pl.DataFrame
) -> list[JudgedRow]:
    """
    Phrases with their proposals. Of many rows only those that can become negatives are looked up in the ad groups that
    bought them.
    """
    days, opened = monthly_days(facts, selection, Subject.PHRASE), []
    for row in rows.to_dicts():
        core, word = core_row(row, days), None if row["fate"] is None else word_row(row)
        places: tuple[Place, ...] = ()
        own = [none]
        if len(rows) == 1 or can_be_negative(core, word):
            places, own = _bought_in(facts, selection, row["phrase"], products, none)
        proposal = for_phrase(core, places) if word is None else for_word(core, word, places)
        hit = pl.concat(own).group_by("sku").agg(pl.col(MEASURES).sum())
        opened.append(JudgedRow(row, None, proposal, hit, places=places))
    return opened


def _bought_in(
    facts: Facts, selection: Selection, phrase: str, products: Mapping[Any, pl.DataFrame], none: pl.DataFrame
) -> tuple[tuple[Place, ...], list[pl.DataFrame]]:
    """The ad groups that bought searches with a phrase, and the product ads in each."""
    paid = phrase_terms(facts, selection, _offered(facts, selection, phrase)).filter(pl.col("spend") > 0)
    products_of = advertised(facts, selection, paid["ad_group_id"])
    places, own = [], [none]
    for (group,), terms in paid.partition_by("ad_group_id", as_dict=True, maintain_order=True).items():
        own.append(products.get(group, none))
        places.append(
            Place(
                terms["campaign"][0],
                terms["ad_group"][0],
                from_micro(int(terms["spend"].sum())),
                tuple(terms["spelt"].unique(maintain_order=True)),
                tuple(terms["row_id"]),
                any(words.names_product(phrase, each.core) for each in products_of.get(group, [])),
            )
        )
    return tuple(places), own


def propose(facts: Facts, selection: Selection, subject: Subject, rows: pl.DataFrame) -> list[Proposal]:
    """What is proposed on judged rows of a subject, in their order."""
    return [proposal_of(selection, subject, each) for each in recommended(facts, selection, subject, rows)]


def proposal_of(selection: Selection, subject: Subject, judged_row: JudgedRow) -> Proposal:
    """What is proposed on a judged row."""
    row, found = judged_row.row, judged_row.recommendation
    package, sources = _package(selection, subject, judged_row)
    homes = tuple((each.campaign, each.ad_group) for each in judged_row.places) or (judged_row.home,)
    return Proposal(
        EntityKey(subject, *judged_row.home, str(row[NAMED_BY[subject]]), str(row.get("match_type") or "")),
        row["row_id"],
        _headline(judged_row),
        package,
        found.reasons,
        _fact(row),
        found.projected,
        evidence_of(row),
        homes=homes,
        sources=sources,
        name=str(row[NAMED_BY[subject]]),
        context=place_of(subject, row),
    )


NAMED_BY: Final = {Subject.TARGET: "target", Subject.TERM: "term", Subject.PHRASE: "spelt"}
"""The column that rows of a subject are called by."""


def place_of(subject: Subject, row: Mapping[str, Any]) -> Reason:
    """Where a row stands: in which campaign and ad group, or in how many terms."""
    if subject is Subject.PHRASE:
        return Reason(ReasonKey.IN_TERMS, (row["terms"], row["idle_terms"]))
    home = (str(row["campaign"]), str(row["ad_group"]))
    if subject is Subject.TERM:
        return Reason(ReasonKey.BROUGHT_BY, (row["target"], row["targets"] - 1, *home))
    return Reason(ReasonKey.IN_AD_GROUP, home)


def _fact(row: Mapping[str, Any]) -> Reason:
    if row.get("factor") is not None:
        return Reason(ReasonKey.WORD_ORDERS, (row["word_clicks"], row["came"], row["due"]))
    if not row["clicks"]:
        return Reason(ReasonKey.NO_CLICKS_IN_WINDOW)
    return Reason(ReasonKey.CLICKS_BROUGHT, (row["clicks"], row["orders"]))


def _headline(judged_row: JudgedRow) -> Headline:
    found, to = judged_row.recommendation, judged_row.destination
    if found.move is Move.NONE:
        lower = any(reason.key is ReasonKey.WORD_LOWER for reason in found.reasons)
        return Headline(HeadlineKey.BID_LOWER_AT_SOURCE if lower else HeadlineKey.LEAVE)
    if found.move is Move.NEGATIVE:
        return Headline(HeadlineKey.NEGATIVE, (_match(judged_row),))
    if found.move is Move.PROMOTE and to is not None:
        kept = judged_row.home != (to.campaign, to.ad_group)
        return Headline(HeadlineKey.PROMOTE, (found.new_bid, to.campaign, to.ad_group, int(to.new), int(kept)))
    if found.move is Move.BID:
        return Headline(HeadlineKey.BID, (judged_row.bid, found.new_bid))
    return Headline(HeadlineKey.PAUSE if found.move is Move.PAUSE else HeadlineKey.ENABLE)


def _match(judged_row: JudgedRow) -> str:
    if judged_row.places:
        return "negative_phrase"
    return judged_row.recommendation.match or ("negative_item" if judged_row.item else "negative_exact")


def _package(
    selection: Selection, subject: Subject, judged_row: JudgedRow
) -> tuple[Package, tuple[tuple[int, Reason], ...]]:
    """
    The rows of the change sheet with what each promises, and the reasons that single ones have of their own. A phrase's
    projection is shared over its ad groups by what each spent on it.
    """
    row, found = judged_row.row, judged_row.recommendation
    result = promise(selection, row, FILED_AS[subject], row["row_id"], found.projected, judged_row.response)
    if judged_row.places and found.move is Move.NEGATIVE:
        free = [place for place in judged_row.places if not place.names_product]
        spent = sum(place.spend for place in free)
        entries = []
        for place in free:
            part = part_of(found.projected, place.spend / spent / len(place.spelt) if spent else 0.0)
            own = replace(result, projected=as_ranges(part), terms=place.terms)
            entries += [
                (_negative(spelt, WORDS_TO_SHUT_OUT.key, "negative_phrase", (place.campaign, place.ad_group)), own)
                for spelt in place.spelt
            ]
        return tuple(entries), ()
    changes = _changes(judged_row)
    source: tuple[tuple[int, Reason], ...] = ()
    if found.move is Move.PROMOTE and changes and changes[-1].entity is Entity.NEGATIVE:
        to = judged_row.destination
        assert to is not None
        why = Reason(ReasonKey.KEPT_FROM_SOURCE, (row["term"], to.campaign, to.ad_group, int(to.new)))
        source = ((len(changes) - 1, why),)
    return tuple((each, result) for each in changes), source


def _changes(judged_row: JudgedRow) -> list[Change]:
    row, found = judged_row.row, judged_row.recommendation
    if found.move is Move.NONE:
        return []
    if found.move is Move.NEGATIVE:
        return [_negative(row["term"], WASTED_TERMS.key, _match(judged_row), judged_row.home)]
    if found.move is Move.PROMOTE:
        return _promoted(judged_row)
    filed = filed_under(
        Verdict(row["verdict"]), own_fault=row["own_fault"], by_words=row["by_words"], orders=row["orders"]
    )
    if found.move is Move.BID:
        field, old, new = "bid", f"{judged_row.bid:.2f}", f"{found.new_bid:.2f}"
    else:
        was, new = ("enabled", "paused") if found.move is Move.PAUSE else ("paused", "enabled")
        field, old = "state", row.get("state") or was
    campaign, ad_group = judged_row.home
    about = {"ad_group": ad_group, "target": row["target"], "match_type": row["match_type"]}
    return [change(Entity.TARGET, field, campaign, new, old, filed, **about)]


def _negative(term: str, finding: str, match_type: str, home: tuple[str, str]) -> Change:
    about = {"ad_group": home[1], "target": term, "match_type": match_type}
    return change(Entity.NEGATIVE, "state", home[0], "enabled", "", finding, Action.CREATE, **about)


def _promoted(judged_row: JudgedRow) -> list[Change]:
    """
    A target of its own at its destination, with the ad group where that is new; where it is another ad group than it
    was bought in, the term is kept from that one.
    """
    to, term = judged_row.destination, judged_row.row["term"]
    assert to is not None
    bid = f"{judged_row.recommendation.new_bid:.2f}"

    def made(entity: Entity, field: str, value: str, **about: str) -> Change:
        return change(entity, field, to.campaign, value, "", WINNERS.key, Action.CREATE, ad_group=to.ad_group, **about)

    match = "item" if judged_row.item else "exact"
    changes = [made(Entity.TARGET, "bid", bid, target=term, match_type=match)]
    if to.new:
        group = [made(Entity.AD_GROUP, "default_bid", bid), made(Entity.PRODUCT_AD, "state", "enabled", sku=to.sku)]
        changes = group + changes
    if judged_row.home != (to.campaign, to.ad_group):
        kept = "negative_item" if judged_row.item else "negative_exact"
        changes.append(_negative(term, WINNERS.key, kept, judged_row.home))
    return changes


def report_rows(
    facts: Facts, selection: Selection, subject: Subject, row: Mapping[str, Any]
) -> tuple[str, pl.DataFrame]:
    """The report that a row's figures come from, and its rows in the window (see `rows_behind`)."""
    account = selection.account
    kind = source(facts, selection, subject)
    if subject is Subject.PHRASE:
        rows = phrase_terms(facts, selection, row["phrase"]).select("ad_group_id", "normal_id")
        keys = row_frames.keys_of_terms(facts, account.id, rows)["target_term_id"].to_list()
    elif subject is Subject.TERM:
        keys = row_frames.term_keys(facts, account.id, row["ad_group_id"], row["normal_id"])["target_term_id"].to_list()
    elif kind == "target_daily":
        keys = [row["target_id"]]
    else:
        keys = row_frames.terms_of(facts, account.id, row["target_id"], selection.window)["target_term_id"].to_list()
    return kind, row_frames.rows_behind(facts, account.id, kind, selection.window, keys)


def break_even(facts: Facts, account: Account, row: Mapping[str, Any]) -> tuple[str, float] | None:
    """The main product of a row's ad group and its margin before ads: ACOS at which nothing is earned."""
    if row.get("main_product") is None:
        return None
    known = product_frames.catalog(facts, account.id).filter(pl.col("sku") == row["main_product"])
    margin = known["margin"].drop_nulls()
    return (row["main_product"], margin[0] / 100) if len(margin) else None


FILED_AS: Final = {Subject.TARGET: "targets", Subject.TERM: "terms", Subject.PHRASE: "words"}
"""What rows of a subject are called on record; pages show them under the same names."""
