"""
Catalog and Delivery against what is true in simulated worlds, beside a rule of thumb each; and what their proposals do
there.

Every proposal is taken as its rows of the change sheet, carried out in the world, and the world runs on for fresh days.

    python benchmarks/before_keywords.py [--write] [--seeds 5]
"""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import date, timedelta
from pathlib import Path
from typing import Any, Final

import numpy as np
import polars as pl

from benchmarks.truth import RULED
from nimbus_reef import config
from nimbus_reef.analysis import out_of_budget
from nimbus_reef.analysis.catalog import ads, families, gaps
from nimbus_reef.analysis.delivery import budgets, placements
from nimbus_reef.analysis.falls import falls
from nimbus_reef.analysis.proposals import proposals as proposals_of
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.cli import wiring
from nimbus_reef.core.changes import Change, Entity
from nimbus_reef.core.model import Placement, Verdict
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.windows import Window
from nimbus_reef.jobs import intake
from nimbus_reef.jobs.demo_brands import account_of
from nimbus_reef.sim import brand, reports, trade
from nimbus_reef.sim.brand import Simulated
from nimbus_reef.sim.schedule import ADJUSTED, PLACES
from nimbus_reef.sim.trade import EXTRA_UNITS, Trade, true_conversion
from nimbus_reef.sim.vocabulary import BRANDS, BrandSpec
from nimbus_reef.sim.world import World
from nimbus_reef.store.people import target_acos
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record.engine import Store

LAST: Final = date(2026, 11, 20)
DAYS: Final = 96
FIRST_SEED: Final = 41
FRESH: Final = 30
FRESH_SEEDS: Final = 4
OUT: Final = Path(__file__).parents[1] / "docs" / "before-keywords.md"
_KINDS: Final = (
    "catalog",
    "campaigns",
    "ad_groups",
    "targets",
    "product_ads",
    "target_daily",
    "search_term_daily",
    "product_ad_daily",
    "product_sales_daily",
    "campaign_daily",
    "placement_daily",
    "hourly",
    "sales_hourly",
    "listings",
    "boosts",
)
_WRONG: Final = 0.6
_RULE_CLICKS: Final = 10


@dataclass(frozen=True, slots=True)
class Case:
    """One brand of one seed, simulated and loaded."""

    facts: Facts
    selection: Selection
    made: Simulated


@contextmanager
def cases(seeds: Sequence[int], specs: Sequence[BrandSpec] = BRANDS) -> Iterator[Iterator[Case]]:
    """Each brand of each seed, loaded into a database of its own that is gone afterwards."""
    with tempfile.TemporaryDirectory() as var:
        conf = config.load({"REEF_VAR": var, "REEF_DATABASE_PORT": str(wiring.free_port("127.0.0.1", 3466))})
        with wiring.running_store(conf) as store:
            yield (
                case(store, brand.simulate(spec, seed, DAYS, LAST), f"{spec.key}-{seed}", Path(var))
                for seed in seeds
                for spec in specs
            )


def case(store: Store, simulated: Simulated, key: str, folder: Path, more: Sequence[str] = ()) -> Case:
    """A simulated brand, loaded, over its newest mature month. more: reports besides the usual ones."""
    spec = simulated.world.spec
    account = account_of(store, spec, key)
    kinds = (*_KINDS, *more)
    for kind, path in reports.write({kind: simulated.frames[kind] for kind in kinds}, folder / key).items():
        intake.take(store, account, path, path.name, kind, today=LAST + timedelta(days=1))
        path.unlink()
    end = LAST - timedelta(days=account.maturing_days)
    return Case(
        Facts(store),
        Selection(account, Window(end - timedelta(days=29), end), target_acos.aims(store, account)),
        simulated,
    )


@dataclass(frozen=True, slots=True)
class Score:
    """Money flagged, of it truly bad, and truly bad in all: of us and of the rule of thumb."""

    flagged: float
    right: float
    true: float

    @property
    def precision(self) -> float | None:
        """Of what is flagged, what is truly so."""
        return self.right / self.flagged if self.flagged else None

    @property
    def recall(self) -> float | None:
        """Of what is truly so, what is flagged."""
        return self.right / self.true if self.true else None


def _score(truth: Mapping[Any, float], found: Iterable[Any], weight: Mapping[Any, float]) -> Score:
    """truth: true money by key; found: keys flagged; weight: what each would count for where it is wrong."""
    flagged = set(found)
    right = sum(truth.get(key, 0.0) for key in flagged)
    wrong = sum(weight.get(key, 0.0) for key in flagged if truth.get(key, 0.0) <= 0)
    return Score(right + wrong, right, sum(truth.values()))


