"""
What the bids of one audit do in simulated worlds: carried out at once, and the world runs on for fresh days.

Beside doing nothing, a rule of thumb, and the rule of steps that came before. Profit is after ads, by what is expected of
every click.

    python benchmarks/bids.py [--write] [--seeds 5]
"""

from __future__ import annotations

import sys
from collections.abc import Iterable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any, Final

import polars as pl

from benchmarks.before_keywords import FIRST_SEED, Case, Month, _mean, carried_out, cases, changes_of, lived, onward
from nimbus_reef.analysis import bid_advice, bid_response, judged_proposals, solver
from nimbus_reef.analysis.judged import judged_targets, judged_terms
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.bids import Goal
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import MICRO, Verdict
from nimbus_reef.core.solver import ScopeSums, at_price

FRESH_SEEDS: Final = 2
OUT: Final = Path(__file__).parents[1] / "docs" / "bids.md"
THUMB_CLICKS: Final = 20
_FLOOR: Final = 0.02


def aiming(selection: Selection, goal: Goal) -> Selection:
    """The same by another goal."""
    account = selection.account
    return replace(selection, account=replace(account, settings=replace(account.settings, goal=goal.value)))


def ours(what: Case, goal: Goal, *, every: bool) -> list[Change]:
    """The bids and pauses that are proposed: all, or those that bring 95 % of the gain."""
    selection = aiming(what.selection, goal)
    rows = bid_advice.moving(what.facts, selection, every=every)
    return changes_of(judged_proposals.propose(what.facts, selection, Subject.TARGET, rows))


def rule_of_thumb(what: Case) -> list[Change]:
    """From 20 clicks on: a pause without an order, −20 % above the target, +10 % within it."""
    found = []
    for row in _live(what).filter(pl.col("clicks") >= THUMB_CLICKS).to_dicts():
        if not row["orders"]:
            found.append(_change(row, "state", "paused"))
        else:
            step = 0.8 if row["spend"] > row["target_acos"] * row["sales"] else 1.1
            found.append(_change(row, "bid", f"{max(_FLOOR, row['bid'] / MICRO * step):.2f}"))
    return found


def steps(what: Case) -> list[Change]:
    """The rule before: a pause without an order after a fair test, else steps of −30/+20 % where the verdict is clear."""
    found = []
    for row in _live(what).filter(pl.col("clicks") > 0, pl.col("aim").is_not_null()).to_dicts():
        bid, above = row["bid"] / MICRO, row["verdict"] == Verdict.ABOVE
        if above and row["own_test"] and row["own_fault"] and not row["orders"]:
            found.append(_change(row, "state", "paused"))
            continue
        if row["verdict"] in (Verdict.TOO_EARLY, Verdict.NOT_ENOUGH):
            continue
        most = 1.2 * bid if row["verdict"] == Verdict.WITHIN else bid
        new = max(_FLOOR, min(max(row["aim"], 0.7 * bid), most))
        if abs(new - bid) >= 0.005:
            found.append(_change(row, "bid", f"{new:.2f}"))
    return found


def _live(what: Case) -> pl.DataFrame:
    rows = bid_advice.with_advice(what.facts, what.selection, judged_targets(what.facts, what.selection))
    live = (pl.col("held") != "paused or ended") & pl.col("bid").is_not_null()
    return rows.filter(live).with_columns(pl.col("verdict", "campaign", "ad_group", "match_type").cast(pl.String))


def _change(row: Mapping[str, Any], field: str, value: str) -> Change:
    names = (row["ad_group"], str(row["target"]), row["match_type"])
    return Change(0, Action.UPDATE, Entity.TARGET, row["campaign"], field, value, "", *names)


def audits(what: Case) -> dict[str, list[Change]]:
    """What each way of bidding changes in one audit."""
    return {
        "rule of thumb": rule_of_thumb(what),
        "steps by verdict, as before": steps(what),
        "most sales": ours(what, Goal.SALES, every=True),
        "most sales, 95 % of the gain": ours(what, Goal.SALES, every=False),
        "most profit": ours(what, Goal.PROFIT, every=True),
        "most profit, 95 % of the gain": ours(what, Goal.PROFIT, every=False),
    }


