"""
A quarter of audits in simulated worlds: every two weeks the account is audited, all that is proposed on bids and search
terms is carried out, and the reports of the next two weeks are loaded.

By the product's two goals, a rule of thumb, the rule of steps that came before, doing nothing, and bids that know the
truth; in the demo's world and in an auction. Profit is after ads, by what is expected of every click.

    python benchmarks/quarter.py [--write] [--seeds 5] [--first 71] [--world power|auction] [--jobs 2] [--kept FOLDER]

With --kept each account's quarter is kept there as JSON, and one that is there already is not run again: five seeds
are hours of work.
"""

from __future__ import annotations

import json
import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import asdict, dataclass, replace
from datetime import timedelta
from functools import partial
from pathlib import Path
from typing import Final

import polars as pl

from benchmarks.before_keywords import DAYS, LAST, Case, Month, carried_out, case, changes_of, expected_of, onward
from benchmarks.bids import _change, _live, aiming, ours, rule_of_thumb, steps
from nimbus_reef import config
from nimbus_reef.analysis import bid_response, judged_proposals
from nimbus_reef.analysis.judged import judged_terms
from nimbus_reef.cli import wiring
from nimbus_reef.core.bids import Goal
from nimbus_reef.core.changes import Change, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.checks.targeting import WASTED_TERMS
from nimbus_reef.core.windows import Window
from nimbus_reef.jobs import intake
from nimbus_reef.sim import brand, reports, trade
from nimbus_reef.sim.brand import Simulated
from nimbus_reef.sim.vocabulary import BRANDS, BrandSpec
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record.engine import Store

OUT: Final = Path(__file__).parents[1] / "docs" / "quarter.md"
FIRST_SEED: Final = 71
AUDITS: Final = 6
FORTNIGHT: Final = 14
WORLDS: Final = {"power": (0.6, 1.0), "auction": (1.5, 1.0)}
"""Each world and how clicks and prices answer bids there: e, p (in the auction on average, at the first bids)."""
_KINDS: Final = (
    "targets",
    "campaigns",
    "target_daily",
    "search_term_daily",
    "product_ad_daily",
    "campaign_daily",
    "placement_daily",
    "hourly",
)


@dataclass(frozen=True, slots=True)
class Quarter:
    """What twelve weeks came to, and how many changes were made; answer: how clicks answer bids, as learned by then."""

    month: Month
    changes: int
    answer: tuple[float, float, float]


Decide = Callable[[Case, Simulated, str], list[Change]]


def product(goal: Goal, *, every: bool) -> Decide:
    """All bids and pauses that are proposed (or those that bring 95 % of the gain), and the search terms to block."""

    def decide(what: Case, _: Simulated, __: str) -> list[Change]:
        selection = aiming(what.selection, goal)
        terms = judged_terms(what.facts, selection)
        wasted = terms.filter(WASTED_TERMS.condition)
        blocked = changes_of(judged_proposals.propose(what.facts, selection, Subject.TERM, wasted))
        return [*ours(what, goal, every=every), *(each for each in blocked if each.entity is Entity.NEGATIVE)]

    return decide


def knowing(goal: Goal) -> Decide:
    """Bids at the true worth of each target's clicks, at once."""

    def decide(what: Case, made: Simulated, world: str) -> list[Change]:
        e, p = WORLDS[world]
        keys = ["campaign", "ad_group", "target", "match_type"]
        truth = pl.DataFrame(made.truth["targets"]).select(
            *keys, worth=pl.col("spend") / pl.col("clicks") / pl.col("true_acos")
        )
        rows = _live(what).with_columns(pl.col("target").cast(pl.String)).drop("worth").join(truth, on=keys)
        best = pl.min_horizontal("target_acos", pl.coalesce("margin", "target_acos") * e / (e + p))
        acos = best if goal is Goal.PROFIT else pl.col("target_acos")
        bids = rows.with_columns(new=(acos * pl.col("worth") * pl.col("ratio")).clip(0.02, 10).round(2))
        return [_change(row, "bid", f"{row['new']:.2f}") for row in bids.to_dicts() if row["new"] is not None]

    return decide


RULES: Final[Mapping[str, Decide]] = {
    "nothing": lambda *_: [],
    "rule of thumb": lambda what, *_: rule_of_thumb(what),
    "steps by verdict, as before": lambda what, *_: steps(what),
    "most sales": product(Goal.SALES, every=True),
    "most sales, 95 % of the gain": product(Goal.SALES, every=False),
    "most profit": product(Goal.PROFIT, every=True),
    "most profit, 95 % of the gain": product(Goal.PROFIT, every=False),
    "most sales, the truth known": knowing(Goal.SALES),
    "most profit, the truth known": knowing(Goal.PROFIT),
}


