"""Commands that audit an account and write its change sheet."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.table import Table

from nimbus_reef import config
from nimbus_reef.analysis import audit as auditing
from nimbus_reef.analysis.findings import named
from nimbus_reef.analysis.selection import asked
from nimbus_reef.cli import output, wiring
from nimbus_reef.cli.output import FORMAT
from nimbus_reef.core import evidence
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.targeting import Aims
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.formats import change_sheet
from nimbus_reef.store.people import plans
from nimbus_reef.store.people import target_acos as aims_of
from nimbus_reef.store.reading.facts import Facts

_OUT = Console()


@click.command()
@click.option("--account", "key", required=True, help="Key of the account.")
@click.option(
    "--from", "first", type=click.DateTime(["%Y-%m-%d"]), help="First day; the days that pages show when left out."
)
@click.option("--to", "last", type=click.DateTime(["%Y-%m-%d"]), help="Last day.")
@click.option("--target-acos", type=float, help="As a fraction; the account's own when left out.")
@FORMAT
@click.pass_obj
def audit(conf: config.Config, key: str, first: Any, last: Any, target_acos: float | None, form: str) -> None:
    """Show targets and search terms above target, and how sure that is."""
    if (first is None) != (last is None):
        raise BadInput("Only one end of the period was given.", remedy="Give both --from and --to, or neither.")
    with wiring.running_store(conf) as store:
        account = wiring.account(store, key)
        facts = Facts(store)
        aims_in_force = Aims(target_acos) if target_acos is not None else aims_of.aims(store, account)
        selection = asked(facts, account, aims_in_force, f"{first:%Y-%m-%d}..{last:%Y-%m-%d}" if first else "")
        if selection is None:
            raise NotFound("Nothing is loaded yet.", place=key, remedy="Load a report with `reef import`.")
        done = auditing.run(facts, selection)
        {"table": _audit_table, "json": _audit_json, "csv": _audit_csv}[form](done)


_SHOWN = ("campaign", "ad_group", "target", "match_type", "term", "clicks", "orders", "verdict", "p_over", "needed_cvr")


def _finding_rows(done: auditing.Audit) -> list[dict[str, Any]]:
    rows = []
    for found in done.found:
        for row in found.rows.to_dicts():
            money = {name: from_micro(row[name]) for name in ("spend", "sales", "stake")}
            rows.append({"check": found.check.key, **{n: row.get(n) for n in _SHOWN}, "acos": _acos(row), **money})
    return rows


def _audit_table(done: auditing.Audit) -> None:
    account = done.selection.account
    assumed = " (assumed)" if not account.target_set and done.selection.aims.account == account.target_acos else ""
    _OUT.print(
        f"[bold]{done.selection.account.brand}, {done.selection.account.country}[/]  {done.selection.window.first} to"
        f" {done.selection.window.last}, target ACOS {done.selection.aims.account:.0%}{assumed}, money in"
        f" {done.selection.account.currency}; amounts are per 30 days."
    )
    for found in done.found:
        share = f"they spent {ratio(found.spend, done.spend):.1%} of all" if done.spend else ""
        table = Table(
            title=f"{found.check.title}: {found.rows.height}, {from_micro(found.stake):,.0f} wasted, {share}",
            title_justify="left",
        )
        for name in ("what", "where", "wasted", "clicks", "orders", "spend", "ACOS", "verdict"):
            table.add_column(name, justify="left" if name in ("what", "where", "verdict") else "right")
        for row in found.rows.head(10).to_dicts():
            table.add_row(
                *named(found.check, row),
                f"{from_micro(row['stake']):,.0f}",
                str(row["clicks"]),
                str(row["orders"]),
                f"{from_micro(row['spend']):,.0f}",
                _acos_of(row),
                _verdict_of(row),
            )
        _OUT.print(table)


def _acos(row: Mapping[str, Any]) -> float | None:
    return ratio(row["spend"], row["sales"])


def _acos_of(row: Mapping[str, Any]) -> str:
    if "fate" in row:
        return "–"
    acos = _acos(row)
    return f"{acos:.0%}" if acos is not None else "no sales"


def _verdict_of(row: Mapping[str, Any]) -> str:
    if "verdict" not in row:
        return str(row["fate"])
    if "by_words" not in row:
        return str(row["verdict"])
    cause = evidence.cause_of(row)
    return f"{row['verdict']}, {cause}" if cause else str(row["verdict"])


def _audit_json(done: auditing.Audit) -> None:
    summary = {
        "account": done.selection.account.key,
        "from": done.selection.window.first.isoformat(),
        "to": done.selection.window.last.isoformat(),
        "target_acos": done.selection.aims.account,
        "currency": done.selection.account.currency,
        "checks": [
            {
                "check": f.check.key,
                "title": f.check.title,
                "rows": f.rows.height,
                "stake": from_micro(f.stake),
                "spend": from_micro(f.spend),
                "share_of_spend": ratio(f.spend, done.spend),
                "against_sales": ratio(f.spend, done.sales),
            }
            for f in done.found
        ],
        "rows": _finding_rows(done),
    }
    click.echo(json.dumps(summary, ensure_ascii=False, indent=1))


def _audit_csv(done: auditing.Audit) -> None:
    output.show_csv(["check", *_SHOWN, "acos", "spend", "sales", "stake"], _finding_rows(done))


@click.command()
@click.option("--account", "key", required=True, help="Key of the account.")
@click.option(
    "--output", "-o", type=click.Path(dir_okay=False, path_type=Path), required=True, help="Ends in .csv or .xlsx."
)
@click.pass_obj
def export(conf: config.Config, key: str, output: Path) -> None:
    """Write the plan of an account as a change sheet."""
    if output.suffix not in (".csv", ".xlsx"):
        raise BadInput(f"“{output.name}” ends in neither .csv nor .xlsx.", remedy="Name it so.")
    with wiring.running_store(conf) as store:
        account = wiring.account(store, key)
        changes = [each.change for each in plans.planned(store, account.id)]
    if output.suffix == ".csv":
        output.write_text("".join(change_sheet.as_csv(changes)), encoding="utf-8-sig", newline="")
    else:
        with output.open("wb") as file:
            change_sheet.as_xlsx(changes, file)
    click.echo(f"{output}: {len(changes)} changes.")
