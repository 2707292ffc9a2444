"""Room at the top of search, and search terms of which little is ours though they earn."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import polars as pl

from nimbus_reef.analysis import bid_response, brands, destinations, groups, multipliers, own_actions
from nimbus_reef.analysis.bid_advice import with_advice
from nimbus_reef.analysis.judged import judged_targets, judged_terms
from nimbus_reef.analysis.judged_proposals import monthly_days
from nimbus_reef.analysis.reach import market
from nimbus_reef.analysis.reach.new_campaigns import NewNames, new_campaign
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import search_shares, words
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import MICRO, MatchType
from nimbus_reef.core.projection import total
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.search_shares import ShareLimits
from nimbus_reef.core.tiers import RowAction
from nimbus_reef.core.windows import Window, month_factor
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import share_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

TOP_VIEW = "top-of-search"
TERMS_VIEW = "small-shares"


@dataclass(frozen=True, slots=True)
class SharesListed:
    """What is listed. left_out: how many rows are not, by why; told: the days that tell shares, None for none."""

    rows: pl.DataFrame
    left_out: Mapping[str, int]
    told: Window | None


def limits(selection: Selection) -> ShareLimits:
    """The account's own limits."""
    of = selection.account.settings
    return ShareLimits(of.top_share, of.top_sales, of.top_age, of.term_share, of.term_rank)


def top_of_search(facts: Facts, selection: Selection) -> SharesListed:
    """
    Targets well within target that get little of the top of search: judged targets with the advice on their bids, and
    top_of_search_share, after (the share expected at the proposed bid), room (what is left then), age (of the
    campaign), campaign_share, campaign_p_over; the most sales first.
    """

    def make() -> SharesListed:
        account, window = selection.account, selection.window
        told = share_frames.top_of_search(facts, account.id, window)
        response = bid_response.learned(facts, selection)
        days = monthly_days(facts, selection, Subject.TARGET)
        rows = with_advice(facts, selection.whole, judged_targets(facts, selection.whole)).join(
            told.drop("first", "last"), on="target_id", how="left", maintain_order="left"
        )
        campaigns = groups.rows(facts, selection.whole, groups.CAMPAIGNS).select(
            "campaign_id", "age", campaign_p_over="p_over"
        )
        shown = pl.col("impressions").filter(pl.col("top_of_search_share").is_not_null())
        share = (pl.col("top_of_search_share") * pl.col("impressions")).sum() / shown.sum()
        every = (
            rows.join(campaigns, on="campaign_id", how="left", maintain_order="left")
            .join(
                rows.group_by("campaign_id").agg(campaign_share=share),
                on="campaign_id",
                how="left",
                maintain_order="left",
            )
            .with_columns(bid=pl.col("bid") / MICRO)
            .with_columns(after=search_shares.share_after(response.e))
            .with_columns(room=1 - pl.col("after"))
        )
        monthly = every.with_columns(sales=pl.col("sales") / MICRO * month_factor(days))
        why = monthly.select(left=search_shares.top_left(limits(selection)))["left"]
        return _listed(every, why, told, ["sales", "spend"])

    account = selection.account
    of = (*selection.judging, account.settings, account.own_limits)
    return _within(facts, selection, facts.kept("room at the top", account.id, make, *of))


def small_shares(facts: Facts, selection: Selection) -> SharesListed:
    """
    Search terms that earn and are ranked high, of which little is ours and no keyword is: judged terms, of a term
    bought in several places the row with most clicks, with impression_share, impression_rank; the most sales first.
    """

    def make() -> SharesListed:
        account, window = selection.account, selection.window
        told = share_frames.of_searches(facts, account.id, window)
        covered = target_frames.live_own(facts, account.id, window)["normal_id"].cast(pl.UInt32).unique()
        unwanted = [f" {' '.join(words.words(text))} " for text in account.settings.unwanted_words]
        spelt = market.phrases(facts, selection).select("normal_id", "text")
        rows = brands.with_brand(facts, selection, Subject.TERM, judged_terms(facts, selection.whole))
        every = (
            rows.sort(["clicks", "spend"], descending=True, maintain_order=True)
            .with_columns(pl.col("normal_id").cast(pl.UInt32))
            .unique("normal_id", keep="first", maintain_order=True)
            .join(told.drop("first", "last"), on="normal_id", how="left", maintain_order="left")
            .join(spelt, on="normal_id", how="left", maintain_order="left")
            .with_columns(
                covered=pl.col("normal_id").is_in(covered.implode()),
                branded=pl.col("brand") != brands.NEITHER,
                dropped=pl.col("text").str.contains_any(unwanted) if unwanted else pl.lit(False),
            )
        )
        why = every.select(left=search_shares.term_left(limits(selection)))["left"]
        return _listed(every, why, told, ["sales", "spend"])

    account = selection.account
    of = (*selection.judging, *market.key(selection), account.settings)
    return _within(facts, selection, facts.kept("small shares", account.id, make, *of))


