"""
Phrases that were never bought, against what is true of them in simulated markets, beside rules of thumb; and what the
proposals bring in 28 days.

    python benchmarks/reach.py [--write] [--seeds 5] [--first 71]
"""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Final

import polars as pl

from benchmarks.before_keywords import DAYS, FRESH, LAST, Case, case, lived, onward
from nimbus_reef import config
from nimbus_reef.analysis.reach import pool
from nimbus_reef.cli import wiring
from nimbus_reef.sim import brand, phrases
from nimbus_reef.sim.phrases import EXACT_APPEAL
from nimbus_reef.sim.trade import EXTRA_UNITS
from nimbus_reef.sim.vocabulary import BRANDS, BrandSpec

OUT: Final = Path(__file__).parents[1] / "docs" / "reach.md"
FIRST_SEED: Final = 71
PHRASES_EACH: Final = 480
KINDS: Final = ("query_funnel", "keyword_ranks", "rivals")
COUNTS: Final = (100, 300)
_RESPONSE: Final = 0.6
_PAID: Final = 0.86
"""What a click costs of its bid, on average."""


@dataclass(frozen=True, slots=True)
class Scored:
    """What so many proposals come to: the part that pays at the usual bid and at its own, and profit in 28 days."""

    count: int
    pays_usual: float
    pays: float
    profit: float
    brands: int
    look_alikes: int


def with_truth(what: Case) -> pl.DataFrame:
    """
    The pool with what is true of each phrase in the ad group that it would go to: sales and profit of a click, what
    pays and is earned at the bid made and at the usual one, and at the best.
    """
    world = what.made.world
    groups = world.ad_groups.join(world.campaigns, on="campaign_no").select("ad_group_no", "campaign", "ad_group")
    value = pl.col("cvr") * pl.col("price") * (1 + EXTRA_UNITS)
    part = pl.col("share") * pl.col("fit") / pl.col("share").sum()
    mix = (
        world.ad_products.join(world.products.select("product_no", "cvr", "price", "margin"), on="product_no")
        .group_by("ad_group_no")
        .agg(sells=(part * value).sum(), earns=(part * value * pl.col("margin") / 100).sum())
        .join(groups, on="ad_group_no")
        .select("campaign", "ad_group", "ad_group_no", "sells", "earns")
    )
    truth = what.made.searched.phrases.select(
        "phrase",
        "kind",
        at="price",
        sells_factor=pl.col("worth") * EXACT_APPEAL,
        daily=pl.col("volume") * pl.col("shown") * pl.col("ctr"),
    )
    found = pool.pool(what.facts, what.selection)
    assert found is not None
    rows = found.rows.join(truth, on="phrase", maintain_order="left").join(
        mix, on=["campaign", "ad_group"], maintain_order="left"
    )
    sells, earns = (pl.col(name) * pl.col("sells_factor") for name in ("sells", "earns"))
    bids = {"own": pl.coalesce("bid", pl.lit(0.02)) * pl.col("multiplier"), "usual": pl.col("usual_bid")}

    def clicks(bid: pl.Expr) -> pl.Expr:
        return 28 * pl.col("daily") * (bid / pl.col("at")) ** _RESPONSE

    # Profit peaks where the next click costs what it earns: at the part e/(1+e) of that.
    best = earns * _RESPONSE / (1 + _RESPONSE) / _PAID
    return rows.with_columns(
        *((_PAID * bid <= pl.col("target_acos") * sells).alias(f"pays_{name}") for name, bid in bids.items()),
        *((clicks(bid) * (earns - _PAID * bid)).alias(f"profit_{name}") for name, bid in bids.items()),
        best=clicks(best) * (earns - _PAID * best),
    )


Rule = Callable[[pl.DataFrame], tuple[pl.DataFrame, str]]
RULES: Final[Mapping[str, Rule]] = {
    "volume first, usual bid": lambda rows: (rows.sort("volume", descending=True, nulls_last=True), "usual"),
    "three rivals within 40, usual bid": lambda rows: (
        rows.filter(pl.col("rivals_seen") >= 3).sort("volume", descending=True, nulls_last=True),
        "usual",
    ),
    "own rank below 20, usual bid": lambda rows: (
        rows.filter(pl.col("own_rank") < 20).sort("volume", descending=True, nulls_last=True),
        "usual",
    ),
    "most orders without ads, usual bid": lambda rows: (
        rows.filter(pl.col("free_orders") > 0).sort("free_orders", descending=True),
        "usual",
    ),
    "as proposed": lambda rows: (rows.filter(pl.col("stays").is_null()), "own"),
}


def scored(rows: pl.DataFrame, bid: str, count: int) -> Scored:
    """What the first so many rows come to."""
    taken = rows.head(count)
    kinds = taken["kind"].to_list()
    usual, own = (float(taken[f"pays_{name}"].mean() or 0) for name in ("usual", bid))  # type: ignore[arg-type]
    profit = float(taken[f"profit_{bid}"].sum())
    return Scored(len(taken), usual, own, profit, kinds.count("rival brand"), kinds.count("look-alike"))


@dataclass(frozen=True, slots=True)
class Account:
    """What an account's rules come to by count; best: the most that so many could earn; added: see `lived_with`."""

    name: str
    rules: Mapping[tuple[str, int], Scored]
    best: Mapping[int, float]
    payers: float
    added: tuple[float, float, float]