def effects(what: Case) -> dict[str, tuple[int, Month]]:
    """By way of bidding: how many changes, and the fresh days after them; “nothing” too."""
    world = onward(what.made.world)
    found = {"nothing": (0, _lived(world))}
    for name, changes in audits(what).items():
        found[name] = (len(changes), _lived(carried_out(world, changes)))
    return found


def _lived(world: Any) -> Month:
    return _mean([lived(world, 1_000 + seed) for seed in range(FRESH_SEEDS)])


def harmed(what: Case) -> tuple[int, int]:
    """Pauses and blocks proposed, and how many of them stop a row that earns by what is true of it."""
    selection, facts = what.selection, what.facts
    targets = bid_advice.moving(facts, selection, every=True).filter(pl.col("move") == "pause")
    terms = judged_terms(facts, selection).filter("loses")
    blocked = [
        each.row_id
        for each in judged_proposals.propose(facts, selection, Subject.TERM, terms)
        if each.kind == "negative"
    ]
    stopped = 0
    wrong = 0
    for rows, names, truth in (
        (targets, ["campaign", "ad_group", "target", "match_type"], what.made.truth["targets"]),
        (
            terms.filter(pl.col("row_id").is_in(blocked)).rename({"term": "search_term"}),
            ["campaign", "ad_group", "search_term"],
            what.made.truth["search_terms"],
        ),
    ):
        known = rows.with_columns(pl.col(names).cast(pl.String)).join(
            pl.DataFrame(truth).select(*names, "true_acos"), on=names
        )
        margin = pl.coalesce("margin", "target_acos")
        stopped += len(known)
        wrong += len(known.filter(pl.col("true_acos") < margin))
    return stopped, wrong


_TRUE_E: Final = 0.6
_TRUE_P: Final = 1.0


def hurt(what: Case) -> dict[str, tuple[int, int]]:
    """By kind of change of a target: how many are proposed, and how many lower what it truly earns at its margin."""
    keys = ["campaign", "ad_group", "target", "match_type"]
    truth = pl.DataFrame(what.made.truth["targets"]).select(*keys, "true_acos")
    rows = bid_advice.moving(what.facts, what.selection, every=True)
    x = pl.when(pl.col("move") == "pause").then(0.0).otherwise(pl.col("proposed") / (pl.col("bid") / MICRO))
    spend = pl.col("spend") / MICRO
    sales, margin = spend / pl.col("true_acos"), pl.coalesce("margin", "target_acos")
    earned = margin * sales * (x**_TRUE_E - 1) - spend * (x ** (_TRUE_E + _TRUE_P) - 1)
    kind = pl.when(x == 0).then(pl.lit("pauses")).when(x > 1).then(pl.lit("raises")).otherwise(pl.lit("cuts"))
    found = (
        rows.filter(pl.col("clicks") > 0)
        .with_columns(pl.col(keys).cast(pl.String))
        .join(truth, on=keys)
        .group_by(kind.alias("kind"))
        .agg(pl.len(), falls=(earned < 0).sum())
    )
    return {kind: (count, falls) for kind, count, falls in found.rows()}


PRICES: Final = (0.8, 0.9, 1.1, 1.25)
"""Prices of a click, in parts of today's, at which the target solver is held against the world."""


def solved(what: Case) -> list[tuple[float, float, float]]:
    """By price: how far the solver's sales are off (a part), and its ACOS (a difference), from what the world does."""
    data = solver.data(what.facts, what.selection)
    # The solver leaves out campaigns out of budget; here no budget ends a day.
    world = onward(what.made.world)
    assert world.delivery is not None
    world = replace(world, delivery=replace(world.delivery, budgets=world.delivery.budgets * 1_000))
    now, found = _lived(world), []
    start = ScopeSums(data.now.clicks, data.now.orders, now.spend, now.sales)
    for factor in PRICES:
        told = at_price(start, factor, data.response)
        then = _lived(replace(world, bids=world.bids * told.bids))
        found.append((factor, told.sales / then.sales - 1, told.acos - then.acos))
    return found