def _listed(every: pl.DataFrame, why: pl.Series, told: pl.DataFrame, order: list[str]) -> SharesListed:
    counted = why.drop_nulls().value_counts(sort=True, name="count")
    days = Window(told["first"].min(), told["last"].max()) if len(told) else None  # type: ignore[arg-type]
    rows = every.filter(why.is_null()).sort(order, descending=True, maintain_order=True)
    return SharesListed(rows, dict(counted.rows()), days)


def _within(facts: Facts, selection: Selection, found: SharesListed) -> SharesListed:
    return replace(found, rows=selection.within(facts, found.rows)) if selection.part else found


def sees_all_searches(facts: Facts, selection: Selection) -> bool:
    """Whether an automatic target is live: without one, searches beside one's own keywords are not seen."""
    live = target_frames.live(facts, selection.account.id, selection.window)
    return bool((live["match_type"].cast(pl.String) == MatchType.AUTO.value).any())


def keywords(facts: Facts, selection: Selection, keys: Sequence[str]) -> list[Proposal]:
    """
    A keyword of its own for each of these search terms, with the match type that the campaign's other keywords have
    where that is one, else exact.
    """
    order = pl.DataFrame({"row_id": list(keys)}, schema={"row_id": pl.String})
    rows = order.join(small_shares(facts, selection).rows, on="row_id", maintain_order="left")
    if len(rows) < len(keys):
        raise NotFound("This search term is not in the list.", remedy="Reload the list.")
    made = own_actions.proposals(facts, selection, Subject.TERM, rows, RowAction.OWN_TARGET, None, raises=False)
    match_of = destinations.match_types(facts, selection)
    return [_matched(each, match_of) for each in made]


def campaigns(
    facts: Facts, selection: Selection, keys: Sequence[str], name: str = "", budget: float | None = None
) -> list[Proposal]:
    """
    The same keywords in campaigns of their own, one a product, exact, with what keeps the searches out of where they
    come from now; terms of ad groups whose product is not known stay out. name, budget: as in `buying.campaigns`.
    """
    rows = small_shares(facts, selection).rows
    main = target_frames.advertised_products(facts, selection.account.id, selection.window)
    factors = multipliers.steps(facts, selection).group_by("campaign_id").agg(pl.col("multiplier").last())
    homes = (
        rows.join(main.select("ad_group_id", sku="main_product"), on="ad_group_id", how="left")
        .join(factors, on="campaign_id", how="left")
        .select("row_id", "sku", pl.col("multiplier").fill_null(1.0))
    )
    known = {row_id: (sku, multiplier) for row_id, sku, multiplier in homes.rows() if sku}
    by_sku: dict[str, list[Proposal]] = {}
    for each in keywords(facts, selection, [key for key in keys if key in known]):
        if each.package:
            by_sku.setdefault(known[each.row_id][0], []).append(each)
    if not by_sku:
        none = Reason(ReasonKey.NONE_WOULD_PAY)
        return [Proposal(EntityKey(Subject.CAMPAIGN), "", Headline(HeadlineKey.LEAVE), reasons=(none,))]
    naming, days, made = NewNames(facts, selection), monthly_days(facts, selection, Subject.TERM), []
    for sku, proposals in by_sku.items():
        behind = f" · {sku}" if len(by_sku) > 1 else ""
        own = naming.free(f"{name}{behind}" if name else naming.by_pattern(sku, "top terms"))
        moved = [
            (_in_campaign(change, own, sku, known[each.row_id][1]), result)
            for each in proposals
            for change, result in each.package
        ]
        spent = sum(result.spend for each in proposals for change, result in each.package if _is_new(change))
        made.append(
            new_campaign(
                selection,
                own,
                sku,
                moved,
                daily=spent / days,
                budget=budget,
                reasons=(),
                effect=total([each.effect for each in proposals]),
            )
        )
    return made


def _is_new(change: Change) -> bool:
    return change.entity is Entity.TARGET and change.action is Action.CREATE


def _in_campaign(change: Change, campaign: str, sku: str, multiplier: float) -> Change:
    """A keyword in another campaign, which has no adjustments: its bid is what was offered."""
    if not _is_new(change):
        return change
    bid = f"{float(change.new_value) * multiplier:.2f}"
    return replace(change, campaign=campaign, ad_group=sku, match_type=MatchType.EXACT.value, new_value=bid)


def _matched(proposal: Proposal, match_of: Mapping[str, str]) -> Proposal:
    """With the match type of the campaign that its keyword goes to."""

    def own(change: Change) -> Change:
        match = match_of.get(change.campaign, MatchType.EXACT.value)
        asked = change.entity is Entity.TARGET and change.match_type == MatchType.EXACT.value
        return replace(change, match_type=match) if asked else change

    return replace(proposal, package=tuple((own(change), result) for change, result in proposal.package))