def wrong_children(what: Case) -> tuple[Score, Score]:
    """Money on the wrong child, against the observed share of spend over the share of sales alone."""
    true = pl.DataFrame(what.made.truth["families"]).with_columns(
        share_spend=pl.col("spend") / pl.col("spend").sum().over("family"),
        share_sales=pl.col("sales") / pl.col("sales").sum().over("family"),
        family_spend=pl.col("spend").sum().over("family"),
        children=(pl.col("spend") > 0).sum().over("family"),
    )
    bad = true.filter(
        (pl.col("share_spend") >= 0.05)
        & (pl.col("share_sales") < _WRONG * pl.col("share_spend"))
        & (pl.col("children") > 1)
    ).with_columns(excess=pl.col("spend") - pl.col("share_sales") * pl.col("family_spend"))
    truth = dict(bad.select("sku", "excess").rows())
    rows = families.children(what.facts, what.selection)
    weight = dict(rows.select("sku", pl.col("excess") / 1e6).rows())
    ours = rows.filter("costly_child")["sku"]
    rule = rows.filter((pl.col("index") < _WRONG) & (pl.col("children") > 1))["sku"]
    return _score(truth, ours, weight), _score(truth, rule, weight)


def costly_ads(what: Case) -> tuple[Score, Score]:
    """Product ads to pause, against ten clicks without an order or ACOS above target, of those beside other products."""
    true = {
        (row["campaign"], row["ad_group"], row["sku"]): float(row["overspend"])
        for row in what.made.truth["product_ads"]
    }
    rows = ads.listed(what.facts, what.selection).filter(pl.col("good_siblings") > 0, "running")
    key = pl.struct(pl.col("campaign", "ad_group", "sku").cast(pl.String)).alias("key")

    def keys(frame: pl.DataFrame) -> list[tuple[str, str, str]]:
        return [tuple(each.values()) for each in frame.select(key)["key"]]

    weight = dict(zip(keys(rows), (rows["spend"] / 1e6).to_list(), strict=True))
    truth = {each: true[each] for each in weight if true.get(each, 0) > 0}
    rule = rows.filter(pl.col("simple_verdict").is_in(RULED))
    return _score(truth, keys(rows.filter("to_pause")), weight), _score(truth, keys(rule), weight)


def off_site(what: Case) -> tuple[Score, Score]:
    """Campaigns whose off-site traffic wastes money, against cost of sale above target after ten clicks."""
    truth = {
        row["campaign"]: float(row["overspend"])
        for row in what.made.truth["placements"]
        if row["placement"] == Placement.OFF_SITE.value and row["overspend"] > 0
    }
    rows = placements.off_site(what.facts, what.selection).with_columns(pl.col("campaign").cast(pl.String))
    weight = dict(rows.select("campaign", pl.col("spend") / 1e6).rows())
    ours = rows.filter(pl.col("verdict") == Verdict.ABOVE.value)["campaign"]
    rule = rows.filter(pl.col("simple_verdict").is_in(RULED))["campaign"]
    return _score(truth, ours, weight), _score(truth, rule, weight)


def dry_hours(what: Case) -> tuple[Score, Score]:
    """Dry campaign-hours, against every hour after the last click of a day that spent its budget."""
    first = LAST - timedelta(days=DAYS - 1)
    truth: dict[tuple[str, date, int], float] = {}
    for row in what.made.truth["dry"]:
        day = first + timedelta(days=row["day"])
        for hour in range(int(row["at"]), 24):
            truth[row["campaign"], day, hour] = min(1.0, hour + 1 - row["at"])
    found = out_of_budget.hours(what.facts, what.selection).with_columns(pl.col("campaign").cast(pl.String))
    ours = dict(zip(found.select("campaign", "day", "hour").rows(), found["share"].to_list(), strict=True))
    spent = _spent_out(what)
    return _overlap(truth, ours), _overlap(truth, spent)


def _spent_out(what: Case) -> dict[tuple[str, date, int], float]:
    hourly = what.made.frames["hourly"].filter(
        pl.col("date").is_between(what.selection.window.first, what.selection.window.last)
    )
    budget = dict(what.made.world.campaigns.select("campaign", "daily_budget").rows())
    found: dict[tuple[str, date, int], float] = {}
    days = hourly.group_by("campaign", "date").agg(
        pl.col("spend").sum(), last=pl.col("hour").filter(pl.col("clicks") > 0).max()
    )
    for campaign, day, spend, last in days.rows():
        if spend >= 0.97 * budget[campaign] and last is not None:
            found |= {(campaign, day, hour): 1.0 for hour in range(last + 1, 24)}
    return found


