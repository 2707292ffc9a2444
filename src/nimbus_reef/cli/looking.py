"""Commands that show what the pages show, as data: pulse, coverage, findings, tables, the plan."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import timedelta
from pathlib import Path
from urllib.parse import urlencode

import click
import polars as pl

from nimbus_reef import config
from nimbus_reef.analysis import judged_tables, tables
from nimbus_reef.analysis import movement as movement_work
from nimbus_reef.analysis import standing as standing_work
from nimbus_reef.analysis.catalog import files as catalog_files
from nimbus_reef.analysis.delivery import files as delivery_files
from nimbus_reef.analysis.findings import SOURCES, Findings, named, written_down
from nimbus_reef.analysis.findings import findings as findings_of
from nimbus_reef.analysis.judged_proposals import judged, sources
from nimbus_reef.analysis.lacking import lacking
from nimbus_reef.analysis.movement import MOVED
from nimbus_reef.analysis.pulse import beat, idle
from nimbus_reef.analysis.reach import files as reach_files
from nimbus_reef.analysis.recurring import since_last
from nimbus_reef.analysis.row_marks import with_marks
from nimbus_reef.analysis.selection import DEFAULT_AGAINST, Selection, asked
from nimbus_reef.cli import output, wiring
from nimbus_reef.cli.output import FORMAT
from nimbus_reef.core import change
from nimbus_reef.core.coverage import labels_in_use, stretches
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.formats.tables import Table, csv_lines
from nimbus_reef.jobs import exports
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store.people import accounts, closed_audits, hidden_findings, plans, target_acos
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import loads
from nimbus_reef.store.record.engine import Store

_ACCOUNT = click.option("--account", "key", required=True, help="Key of the account.")
_WINDOW = click.option(
    "--window",
    default="",
    metavar="DAYS",
    help=(
        "last-30, a month such as 2026-10, or 2026-09-17..2026-10-16; last-30 when not given, or the newest sum of "
        "several days where the newest figures are one."
    ),
)
_COVERED_DAYS = 120


def _look(store: Store, facts: Facts, key: str, window: str, against: str = DEFAULT_AGAINST) -> Selection:
    account = wiring.account(store, key)
    found = asked(facts, account, target_acos.aims(store, account), window, against)
    if found is None:
        raise NotFound("Nothing is loaded yet.", place=key, remedy="Load a report with `reef import`.")
    return found


def _found(facts: Facts, selection: Selection) -> Findings:
    return findings_of(
        facts, selection, hidden_findings.away(facts.store, selection.account.id), today_of(selection.account)
    )


@click.command()
@_WINDOW
@FORMAT
@click.pass_obj
def pulse(conf: config.Config, window: str, form: str) -> None:
    """Show every account: spend, sales, ACOS, TACOS, against the days before."""
    rows = []
    with wiring.running_store(conf) as store:
        facts = Facts(store)
        for account in accounts.all_accounts(store):
            newest = facts.newest_day(account.id)
            selection = asked(facts, account, target_acos.aims(store, account), window)
            result = idle(facts, account) if selection is None else beat(facts, selection, today_of(account))
            now, then = result.now, result.then
            rows.append(
                {
                    "account": account.key,
                    "currency": account.currency,
                    "newest_day": newest,
                    "spend": from_micro(now.spend) if now else None,
                    "sales": from_micro(now.sales) if now else None,
                    "acos": now.acos if now else None,
                    "tacos": now.tacos if now else None,
                    "acos_before": then.acos if then else None,
                    "report": result.source,
                    "planned": result.planned,
                }
            )
    output.show(rows, form)


@click.command()
@_ACCOUNT
@FORMAT
@click.pass_obj
def coverage(conf: config.Config, key: str, form: str) -> None:
    """Show which days of each report are loaded, maturing, loaded too early or missing."""
    with wiring.running_store(conf) as store:
        account = wiring.account(store, key)
        spans = loads.spans(store, account.id, account.timezone)
        newest = max((span.days.last for own in spans.values() for span in own), default=None)
    rows = []
    if newest is not None:
        window = Window(newest - timedelta(days=_COVERED_DAYS - 1), newest)
        for kind, own in sorted(spans.items()):
            found = stretches(
                window, own, labels_in_use(own), newest, account.maturing_days, matures="sales" in KINDS[kind].summed
            )
            rows += [
                {"kind": kind, "state": each.state.value, "from": each.days.first, "to": each.days.last}
                for each in found
            ]
    output.show(rows, form)


def _need(facts: Facts, selection: Selection, kinds: Sequence[str]) -> None:
    """Raises NotFound when none of the reports covers a day of the window: missing data is not a zero."""
    if lacking(facts, selection.account, selection.window, kinds):
        titles = " or ".join(KINDS[kind].title.lower() for kind in kinds)
        raise NotFound(
            f"No {titles} are loaded for {selection.window.first} to {selection.window.last}.",
            place=selection.account.key,
            remedy="Choose other days with --window, or load one.",
        )


def _tables_of(
    needs: Mapping[str, tuple[str, ...]], by_key: Mapping[str, Callable[[Facts, Selection], Table]]
) -> Callable[..., None]:
    """What prints one table of an area."""

    def show(conf: config.Config, key: str, window: str, view: str, form: str) -> None:
        with wiring.running_store(conf) as store:
            facts = Facts(store)
            selection = _look(store, facts, key, window)
            _need(facts, selection, needs[view])
            output.show(by_key[view](facts, selection).rows.to_dicts(), form)

    return show


_CATALOG = _tables_of(catalog_files.NEEDS, catalog_files.FILES)
_DELIVERY = _tables_of(delivery_files.NEEDS, delivery_files.FILES)
_REACH = _tables_of(reach_files.NEEDS, reach_files.FILES)


@click.command()
@_ACCOUNT
@_WINDOW
@click.option(
    "--view", type=click.Choice(list(catalog_files.FILES)), default="families", show_default=True, help="Which table."
)
@FORMAT
@click.pass_obj
def catalog(conf: config.Config, key: str, window: str, view: str, form: str) -> None:
    """Show families, product ads, eligibility, gaps, listings, or duplicate keywords."""
    _CATALOG(conf, key, window, view, form)


@click.command()
@_ACCOUNT
@_WINDOW
@click.option(
    "--view",
    type=click.Choice(list(delivery_files.FILES)),
    default="placements",
    show_default=True,
    help="Which table.",
)
@FORMAT
@click.pass_obj
def delivery(conf: config.Config, key: str, window: str, view: str, form: str) -> None:
    """Show placements, hours or budgets: spend, sales, days out of budget and the proposal."""
    _DELIVERY(conf, key, window, view, form)


@click.command()
@_ACCOUNT
@_WINDOW
@click.option(
    "--view", type=click.Choice(list(reach_files.FILES)), default="phrases", show_default=True, help="Which table."
)
@FORMAT
@click.pass_obj
def reach(conf: config.Config, key: str, window: str, view: str, form: str) -> None:
    """Show phrases that were never bought: which would pay, at which bid."""
    _REACH(conf, key, window, view, form)


@click.command()
@_ACCOUNT
@_WINDOW
@FORMAT
@click.pass_obj
def findings(conf: config.Config, key: str, window: str, form: str) -> None:
    """Show the findings of an account, largest first, without snoozed ones."""
    with wiring.running_store(conf) as store:
        facts = Facts(store)
        selection = _look(store, facts, key, window)
        _need(facts, selection, SOURCES)
        found = _found(facts, selection)
        news = since_last(facts, selection.account, found, "").since.news
    rows = [
        {
            "finding": group.check.key,
            **dict(zip(("what", "where"), named(group.check, row), strict=True)),
            "news": str(news.get((group.check.key, row["row_id"]), "")),
            "to_do": group.check.to_do,
            "row": row["row_id"],
            "campaign": row["campaign"],
            "ad_group": row["ad_group"],
            "target": row["target"],
            "term": row.get("term"),
            "at_stake": from_micro(row["stake"]),
            "clicks": row["clicks"],
            "orders": row["orders"],
            "spend": from_micro(row["spend"]),
            "sales": from_micro(row["sales"]),
        }
        for group in found.groups
        for row in group.rows.to_dicts()
    ]
    click.echo(
        f"{from_micro(found.overspend):,.2f} {selection.account.currency} per 30 days likely above target, "
        "the same money counted once.",
        err=True,
    )
    output.show(rows, form)


@click.command()
@_ACCOUNT
@_WINDOW
@click.option(
    "--view", type=click.Choice(list(judged_tables.VIEWS)), default="targets", show_default=True, help="Which rows."
)
@click.option("--where", multiple=True, help="A filter as in the page's address, such as acos:gt:28; may repeat.")
@click.option("--search", default="", help="Words, “exact words” in quotes, -without.")
@click.option("--sort", default="-stake", show_default=True, help="A column; with - in front, largest first.")
@click.option(
    "--output",
    "-o",
    "target",
    type=click.Path(dir_okay=False, path_type=Path),
    help="Ends in .csv, .xlsx or .parquet; CSV on the screen when left out.",
)
@click.pass_obj
def table(
    conf: config.Config,
    key: str,
    window: str,
    view: str,
    where: tuple[str, ...],
    search: str,
    sort: str,
    target: Path | None,
) -> None:
    """Write the rows of a table, filtered and sorted as on its page."""
    if target is not None and target.suffix not in (".csv", ".xlsx", ".parquet"):
        raise BadInput(f"“{target.name}” is not a kind of table.", remedy="End it in .csv, .xlsx or .parquet.")
    shown = judged_tables.VIEWS[view]
    with wiring.running_store(conf) as store:
        facts = Facts(store)
        selection = _look(store, facts, key, window)
        _need(facts, selection, sources(shown.subject))
        known = judged_tables.fields(shown, "evidence")
        filters = tables.parse_filters(where, known)
        asked = {each.field.key for each in filters}
        rows = with_marks(facts, selection, shown.subject, judged(facts, selection, shown.subject), asked)
        listed = tables.listing(
            rows,
            filters=filters,
            query=search.strip(),
            text_columns=shown.text_columns,
            sort=sort,
            fields=known,
            page=1,
        )
    result = judged_tables.table_to_export(shown, listed.ordered, selection.window)
    if target is None or target.suffix == ".csv":
        lines = "".join(csv_lines(result.rows.columns, result.rows.iter_rows()))
        if target is None:
            click.echo(lines, nl=False)
        else:
            target.write_text(lines, encoding="utf-8", newline="")
        return
    with target.open("wb") as file:
        if target.suffix == ".xlsx":
            exports.as_xlsx([result], file)
        else:
            exports.as_parquet(result, file)


@click.command()
@_ACCOUNT
@FORMAT
@click.pass_obj
def plan(conf: config.Config, key: str, form: str) -> None:
    """Show the planned changes of an account. `reef export` writes the sheet."""
    with wiring.running_store(conf) as store:
        planned = plans.planned(store, wiring.account(store, key).id)
    output.show(
        [
            {
                "row": each.change.row,
                "action": each.change.action.value,
                "entity": each.change.entity.value,
                "campaign": each.change.campaign,
                "ad_group": each.change.ad_group,
                "target": each.change.target,
                "field": each.change.field,
                "old": each.change.old_value,
                "new": each.change.new_value,
                "accepted_at": each.accepted_at,
            }
            for each in planned
        ],
        form,
    )


@click.command()
@_ACCOUNT
@_WINDOW
@click.pass_obj
def close(conf: config.Config, key: str, window: str) -> None:
    """Close an audit. The next one shows what is new, back and gone."""
    with wiring.running_store(conf) as store:
        facts = Facts(store)
        selection = _look(store, facts, key, window)
        _need(facts, selection, SOURCES)
        found = _found(facts, selection)
        closed_audits.close(
            store,
            selection.account.id,
            None,
            part="",
            address=urlencode([*([("window", window)] if window else []), ("looked_at", selection.window.days)]),
            overspend=found.overspend,
            found=written_down(found),
        )
    click.echo(f"Closed with {found.count()} findings.")


@click.command()
@_ACCOUNT
@_WINDOW
@click.option(
    "--by",
    type=click.Choice(["account", "category", "format", "portfolio", "product"]),
    default="account",
    show_default=True,
    help="Whose standing.",
)
@FORMAT
@click.pass_obj
def standing(conf: config.Config, key: str, window: str, by: str, form: str) -> None:
    """Show the percentile of metrics among category peers."""
    with wiring.running_store(conf) as store:
        facts = Facts(store)
        selection = _look(store, facts, key, window)
        on = standing_work.standing_data(facts, selection)
        if by == "product":
            rows = standing_work.product_standing(on).drop("product_id").to_dicts()
            output.show(rows, form)
            return
        if by == "account":
            groups = [
                (
                    key,
                    from_micro(int(on.ads["spend"].sum())),
                    list(standing_work.account_places(facts, selection).values()),
                )
            ]
        else:
            groups = standing_work.by_group(facts, selection, by)
    output.show(
        [
            {
                by: name,
                "spend": round(spend, 2),
                "metric": each.standing.metric,
                "value": each.standing.value,
                "typical": each.standing.typical,
                "ahead_of": each.standing.percentile,
                "low": each.standing.low,
                "high": each.standing.high,
                "lacks": " ".join(str(part) for part in each.standing.thin or ()),
            }
            for name, spend, placed in groups
            for each in placed
        ],
        form,
    )


@click.command()
@_ACCOUNT
@_WINDOW
@click.option("--against", default=DEFAULT_AGAINST, show_default=True, help="preceding, last-year or a range.")
@click.option(
    "--by", type=click.Choice(movement_work.GROUPINGS), default="product", show_default=True, help="Who moved."
)
@FORMAT
@click.pass_obj
def movement(conf: config.Config, key: str, window: str, against: str, by: str, form: str) -> None:
    """Show what moved spend, sales and ACOS, with the effect on profit."""
    with wiring.running_store(conf) as store:
        facts = Facts(store)
        selection = _look(store, facts, key, window, against)
        if selection.against is None:
            raise BadInput("Movement needs a comparison period.", remedy="Leave --against out, or name some.")
        rows = movement_work.sides(facts, selection, by)
    split = change.split_acos(rows)
    shown = rows if split is None else split
    parts = [] if split is None else ["part", "pull", *change.ACOS_PARTS]
    shown = shown.sort(pl.col("profit").abs(), descending=True)
    output.show(shown.select(*MOVED, *parts).to_dicts(), form)