def lived_with(what: Case, rows: pl.DataFrame) -> tuple[float, float, float]:
    """
    Spend, sales and profit that all proposals add in 30 fresh days of the simulated account, budgets and placements in
    force: by what is expected of every click.
    """
    world = onward(what.made.world)
    taken = rows.filter(pl.col("stays").is_null()).select("phrase", "ad_group_no", "bid")
    without = [lived(world, 1_000 + seed) for seed in range(2)]
    changed = phrases.bought(world, what.made.searched, taken)
    with_them = [lived(changed, 1_000 + seed) for seed in range(2)]
    return tuple(
        sum(getattr(b, name) - getattr(a, name) for a, b in zip(without, with_them, strict=True)) / len(without)
        for name in ("spend", "sales", "profit")
    )


def account(what: Case, name: str) -> Account:
    """One account, measured."""
    rows = with_truth(what)
    rules = {(rule, count): scored(*take(rows), count) for rule, take in RULES.items() for count in COUNTS}
    best = rows.sort("best", descending=True)["best"]
    proposed, payers = rows.filter(pl.col("stays").is_null()), rows.filter(pl.col("best") >= 5)
    found = proposed.join(payers.select("phrase"), on="phrase", how="semi")
    return Account(
        name,
        rules,
        {count: float(best.head(count).sum()) for count in COUNTS},
        len(found) / max(1, len(payers)),
        lived_with(what, rows),
    )


def measured(seeds: Sequence[int], specs: Sequence[BrandSpec] = BRANDS) -> list[Account]:
    """Each brand of each seed, loaded into a database of its own that is gone afterwards."""
    entries = []
    with tempfile.TemporaryDirectory() as var:
        conf = config.load({"REEF_VAR": var, "REEF_DATABASE_PORT": str(wiring.free_port("127.0.0.1", 3466))})
        with wiring.running_store(conf) as store:
            for seed in seeds:
                for spec in specs:
                    made = brand.simulate(spec, seed, DAYS, LAST, phrases_each=PHRASES_EACH)
                    what = case(store, made, f"{spec.key}-{seed}", Path(var), KINDS)
                    entries.append(account(what, f"{spec.name} {seed}"))
                    print(entries[-1], file=sys.stderr)
    return entries


def page(entries: Sequence[Account]) -> list[str]:
    """The page."""
    lines = [
        "# Phrases never bought, measured",
        "",
        "In simulated markets: phrases beside those an account buys, with rivals and ranks, lists that know the category of",
        f"seven in ten, look-alikes of other goods and phrases with a rival’s brand. {len(entries)} accounts. “Pays” means that",
        "its true cost of sale is within the target, at the bid made and at the usual one; profit is that of 28 days.",
        "`make truth` writes this page.",
        "",
        "| proposals | rule | pays at the usual bid | pays at the bid made | profit in 28 days | of the best possible |"
        " look-alikes | rival brands |",
        "|---|---|---|---|---|---|---|---|",
    ]
    for count in COUNTS:
        for rule in RULES:
            of = [each.rules[rule, count] for each in entries]
            profit, best = sum(each.profit for each in of), sum(each.best[count] for each in entries)
            lines.append(
                f"| {count} | {rule} | {_mean(of, 'pays_usual'):.0%} | {_mean(of, 'pays'):.0%} |"
                f" {profit / len(of):,.0f} | {profit / best:.0%} | {sum(each.look_alikes for each in of)} |"
                f" {sum(each.brands for each in of)} |"
            )
    lines += [
        "",
        "Profit as proposed beside the better of *volume first* and *own rank below 20*, account by account, and what all",
        f"proposals add in {FRESH} fresh days of the account, with budgets, hours and placements in force.",
        "",
        f"| account | {' | '.join(f'{count}: times the better' for count in COUNTS)} | phrases that would earn 5, found |"
        " spend added | sales added | profit added |",
        "|---" * (len(COUNTS) + 5) + "|",
    ]
    for each in entries:
        times = [each.rules["as proposed", count].profit / max(_thumbs(each, count)) for count in COUNTS]
        spend, sales, profit = each.added
        lines.append(
            f"| {each.name} | {' | '.join(f'{value:.2f}' for value in times)} | {each.payers:.0%} |"
            f" {spend:,.0f} | {sales:,.0f} | {profit:+,.0f} |"
        )
    return lines


def _thumbs(of: Account, count: int) -> tuple[float, float]:
    return (of.rules["volume first, usual bid", count].profit, of.rules["own rank below 20, usual bid", count].profit)


def _mean(of: Sequence[Scored], name: str) -> float:
    return float(sum(getattr(each, name) for each in of)) / len(of)


def main() -> None:
    """Prints the page, or writes it to docs/reach.md."""

    def asked(name: str, usual: int) -> int:
        return int(sys.argv[sys.argv.index(name) + 1]) if name in sys.argv else usual

    first = asked("--first", FIRST_SEED)
    text = "\n".join(page(measured(range(first, first + asked("--seeds", 5))))) + "\n"
    if "--write" in sys.argv:
        OUT.write_text(text, encoding="utf-8")
    print(text)


if __name__ == "__main__":
    main()