def _overlap(truth: Mapping[Any, float], found: Mapping[Any, float]) -> Score:
    right = sum(min(share, found.get(key, 0.0)) for key, share in truth.items())
    return Score(sum(found.values()), right, sum(truth.values()))


def dry_cost(what: Case) -> tuple[float, float]:
    """Sales that dry hours missed, at full elasticity: as estimated, and as they truly were."""
    lines = budgets.lines(budgets.campaign_rows(what.facts, what.selection))
    true = sum(float(row["sales"]) for row in what.made.truth["missed"])
    return sum(line.missed.high for line in lines), true


def broken_pages(what: Case) -> tuple[Score, Score]:
    """Pages that broke, against every page that changed."""
    truth = dict.fromkeys(what.made.stories.collapsed, 1.0)
    ours = falls(what.facts, what.selection)["name"]
    skus = what.made.world.products["sku"]
    changed = [skus[page.product_no] for page in what.made.stories.pages]
    ones = dict.fromkeys(skus.to_list(), 1.0)
    return _score(truth, ours, ones), _score(truth, changed, ones)


def replaced(what: Case) -> tuple[Score, Score]:
    """Newer SKUs missing from their item's ads, against every product without an ad."""
    truth = {new: 1.0 for _, new in what.made.muddle.replaced}
    rows = gaps.unadvertised(what.facts, what.selection)
    ones = dict.fromkeys(rows["sku"].to_list(), 1.0)
    ours = rows.filter(pl.col("replaces").is_not_null())["sku"]
    return _score(truth, ours, ones), _score(truth, rows["sku"], ones)


JUDGED: Final[Mapping[str, tuple[Callable[[Case], tuple[Score, Score]], str]]] = {
    "money on the wrong child": (wrong_children, "share of spend over share of sales"),
    "costly product ads beside siblings": (costly_ads, "ten clicks, no order or ACOS above target"),
    "off-site waste": (off_site, "ten clicks, no order or ACOS above target"),
    "dry hours": (dry_hours, "hours after the last click of a day that spent its budget"),
    "broken pages": (broken_pages, "every page that changed"),
    "replaced SKUs": (replaced, "every product without an ad"),
}
"""What is judged, and the rule of thumb beside it."""


# --- carrying out ---------------------------------------------------------------------


def carried_out(world: World, changes: Sequence[Change]) -> World:
    """The world with rows of a change sheet in it."""
    assert world.delivery is not None
    groups = world.ad_groups.join(world.campaigns, on="campaign_no").select("ad_group_no", "campaign", "ad_group")
    numbers = {row[1:]: row[0] for row in groups.rows()}
    campaigns = {name: number for number, name in enumerate(world.campaigns["campaign"])}
    skus = {sku: number for number, sku in enumerate(world.products["sku"])}
    targets = {
        (group, text, match): number
        for number, group, text, match in world.targets.select(
            "target_no", "ad_group_no", "target", "match_type"
        ).rows()
    }
    bids, places, adjustments, funds = (
        each.copy() for each in (world.bids, world.delivery.places, world.delivery.adjustments, world.delivery.budgets)
    )
    paused: list[tuple[int, int]] = []
    stopped: list[int] = []
    blocked: list[tuple[int, str]] = []
    for change in changes:
        about = (change.entity, change.field)
        if about == (Entity.TARGET, "bid"):
            number = targets[numbers[change.campaign, change.ad_group], change.target, change.match_type]
            bids[number, :] = float(change.new_value)
        elif about == (Entity.TARGET, "state"):
            stopped.append(targets[numbers[change.campaign, change.ad_group], change.target, change.match_type])
        elif about == (Entity.NEGATIVE, "state"):
            blocked.append((numbers[change.campaign, change.ad_group], change.target))
        elif about == (Entity.PLACEMENT, "adjustment"):
            adjustments[campaigns[change.campaign], PLACES.index(change.placement)] = float(change.new_value) / 100
        elif about == (Entity.CAMPAIGN, "offsite_limited"):
            places[campaigns[change.campaign], ADJUSTED:] *= 0.05
        elif about == (Entity.CAMPAIGN, "daily_budget"):
            funds[campaigns[change.campaign]] = float(change.new_value)
        elif about == (Entity.PRODUCT_AD, "state"):
            paused.append((numbers[change.campaign, change.ad_group], skus[change.sku]))
        else:
            raise ValueError(f"the world does not know {about}")
    gone = pl.DataFrame(paused, schema={"ad_group_no": pl.Int64, "product_no": pl.Int64}, orient="row")
    kept = world.ad_products.with_columns(pl.col("ad_group_no", "product_no").cast(pl.Int64)).join(
        gone, on=["ad_group_no", "product_no"], how="anti", maintain_order="left"
    )
    gone_pairs = pl.col("target_no").is_in(stopped) | pl.col("pair_no").is_in(_blocked(world, blocked))
    pairs = world.pairs.with_columns(pull=pl.when(gone_pairs).then(0.0).otherwise("pull"))
    delivery = replace(world.delivery, places=places, adjustments=adjustments, budgets=funds)
    return replace(world, bids=bids, ad_products=kept, pairs=pairs, delivery=delivery)