def main() -> None:
    """Prints the table, or writes it to docs/bids.md."""
    seeds = int(sys.argv[sys.argv.index("--seeds") + 1]) if "--seeds" in sys.argv else 5
    found: dict[str, list[dict[str, tuple[int, Month]]]] = {}
    answers, stops, solutions = [], [0, 0], []
    kinds: dict[str, list[tuple[int, int]]] = {}
    with cases(range(FIRST_SEED, FIRST_SEED + seeds)) as all_cases:
        for each in all_cases:
            name = each.made.world.spec.name
            found.setdefault(name, []).append(effects(each))
            answers.append((name, bid_response.learned(each.facts, each.selection)))
            stopped, wrong = harmed(each)
            stops = [stops[0] + stopped, stops[1] + wrong]
            solutions.append((name, solved(each)))
            for kind, counts in hurt(each).items():
                kinds.setdefault(kind, []).append(counts)
            print(f"{name}: {len(found[name])} of {seeds}", file=sys.stderr)
    text = "\n".join(_page(found, answers, stops, kinds, solutions, seeds)) + "\n"
    if "--write" in sys.argv:
        OUT.write_text(text, encoding="utf-8")
    print(text)


def _page(
    found: Mapping[str, list[dict[str, tuple[int, Month]]]],
    answers: Iterable[Any],
    stops: list[int],
    kinds: Mapping[str, list[tuple[int, int]]],
    solutions: Iterable[tuple[str, list[tuple[float, float, float]]]],
    seeds: int,
) -> list[str]:
    lines = [
        "# Bids, measured",
        "",
        "One audit of a simulated account, its changes carried out, and 30 fresh days by what is expected of every click.",
        f"{seeds} seeds a brand. Profit is after ads at each product's margin. `make truth` writes this page.",
        "",
        "| brand | bids by | changes | spend | sales | ACOS | profit | profit ahead of nothing, per seed |",
        "|---|---|---|---|---|---|---|---|",
    ]
    for brand, seeds_of in found.items():
        for name in seeds_of[0]:
            months = [each[name][1] for each in seeds_of]
            count = sum(each[name][0] for each in seeds_of) / len(seeds_of)
            mean = _mean(months)
            ahead = ", ".join(f"{each[name][1].profit - each['nothing'][1].profit:+,.0f}" for each in seeds_of)
            lines.append(
                f"| {brand} | {name} | {count:,.0f} | {mean.spend:,.0f} | {mean.sales:,.0f} | {mean.acos:.1%} |"
                f" {mean.profit:,.0f} | {ahead} |"
            )
    lines += [
        "",
        "How clicks answer bids, learned from the account's own changes; in these worlds e is 0.6 and p is 1.",
        "",
    ]
    lines += [
        f"- {name}: e {each.e:.2f} ± {each.spread:.2f}, p {each.p:.2f}, {each.changes} changes"
        for name, each in answers
    ]
    lines += ["", f"Pauses and blocks: {stops[0]}; of them {stops[1]} stop a row that truly earns at its margin."]
    told = []
    for kind in ("cuts", "raises", "pauses"):
        count, falls = (sum(each[place] for each in kinds.get(kind, [])) for place in (0, 1))
        told.append(f"{falls} of {count} {kind}" + (f" ({falls / count:.0%})" if count else ""))
    lines += [
        "Of targets with clicks, changes that lower what the target truly earns at its margin: "
        + ", ".join(told)
        + ". A raise within the target sells more, and may earn less where the target lies above the peak of profit.",
        "",
        "The target solver against the world: all bids changed so that a click costs so much of today's price; how far its",
        "sales and its ACOS (points) are off.",
        "",
        f"| account | {' | '.join(f'{each:g}' for each in PRICES)} |",
        "|---" * (len(PRICES) + 1) + "|",
        *(
            f"| {name} | {' | '.join(f'{sales:+.1%}, {100 * acos:+.1f}' for _, sales, acos in rows)} |"
            for name, rows in solutions
        ),
    ]
    return lines


if __name__ == "__main__":
    main()
