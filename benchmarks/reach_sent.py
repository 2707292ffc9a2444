"""
Phrases never bought, with sending on: all that is proposed is accepted, sent to the simulated marketplace and lived with
for 28 days, beside the same account left as it was. Adds its table to docs/reach.md.

    python benchmarks/reach_sent.py [--write] [--seeds 5] [--first 71]
"""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from typing import Final

import polars as pl

from benchmarks.lived import Lived, begun
from benchmarks.outcome import DAYS, LAST, MATURES
from benchmarks.reach import OUT
from nimbus_reef import config
from nimbus_reef.analysis.outcome import judged, listed
from nimbus_reef.cli import wiring
from nimbus_reef.jobs import intake
from nimbus_reef.jobs.demo_brands import account_of
from nimbus_reef.sim import reports
from nimbus_reef.sim.account import MarketAccount, opened
from nimbus_reef.sim.vocabulary import BRANDS, BrandSpec
from nimbus_reef.store.record.engine import Store

LIVED: Final = 28
KINDS: Final = ("query_funnel", "keyword_ranks", "rivals", "listings")
HEAD: Final = "## With sending on"


@dataclass(frozen=True, slots=True)
class Sent:
    """What sending all proposals of an account came to in 28 days, beside the account left as it was."""

    name: str
    changes: int
    spend: float
    sales: float
    profit: float
    promised: float
    came: float
    kept: int
    did_not: int


def account(store: Store, spec: BrandSpec, seed: int, folder: Path) -> Sent:
    """One account."""
    lived = begun(store, account_of(store, spec, f"{spec.key}-{seed}"), spec, seed, DAYS, LAST, folder)
    _load_market(lived)
    alone = opened(spec, seed, DAYS, LAST)
    lived.accept(lived.propose("phrases"))
    lived.send()
    alone.pass_days(LIVED + MATURES)
    lived.live(LIVED + MATURES)
    spend, sales, profit = (with_it - without for with_it, without in zip(_sums(lived.own), _sums(alone), strict=True))
    found = judged.outcomes(lived.facts, lived.selection())
    total = next((line.total for line in listed.sums(found) if line.whole), None)
    verdicts = [each.verdict.value for each in found.entries]
    return Sent(
        f"{spec.name} {seed}",
        len(found.entries),
        spend,
        sales,
        profit,
        LIVED * total.promised if total else 0.0,
        LIVED * total.result if total else 0.0,
        verdicts.count("kept"),
        verdicts.count("did not"),
    )


def _load_market(lived: Lived) -> None:
    """Loads what the marketplace does not hand out: ranks and searches, as other tools tell them."""
    written = reports.write({kind: lived.own.made.frames[kind] for kind in KINDS}, lived.folder)
    for kind, path in written.items():
        intake.take(lived.store, lived.account, path, path.name, kind, today=lived.own.today)
        path.unlink()


def _sums(own: MarketAccount) -> tuple[float, float, float]:
    """Spend, sales and profit after ads of the first 28 days since, as the reports tell."""
    first = LAST + timedelta(days=1)
    margins = own.made.frames["catalog"].select("sku", pl.col("margin").cast(pl.Float64) / 100).unique("sku")
    rows = own.report("product_ad_daily", first, first + timedelta(days=LIVED - 1)).join(margins, on="sku")
    money = rows.select(pl.col("spend", "sales").cast(pl.Float64), "margin")
    return money.select(
        pl.col("spend").sum(),
        pl.col("sales").sum(),
        profit=(pl.col("sales") * pl.col("margin") - pl.col("spend")).sum(),
    ).row(0)


def page(entries: Sequence[Sent]) -> str:
    """The table."""
    lines = [
        HEAD,
        "",
        f"All that is proposed, accepted and sent to the simulated marketplace, after {LIVED} days, beside the same account left as it was.",
        "Spend, sales and profit after ads as the reports tell.",
        "",
        "| account | keywords | spend added | sales added | profit added | promised | came, by Outcome | kept / did not |",
        "|---|---|---|---|---|---|---|---|",
    ]
    lines += [
        f"| {each.name} | {each.changes} | {each.spend:,.0f} | {each.sales:,.0f} | {each.profit:+,.0f} |"
        f" {each.promised:,.0f} | {each.came:,.0f} | {each.kept} / {each.did_not} |"
        for each in entries
    ]
    return "\n".join(lines) + "\n"


def main() -> None:
    """Prints the table, or writes it to the end of docs/reach.md."""

    def asked(name: str, usual: int) -> int:
        return int(sys.argv[sys.argv.index(name) + 1]) if name in sys.argv else usual

    first, entries = asked("--first", 71), []
    for seed in range(first, first + asked("--seeds", 5)):
        for spec in BRANDS:
            with tempfile.TemporaryDirectory() as var:
                conf = config.load({"REEF_VAR": var, "REEF_DATABASE_PORT": str(wiring.free_port("127.0.0.1", 3566))})
                with wiring.running_store(conf) as store:
                    entries.append(account(store, spec, seed, Path(var)))
            print(entries[-1], file=sys.stderr)
    text = page(entries)
    print(text)
    if "--write" in sys.argv:
        before = OUT.read_text(encoding="utf-8").split(HEAD)[0].rstrip()
        OUT.write_text(f"{before}\n\n{text}", encoding="utf-8")


if __name__ == "__main__":
    main()