def _blocked(world: World, terms: Sequence[tuple[int, str]]) -> list[int]:
    """The pairs that exact negatives on terms of ad groups shut out."""
    wanted = pl.DataFrame(terms, schema={"ad_group_no": pl.Int64, "text": pl.String}, orient="row")
    places = world.pairs.join(world.queries.select("query_no", "text"), on="query_no").join(
        world.targets.select("target_no", pl.col("ad_group_no").cast(pl.Int64)), on="target_no"
    )
    return places.join(wanted, on=["ad_group_no", "text"], how="semi")["pair_no"].to_list()


def onward(world: World, days: int = FRESH) -> World:
    """The world for fresh days: everything as it is on its last day, no event."""
    assert world.delivery is not None
    lost = pl.when(pl.col("lost_on").is_not_null()).then(0)
    return replace(
        world,
        days=days,
        bids=np.repeat(world.bids[:, -1:], days, axis=1),
        mood=np.repeat(world.mood[:, -1:], days, axis=1),
        products=world.products.with_columns(lost_on=lost.cast(pl.Int64)),
        delivery=replace(world.delivery, events=()),
    )


@dataclass(frozen=True, slots=True)
class Month:
    """What fresh days cost and are expected to sell, and profit after ads, in units."""

    spend: float
    sales: float
    profit: float

    @property
    def acos(self) -> float:
        """Cost of sale."""
        return self.spend / self.sales


def lived(world: World, seed: int) -> Month:
    """Fresh days by what is expected of every click, so that luck in orders does not matter."""
    return expected_of(world, trade.run(world, seed, LAST + timedelta(days=FRESH)))


def expected_of(world: World, happened: Trade) -> Month:
    """What days cost, and what is expected of every click."""
    clicked = happened.clicked
    cvr = true_conversion(world, *(clicked[name].to_numpy() for name in ("pair_no", "product_no", "day", "ease")))
    product = clicked["product_no"].to_numpy()
    sales = cvr * world.products["price"].to_numpy()[product] * (1 + EXTRA_UNITS)
    margin = world.products["margin"].to_numpy()[product] / 100
    spend = float(clicked["cost"].sum())
    return Month(spend, float(sales.sum()), float((sales * margin).sum()) - spend)


def proposals(what: Case) -> dict[str, list[Proposal]]:
    """Every proposal of each kind."""
    facts, selection = what.facts, what.selection
    asked = {
        "family shifts": ("families", [each.key for each in families.listed(facts, selection)]),
        "product ads paused": ("ads", ads.listed(facts, selection).filter("to_pause")["row_id"].to_list()),
        "off-site limited": ("placements", placements.to_limit(facts, selection)["row_id"].to_list()),
        "placements solved": ("solutions", placements.worst(facts, selection)["campaign"].to_list()),
        "budgets moved": ("budgets", ["budgets"]),
    }
    return {
        kind: [each for each in proposals_of(facts, selection, view, keys) if each.package]
        for kind, (view, keys) in asked.items()
    }


def changes_of(offers: Sequence[Proposal]) -> list[Change]:
    """Their rows of the change sheet; of one thing the first."""
    seen, entries = set(), []
    for offer in offers:
        for change in offer.changes:
            about = (
                change.entity,
                change.field,
                change.campaign,
                change.ad_group,
                change.target,
                change.match_type,
                change.sku,
                change.placement,
            )
            if about not in seen:
                seen.add(about)
                entries.append(change)
    return entries


def effects(what: Case, seeds: int = FRESH_SEEDS) -> dict[str, tuple[Month, Month]]:
    """By kind of proposal and together: fresh days as they would have been, and with it."""
    offered = proposals(what)
    offered["all together"] = [offer for each in offered.values() for offer in each]
    world = onward(what.made.world)
    before = _mean([lived(world, 1_000 + seed) for seed in range(seeds)])
    found = {}
    for kind, offers in offered.items():
        changed = carried_out(world, changes_of(offers))
        found[kind] = (before, _mean([lived(changed, 1_000 + seed) for seed in range(seeds)]))
    return found