def quarter(what: Case, made: Simulated, store: Store, decide: Decide, world_name: str, folder: Path) -> Quarter:
    """Six audits of an account and the fortnight after each; everything is mature on the day it is loaded."""
    world = onward(made.world, FORTNIGHT)
    parts, count, paused, blocked = [], 0, set[tuple[str, str, str, str]](), set[tuple[str, str, str]]()
    for number in range(AUDITS):
        changes = decide(what, made, world_name)
        count += len(changes)
        world = carried_out(world, changes)
        paused |= {
            (each.campaign, each.ad_group, each.target, each.match_type)
            for each in changes
            if each.new_value == "paused"
        }
        blocked |= {(each.campaign, each.ad_group, each.target) for each in changes if each.entity is Entity.NEGATIVE}
        end = LAST + timedelta(days=FORTNIGHT * (number + 1))
        happened = trade.run(world, 1_000 + number, end)
        parts.append(expected_of(world, happened))
        mature = replace(happened, clicked=happened.clicked.with_columns(known="day"))
        frames = reports.reports(world, mature, end, number)
        stopped = pl.struct("campaign", "ad_group", "target", "match_type").is_in(
            [dict(zip(("campaign", "ad_group", "target", "match_type"), each, strict=True)) for each in paused]
        )
        if paused:
            frames["targets"] = frames["targets"].with_columns(
                state=pl.when(stopped).then(pl.lit("paused")).otherwise("state")
            )
        frames["targets"] = pl.concat(
            [frames["targets"], _negatives(frames["targets"], blocked)], how="diagonal_relaxed"
        )
        loaded = reports.write({kind: frames[kind] for kind in _KINDS}, folder / "fortnight")
        for kind, path in loaded.items():
            intake.take(store, what.selection.account, path, path.name, kind, today=end + timedelta(days=1))
            path.unlink()
        what = Case(Facts(store), replace(what.selection, window=Window(end - timedelta(days=29), end)), made)
    answer = bid_response.learned(what.facts, what.selection)
    sums = [sum(getattr(each, part) for each in parts) for part in ("spend", "sales", "profit")]
    return Quarter(Month(*sums), count, (answer.e, answer.spread, answer.p))


def _negatives(targets: pl.DataFrame, blocked: set[tuple[str, str, str]]) -> pl.DataFrame:
    """The terms that are blocked, as the report of targets lists them on its days."""
    names = pl.DataFrame(
        sorted(blocked), schema=dict.fromkeys(("campaign", "ad_group", "target"), pl.String), orient="row"
    )
    rows = names.with_columns(match_type=pl.lit("negative_exact"), state=pl.lit("enabled"))
    return targets.select("date").unique().sort("date").join(rows, how="cross")


def installed(var: Path) -> config.Config:
    """An installation in a folder, on a port of its own."""
    port = wiring.free_port("127.0.0.1", 20_000 + os.getpid() % 20_000)
    return config.load({"REEF_VAR": str(var), "REEF_DATABASE_PORT": str(port)})


def account(spec: BrandSpec, seed: int, world: str) -> dict[str, Quarter]:
    """What each rule makes of one account: loaded once, and copied for each."""
    made = brand.simulate(spec, seed, DAYS, LAST, in_auction=world == "auction")
    found: dict[str, Quarter] = {}
    with tempfile.TemporaryDirectory() as folder:
        base = Path(folder) / "base"
        with wiring.running_store(installed(base)) as store:
            selection = case(store, made, spec.key, base).selection
        for rule, decide in RULES.items():
            began, own = time.perf_counter(), Path(folder) / "own"
            shutil.copytree(base, own)
            with wiring.running_store(installed(own)) as store:
                found[rule] = quarter(Case(Facts(store), selection, made), made, store, decide, world, own)
            shutil.rmtree(own)
            took = time.perf_counter() - began
            print(f"{world} {spec.name} {seed} {rule}: {found[rule]} {took:.0f} s", file=sys.stderr)
    return found


Result = tuple[str, str, int, dict[str, Quarter]]
"""World, brand, seed, and what each rule made of that account."""


