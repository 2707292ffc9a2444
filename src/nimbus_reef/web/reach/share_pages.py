"""Room at the top of search, and search terms of which little is ours, as their pages show them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Final

import polars as pl

from nimbus_reef.analysis.judged_tables import P_OVER
from nimbus_reef.analysis.reach import files, shares
from nimbus_reef.analysis.tables import Field, Listing, by_key, choice, metric_fields, yes_or_no
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.search_shares import SURE
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec
from nimbus_reef.web.reach.listed import ListCell, ListColumn, ListName, ListView, Ready, Row, figure, page_of

_METRICS: Final = ("clicks", "orders", "cvr", "cpc", "acos", "spend", "sales", "impressions")


def _metrics() -> list[Field]:
    return [each for each in metric_fields() if each.key in _METRICS]


def top_fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What targets are filtered and sorted by."""
    within = pl.col("campaign_p_over") <= SURE
    return by_key(
        Field("name", "target, campaign", pl.col("target"), text=True),
        Field(
            "share",
            "share of the top",
            pl.col("top_of_search_share") * 100,
            "%",
            "Your part of the impressions at the top of search",
            digits=0,
        ),
        Field("after", "share then", pl.col("after") * 100, "%", "Expected at the proposed bid", digits=0),
        Field("room", "room left", pl.col("room") * 100, "%", "What others still have then", digits=0),
        Field("bid", "bid", pl.col("bid"), "¤", digits=2),
        Field("next_bid", "next bid", pl.col("proposed"), "¤", "The bid that is proposed", digits=2),
        Field("gain", "gain", pl.col("gain"), "¤", "Profit that the change is expected to bring in 30 days", digits=0),
        P_OVER,
        *_metrics(),
        Field("age", "age in days", pl.col("age"), "", "Days since its campaign first spent", digits=0),
        Field("campaign_share", "campaign’s share", pl.col("campaign_share") * 100, "%", digits=0),
        yes_or_no("good_campaign", "campaign within target", within, "Well within target by the evidence"),
        yes_or_no("raised", "raise proposed", pl.col("proposed") > pl.col("bid")),
        choice("campaign", "campaign", pl.col("campaign"), rows),
        choice("match", "match type", pl.col("match_type"), rows),
        Field("held", "why the bid stays", pl.col("held"), text=True),
    )


TOP: Final = ListSpec(
    lambda ask: shares.top_of_search(ask.facts, ask.selection).rows,
    top_fields,
    ("target", "campaign", "ad_group"),
    "-sales",
    lambda _, rows: files.top_table(rows),
    view=shares.TOP_VIEW,
)
_TOP_READY: Final[Ready] = (
    ("all", ()),
    ("raise proposed", ("raised:is:yes",)),
    ("campaign within target too", ("good_campaign:is:yes",)),
)


def top_page(ask: Context) -> ListView:
    """The view of room at the top of search."""
    figures = ask.figures

    def share(value: float) -> str:
        return figures.percent(value, 0)

    def columns(_: Context, __: Listing) -> Sequence[ListColumn]:
        return (
            _share_column("top_of_search_share", figures),
            figure("bid", figures.number),
            ListColumn("next_bid", _next_bid(figures)),
            figure("after", share),
            figure("room", share),
            figure("gain", lambda gain: figures.number(gain or None, 0), bold=True),
            figure("p_over", share),
            *_money(figures),
            figure("campaign_share", share),
            figure("age", figures.count),
        )

    found = shares.top_of_search(ask.facts, ask.selection)

    def answer(rows: pl.DataFrame) -> Answer:
        if found.told is None:
            return Answer(
                "No report tells your share of the top of search.",
                "Load targets by day with the column top_of_search_share in Intake.",
            )
        raised = rows.filter(pl.col("proposed") > pl.col("bid"))
        count, gain = figures.counted(len(rows), "target"), figures.money(float(raised["gain"].sum()))
        return Answer(
            f"{count} well within target {'gets' if len(rows) == 1 else 'get'} little of the top of search.",
            f"A raise is proposed for {figures.count(len(raised))}: about {gain} profit in 30 days."
            f" {_days(found, ask)}{_left_out(found.left_out, figures)}",
        )

    return page_of(
        ask,
        shares.TOP_VIEW,
        TOP,
        first="name",
        named=lambda row: ListName(
            row["target"], f"{row['match_type']} · {row['campaign']}", "within", _target(ask)(row)
        ),
        columns=columns,
        answer=answer,
        empty="No target well within target has little of the top of search.",
        things="targets",
        ready=_TOP_READY,
        accepts=True,
    )


def _share_column(of: str, figures: Figures) -> ListColumn:
    return ListColumn("share", lambda row: ListCell(figures.percent(row[of], 0), share=row[of]))