def _mean(months: Sequence[Month]) -> Month:
    return Month(*(sum(getattr(each, name) for each in months) / len(months) for name in ("spend", "sales", "profit")))


# --- the page -------------------------------------------------------------------------


def _rate(value: float | None) -> str:
    return "–" if value is None else f"{value:.0%}"


def _added(scores: Sequence[Score]) -> Score:
    return Score(*(sum(getattr(each, name) for each in scores) for name in ("flagged", "right", "true")))


def report(seeds: int) -> str:
    """The page, all seeds of both brands pooled."""
    judged: dict[str, dict[str, list[tuple[Score, Score]]]] = {
        spec.name: {name: [] for name in JUDGED} for spec in BRANDS
    }
    costs: dict[str, list[tuple[float, float]]] = {spec.name: [] for spec in BRANDS}
    months: dict[str, dict[str, list[tuple[Month, Month]]]] = {spec.name: {} for spec in BRANDS}
    with cases(range(FIRST_SEED, FIRST_SEED + seeds)) as all_cases:
        for each in all_cases:
            name = each.made.world.spec.name
            for kind, (judge, _) in JUDGED.items():
                judged[name][kind].append(judge(each))
            costs[name].append(dry_cost(each))
            for kind, pair in effects(each).items():
                months[name].setdefault(kind, []).append(pair)
            print(f"{name}: {len(costs[name])} of {seeds}", file=sys.stderr)
    lines = [
        "# Before keywords, measured",
        "",
        (
            "What Catalog and Delivery find in simulated worlds, beside a rule of thumb each: of the money flagged, how"
            " much is truly so"
        ),
        (
            "(precision); of what is truly so, how much is found (recall); broken pages and replaced SKUs are counted. "
            f"{seeds} seeds pooled, 30 mature days each. `make truth` writes this page."
        ),
        "",
        "| world | what | ours: precision, recall | rule: precision, recall | the rule |",
        "|---|---|---|---|---|",
    ]
    for world, found in judged.items():
        for kind, scores in found.items():
            ours, rule = (_added([pair[side] for pair in scores]) for side in (0, 1))
            lines.append(
                f"| {world} | {kind} | {_rate(ours.precision)}, {_rate(ours.recall)} | {_rate(rule.precision)},"
                f" {_rate(rule.recall)} | {JUDGED[kind][1]} |"
            )
    lines += [
        "",
        "Sales that dry hours missed, at full elasticity: the estimate beside what was truly missed.",
        "",
        "| world | estimated | true | estimate ÷ true, per seed |",
        "|---|---|---|---|",
    ]
    for world, missed in costs.items():
        each_seed = ", ".join(f"{guess / true:.2f}" for guess, true in missed if true)
        lines.append(f"| {world} | {sum(g for g, _ in missed):,.0f} | {sum(t for _, t in missed):,.0f} | {each_seed} |")
    lines += [
        "",
        (
            f"What proposals do when they are carried out in the world and it runs on for {FRESH} fresh days, by what"
            f" is expected of every click; each change beside leaving things as they are (means of {FRESH_SEEDS} runs a"
            " seed). Per seed: the change of profit."
        ),
        "",
        "| world | proposals | ACOS | spend | ad sales | profit after ads | profit, per seed |",
        "|---|---|---|---|---|---|---|",
    ]
    for world, by_kind in months.items():
        for kind, pairs in by_kind.items():
            before, after = (_mean([pair[side] for pair in pairs]) for side in (0, 1))
            per_seed = ", ".join(f"{then.profit - now.profit:+,.0f}" for now, then in pairs)
            lines.append(
                f"| {world} | {kind} | {before.acos:.1%} → {after.acos:.1%} | {after.spend / before.spend - 1:+.1%} "
                f"| {after.sales / before.sales - 1:+.1%} | {before.profit:,.0f} → {after.profit:,.0f} | {per_seed} |"
            )
    return "\n".join(lines) + "\n"


def main() -> None:
    """Prints the page, or writes it."""
    seeds = int(sys.argv[sys.argv.index("--seeds") + 1]) if "--seeds" in sys.argv else 5
    text = report(seeds)
    if "--write" in sys.argv:
        OUT.write_text(text, encoding="utf-8")
    else:
        print(text)


if __name__ == "__main__":
    main()