def _kept(folder: str, spec: BrandSpec, seed: int, world: str) -> dict[str, Quarter]:
    """What each rule makes of one account, from the folder where it is kept."""
    if not folder:
        return account(spec, seed, world)
    path = Path(folder) / f"{world}-{spec.key}-{seed}.json"
    if not path.exists():
        found = account(spec, seed, world)
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(json.dumps({rule: asdict(each) for rule, each in found.items()}, indent=1), encoding="utf-8")
    return {
        rule: Quarter(Month(**each["month"]), each["changes"], tuple(each["answer"]))
        for rule, each in json.loads(path.read_text(encoding="utf-8")).items()
    }


def run(seeds: Sequence[int], worlds: Sequence[str], jobs: int, kept: str) -> list[Result]:
    """Every account, so many at once."""
    asked = [(spec, seed, world) for seed in seeds for world in worlds for spec in BRANDS]
    with ProcessPoolExecutor(jobs) as pool:
        found = list(pool.map(partial(_kept, kept), *zip(*asked, strict=True)))
    return [(world, spec.name, seed, each) for (spec, seed, world), each in zip(asked, found, strict=True)]


def page(rows: Sequence[Result]) -> list[str]:
    """The page."""
    seeds = len({seed for _, _, seed, _ in rows})
    lines = [
        "# A quarter of audits, measured",
        "",
        "A simulated account is audited every two weeks for twelve weeks. All that is proposed on bids and search terms is",
        f"carried out, and the world goes on. {seeds} fresh {'seed' if seeds == 1 else 'seeds'}, two brands. Profit is after",
        "ads, by what is expected of every click. Two worlds: in one, 1 % more bid brings 0.6 % more clicks and costs 1 %",
        "more each; in the other seven rivals bid for eight places. Bids that know the truth know what clicks are worth, and how",
        "clicks answer at the first bids. `make truth` writes this page.",
        "",
        "| world | bids by | changes | sales | ACOS | profit ahead of nothing, mean | ahead of the rule of thumb: profit, sales |",
        "|---|---|---|---|---|---|---|",
    ]
    for world in dict.fromkeys(each[0] for each in rows):
        own = [found for name, _, _, found in rows if name == world]
        for rule in RULES:
            of, nothing, thumb = ([each[key] for each in own] for key in (rule, "nothing", "rule of thumb"))
            spend, sales, profit = (
                sum(getattr(each.month, part) for each in of) for part in ("spend", "sales", "profit")
            )
            before = sum(each.month.profit for each in nothing)
            wins = [
                sum(getattr(a.month, part) > getattr(b.month, part) for a, b in zip(of, thumb, strict=True))
                for part in ("profit", "sales")
            ]
            lines.append(
                f"| {world} | {rule} | {sum(each.changes for each in of) / len(of):,.0f} |"
                f" {sales / sum(each.month.sales for each in nothing) - 1:+.0%} | {spend / sales:.1%} |"
                f" {(profit - before) / len(of):+,.0f} | {wins[0]}, {wins[1]} of {len(of)} |"
            )
    lines += [
        "",
        "Profit ahead of doing nothing, account by account.",
        "",
        f"| world | account | {' | '.join(RULES)} |",
    ]
    lines.append("|---" * (len(RULES) + 2) + "|")
    for world, name, seed, found in rows:
        profits = [f"{each.month.profit - found['nothing'].month.profit:+,.0f}" for each in found.values()]
        lines.append(f"| {world} | {name} {seed} | {' | '.join(profits)} |")
    lines += [
        "",
        "How clicks answered bids, as learned by the end of the quarter from the audits’ own changes (most sales).",
        "",
    ]
    lines += [
        f"- {world}, {name} {seed}: e {e:.2f} ± {spread:.2f}, p {p:.2f}"
        for world, name, seed, found in rows
        for e, spread, p in [found["most sales"].answer]
    ]
    return lines


def main() -> None:
    """Prints the page, or writes it to docs/quarter.md."""

    def asked(name: str, usual: str) -> str:
        return sys.argv[sys.argv.index(name) + 1] if name in sys.argv else usual

    first, count = int(asked("--first", str(FIRST_SEED))), int(asked("--seeds", "5"))
    world = asked("--world", "")
    rows = run(
        range(first, first + count), [world] if world else list(WORLDS), int(asked("--jobs", "2")), asked("--kept", "")
    )
    text = "\n".join(page(rows)) + "\n"
    if "--write" in sys.argv:
        OUT.write_text(text, encoding="utf-8")
    print(text)


if __name__ == "__main__":
    main()