def _next_bid(figures: Figures) -> Callable[[Row], ListCell]:
    def cell(row: Row) -> ListCell:
        stays = row["proposed"] is None or row["proposed"] == row["bid"]
        return ListCell("–", small=row["held"] or "") if stays else ListCell(figures.number(row["proposed"]), bold=True)

    return cell


def _money(figures: Figures) -> tuple[ListColumn, ...]:
    return (
        ListColumn(
            "acos", lambda row: ListCell(figures.percent(ratio(row["spend"], row["sales"]) if row["sales"] else None))
        ),
        figure("sales", lambda sales: figures.number(from_micro(sales), 0)),
    )


def _target(ask: Context) -> Callable[[Row], str]:
    here = ask.url("targeting.table", name="targets")
    return lambda row: ask.scope.link(here, where=(), query="", sort="", page=1, open=row["row_id"])


def _days(found: shares.SharesListed, ask: Context) -> str:
    """Says where shares are told of other days than sales."""
    window, told, figures = ask.selection.window, found.told, ask.figures
    if told is None or told == window:
        return ""
    return f"Shares are of {figures.days(told)}, sales of {figures.days(window)}. "


def _left_out(counts: Mapping[str, int], figures: Figures) -> str:
    """How many were left out and why, the most first, four reasons to a sentence."""
    told = [f"{figures.count(count)} {why}" for why, count in counts.items()]
    parts = [", ".join(told[at : at + 4]) for at in range(0, len(told), 4)]
    return " ".join(f"{'Also' if place else 'Left out:'} {part}." for place, part in enumerate(parts))


def term_fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What search terms are filtered and sorted by."""
    return by_key(
        Field("name", "search term, campaign", pl.col("term"), text=True),
        Field(
            "rank", "rank", pl.col("impression_rank"), "", "Your rank by impressions among all who advertise", digits=1
        ),
        Field(
            "share",
            "impression share",
            pl.col("impression_share") * 100,
            "%",
            "Your part of its ad impressions",
            digits=0,
        ),
        P_OVER,
        *_metrics(),
        choice("campaign", "campaign", pl.col("campaign"), rows),
        Field("words", "number of words", pl.col("term").cast(pl.String).str.count_matches(r"\S+"), digits=0),
    )


TERMS: Final = ListSpec(
    lambda ask: shares.small_shares(ask.facts, ask.selection).rows,
    term_fields,
    ("term", "campaign", "ad_group"),
    "-sales",
    lambda _, rows: files.small_shares_table(rows),
    view=shares.TERMS_VIEW,
)


def terms_page(ask: Context) -> ListView:
    """The view of search terms with a small share."""
    figures = ask.figures
    found = shares.small_shares(ask.facts, ask.selection)
    blind = (
        ""
        if shares.sees_all_searches(ask.facts, ask.selection)
        else ("Your reports show no live automatic target, so searches beside your keywords are not seen. ")
    )

    def columns(_: Context, __: Listing) -> Sequence[ListColumn]:
        return (
            _share_column("impression_share", figures),
            figure("rank", lambda rank: figures.number(rank, 1), "impression_rank"),
            figure("clicks", figures.count),
            figure("orders", figures.count),
            figure("p_over", lambda chance: figures.percent(chance, 0)),
            ListColumn("cpc", lambda row: ListCell(figures.number(ratio(from_micro(row["spend"]), row["clicks"])))),
            *_money(figures),
        )

    def answer(rows: pl.DataFrame) -> Answer:
        if found.told is None:
            return Answer(
                "No report tells your share of searches.",
                f"{blind}Load search terms by day with impression_share and impression_rank in Intake.",
            )
        count = figures.counted(len(rows), "search term")
        verbs = "earns and gets" if len(rows) == 1 else "earn and get"
        return Answer(
            f"{count} {verbs} little of what shoppers see.",
            f"Each can get a keyword of its own. {blind}{_days(found, ask)}{_left_out(found.left_out, figures)}",
        )

    here = ask.url("targeting.table", name="terms")

    return page_of(
        ask,
        shares.TERMS_VIEW,
        TERMS,
        first="name",
        named=lambda row: ListName(
            row["term"],
            row["campaign"],
            "within" if row["p_over"] <= SURE else "undecided",
            ask.scope.link(here, where=(), query="", sort="", page=1, open=row["row_id"]),
        ),
        columns=columns,
        answer=answer,
        empty="No search term that earns has a small share.",
        things="search terms",
        accepts=True,
        groups=True,
    )


def grouped(ask: Context, keys: Sequence[str], name: str, budget: float | None) -> list[Proposal]:
    """Campaigns of some search terms, one a product."""
    return shares.campaigns(ask.facts, ask.selection, keys, name, budget)
