"""Movement: the drift chart and its list, the ledger, why ACOS moved, trends."""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from typing import Any, Final

import polars as pl
from flask import Blueprint, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from nimbus_reef.analysis import made_changes
from nimbus_reef.analysis import movement as work
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.movement import GROUPINGS
from nimbus_reef.analysis.tables import PAGE_ROWS, page_of
from nimbus_reef.core.metrics import METRICS
from nimbus_reef.core.model import Format
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.formats.tables import Table
from nimbus_reef.formats.typed import number
from nimbus_reef.store.reading.facts import TOTAL_SOURCES
from nimbus_reef.web.acting import back_to, put
from nimbus_reef.web.downloads import hand_out
from nimbus_reef.web.kit import charts, movers, product
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.drift import Drift, drift
from nimbus_reef.web.kit.judging import worked_out_first
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.tables import TableView
from nimbus_reef.web.movement import change_pages, courses, ledger, pages, trends, why
from nimbus_reef.web.params import OWN_OF_A_TABLE, Scope
from nimbus_reef.web.parts import current_scope, figures, is_first_answer, must_write, parts, person

movement = Blueprint("movement", __name__, url_prefix="/movement")
_FIRST: Final = ("spend", "sales", "acos")
LEDGERED: Final = (*_FIRST, *(key for key in METRICS if key not in _FIRST))


@movement.get("/")
def look() -> Response:
    """The area opens on the drift chart."""
    return redirect(current_scope().link(url_for("movement.view", name="drift")))


@movement.get("/<name>")
def view(name: str) -> str:
    """One of the area's views."""
    if name not in pages.VIEWS:
        raise NotFound(f"Movement has no view “{name}”.", remedy="Choose one under the title.")
    scope = current_scope()
    if scope.newest is None:
        return render_template("movement/empty.html", view=name, views=pages.VIEWS)
    _need(scope, name)
    if scope.against is None and name not in ("trends", "changes"):
        return render_template("movement/empty.html", view=name, views=pages.VIEWS)
    if name in _OF_SIDES:
        _sides_first(scope)
    made = _VIEWS[name](scope)
    if "by" in made:
        made["ways"] = _ways(scope, made["by"], url_for("movement.view", name=name))
    return render_template(f"movement/{name}.html", view=name, views=pages.VIEWS, groupings=GROUPINGS, **made)


def _sides_first(scope: Scope) -> None:
    facts, by, look = parts().facts, _by(scope), _compared(scope)
    source = work.source_of(facts, scope.account, work.both(look), by)
    reads = [(source, window) for window in work.both(look)]
    worked_out_first(facts, scope, lambda: work.is_made(facts, look, by), reads, first=is_first_answer())


def _ways(scope: Scope, by: str, here: str) -> movers.Ways:
    """A product opens its drawer, a keyword its evidence, a campaign its trend, the rest their drift."""
    if by == "product":
        return movers.Ways(
            scope.link(here, open="") + "&open=", scope.link(url_for("standing.evidence"), open="", own=()) + "&open="
        )
    if by == "keyword":
        return movers.Ways(scope.elsewhere(url_for("targeting.table", name="targets")) + "&open=")
    if by == "campaign":
        return movers.Ways(scope.elsewhere(url_for("movement.view", name="trends")) + "&whose=campaign%3A")
    if by in ("portfolio", "format"):
        only = frozenset(Format) if by == "format" else frozenset()
        # In place of the one that is chosen: the first of two would count.
        drift = url_for("movement.view", name="drift")
        begin = (
            scope.elsewhere(drift, portfolio="")
            if by == "portfolio"
            else scope.link(drift, **OWN_OF_A_TABLE, formats=())
        )
        return movers.Ways(f"{begin}&{by}=", only=only)
    return movers.Ways()


def _by(scope: Scope) -> str:
    """The grouping chosen, else the first that the reports held can tell of both windows."""
    windows = [scope.window, *([scope.against] if scope.against else [])]
    return scope.choice("by", work.groupings(parts().facts, scope.account, windows))


def _need(scope: Scope, name: str) -> None:
    """NoFigures where the view has none of one of its windows."""
    if name == "changes":
        need(parts().facts, scope, (made_changes.KIND,), figures(), made_changes.days_of(scope.look))
        return
    kinds = TOTAL_SOURCES if name == "trends" else work.sources(_by(scope))
    need(parts().facts, scope, kinds, figures())
    if name != "trends" and scope.against is not None:
        need(parts().facts, scope, kinds, figures(), _against(scope))


def _days(scope: Scope, by: str) -> tuple[int, int]:
    """The held days of the windows that a grouping's sums are of: then, now."""
    return work.held_days(parts().facts, _compared(scope), by)


def _against(scope: Scope) -> Window:
    """The days compared with; BadInput where there are none."""
    if scope.against is None:
        raise BadInput("Movement needs days to compare with.", remedy="Choose some under “against”.")
    return scope.against


def _compared(scope: Scope) -> Look:
    """The look, where there are days to compare with."""
    return scope.look.against_days(_against(scope))


def _sides(scope: Scope, by: str) -> pl.DataFrame:
    return work.sides(parts().facts, _compared(scope), by)


def _ranked(scope: Scope, by: str) -> pl.DataFrame:
    return movers.ranked(_sides(scope, by), *_days(scope, by))


def _why_page(scope: Scope, by: str) -> why.WhyPage | None:
    """Why ACOS moved, by the rows of a grouping; kept until something is loaded."""
    facts, write = parts().facts, figures()
    look = _compared(scope)
    return facts.kept("why", scope.account.id, lambda: why.why(_sides(scope, by), write), look, by, write)


def _drift(scope: Scope) -> dict[str, Any]:
    by = _by(scope)
    everything = scope.choice("show", ("largest", "all")) == "all"
    rows, write = _ranked(scope, by), figures()
    shown = rows.head(pages.MOST_DRAWN if everything else movers.LARGEST)
    # The page's own grouping, as on Why: another grouping splits the change differently.
    whole = _why_page(scope, by) or why.WhyPage(Answer("Nothing was sold in one of the windows.", ""))
    page, of = page_of(len(rows), scope.page) if everything else (1, 1)
    sides = _sides(scope, "product" if by != "family" else "family")

    def drawn() -> Drift:
        return drift(movers.movers(shown, write), scope.target_acos, movers.break_even(sides))

    key = (_compared(scope), scope.target_acos, by, everything, write)
    return {
        "answer": whole.answer,
        "steps": whole.steps,
        "by": by,
        "everything": everything,
        "chart": parts().facts.kept("drawn", scope.account.id, drawn, *key),
        "table": TableView(
            here=url_for("movement.view", name="drift"),
            name="drift-list",
            heads=pages.drift_heads(write.symbol),
            groups={
                "": pages.drift_lines(rows.slice((page - 1) * PAGE_ROWS, PAGE_ROWS) if everything else shown, write)
            },
            page=page,
            pages=of,
            empty="Nothing spent or sold in either window.",
        ),
        "count": len(rows),
        "count_words": write.count(len(rows)),
        "drawn": len(shown),
        "drawer": _drawer(scope),
    }


def _drawer(scope: Scope) -> dict[str, Any] | None:
    return product.drawer(parts().facts, scope, scope.open, "", figures()) if scope.open else None


def _metric(scope: Scope) -> str:
    return scope.choice("metric", LEDGERED)


def _least(scope: Scope) -> float:
    text = scope.said("least")
    value = number(text, scope.account.locale) if text else 0
    if value is None or not 0 <= value < 10**12:
        raise BadInput(f"“{text}” is not an amount to start from.", remedy="Write it like 50.")
    return float(value)


def _ledger_rows(scope: Scope) -> pl.DataFrame | None:
    by = _by(scope)
    facts, metric, least = parts().facts, METRICS[_metric(scope)], _least(scope)

    def make() -> pl.DataFrame | None:
        return ledger.ledger_rows(_sides(scope, by), metric, *_days(scope, by), least)

    return facts.kept("ledger", scope.account.id, make, _compared(scope), by, metric.key, least)


def _ledger(scope: Scope) -> dict[str, Any]:
    metric = METRICS[_metric(scope)]
    rows = _ledger_rows(scope)
    page, of = page_of(0 if rows is None else len(rows), scope.page)
    by = _by(scope)
    made = ledger.ledger(rows, metric, figures(), page, by) if rows is not None and len(rows) else None
    return {
        "by": by,
        "metric": metric,
        "metrics": [METRICS[key] for key in LEDGERED],
        "least": scope.said("least"),
        "ledger": made,
        "table": (
            TableView(
                here=url_for("movement.view", name="ledger"),
                name="ledger",
                heads=made.heads,
                groups={"": made.lines},
                page=page,
                pages=of,
            )
            if made
            else None
        ),
        "drawer": _drawer(scope),
    }


def _why(scope: Scope) -> dict[str, Any]:
    by = _by(scope)
    return {"by": by, "why": _why_page(scope, by), "drawer": _drawer(scope)}


def _trends(scope: Scope) -> dict[str, Any]:
    write, facts = figures(), parts().facts
    chosen = [key for key in scope.said("metric").split(",") if key] or ["spend", "sales", "acos"]
    wrong = [key for key in chosen if key not in courses.TRENDED]
    if wrong:
        raise BadInput(f"There is no trend of “{wrong[0]}”.", remedy=f"Use {', '.join(courses.TRENDED)}.")
    only = scope.said("only")
    shown = [only] if only in courses.TRENDED else chosen
    smooth = courses.SMOOTH[scope.choice("smooth", tuple(courses.SMOOTH))]
    found = trends.trend(facts, scope, scope.said("whose"), write)
    lines = courses.trend_lines(found.days, shown, smooth, write, scope.window)
    days = courses.shown_days(found.days)
    return {
        "trend": found,
        "moved": trends.why_moved(found, scope, write),
        "lines": lines,
        "chart": (
            charts.panels(
                days,
                [(line.label, line.values) for line in lines],
                found.bids,
                found.changes,
                first_shown=scope.window.first,
                figures=write,
            )
            if days
            else None
        ),
        "height": 54 + len(lines) * (300 if only else 104) + (54 if found.bids else 0),
        "offered": [METRICS[key] for key in courses.TRENDED],
        "chosen": chosen,
        "needs_days": found.sums_left_out,
        "only": only,
        "smooth": scope.said("smooth"),
        "stretches": courses.stretches(found.days, found.target_acos, write) if found.bids else [],
        "best": courses.best_days(found.days, found.target_acos, write) if found.bids else [],
        "changes": [(write.day(each.day), each.at_length or each.words) for each in found.changes[-12:]][::-1],
    }


@movement.get("/trends/things")
def things() -> str:
    """What a trend can be asked of, as options of its field; fetched when that is entered."""
    return render_template("_options.html", names=trends.offered(parts().facts, current_scope()))


def _asked_changes(scope: Scope) -> tuple[str, date | None]:
    which = scope.choice("which", (made_changes.ALL, made_changes.RAISES, made_changes.CUTS))
    text = scope.said("day")
    try:
        return which, date.fromisoformat(text) if text else None
    except ValueError:
        raise BadInput(f"“{text}” is not a day.", remedy="Choose one of the list.") from None


def _look_of_changes(scope: Scope) -> Look:
    """What is looked at, on this page alone narrowed to the product it was asked for."""
    look = scope.look
    return replace(look, part=replace(look.part, product=scope.said("whose") or look.part.product))


def _changes(scope: Scope) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    which, day = _asked_changes(scope)
    look = _look_of_changes(scope)
    rows = made_changes.listed(facts, look, which, day)
    page, of = page_of(len(rows), scope.page)
    shown = rows.slice((page - 1) * PAGE_ROWS, PAGE_ROWS)
    return {
        "answer": change_pages.answer(rows, write, day),
        "which": which,
        "day": day.isoformat() if day else "",
        "days": change_pages.days(made_changes.by_day(made_changes.listed(facts, look, which)), write),
        "whose": scope.said("whose"),
        "table": TableView(
            here=url_for("movement.view", name="changes"),
            name="changes",
            heads=change_pages.heads(write),
            groups={"": change_pages.lines(shown, write)},
            page=page,
            pages=of,
            opens=False,
            picks=person().writes,
            empty="Nothing was changed.",
            shown=write.count(len(rows)),
            of=write.count(len(rows)),
            things="changes",
        ),
    }


@movement.post("/changes/set-back")
def set_back() -> Response | str:
    """
    Sets what was changed back to what it was, on the selected rows or all that are shown; first it
    says what that does.
    """
    must_write()
    scope, facts, write = current_scope(), parts().facts, figures()
    which, day = _asked_changes(scope)
    rows = made_changes.listed(facts, _look_of_changes(scope), which, day)
    if not request.form.get("all"):
        rows = rows.filter(pl.col("row_id").is_in(request.form.getlist("rows")))
    if rows.is_empty():
        raise BadInput("No change is selected.", remedy="Select some first (x), or all that are shown (X).")
    back = made_changes.set_back(facts, scope.look, rows, day)
    count = sum(bool(each.package) for each in back)
    return put(
        scope,
        back,
        title=f"{write.counted(count, 'change')} set back, before it is done",
        thing="what",
        action=url_for("movement.set_back"),
        back=back_to(scope, scope.link(url_for("movement.view", name="changes"))),
    )


_VIEWS: Final = {"drift": _drift, "ledger": _ledger, "why": _why, "trends": _trends, "changes": _changes}
_OF_SIDES: Final = ("drift", "ledger", "why")
"""Views of what rows did in both windows."""


def _drift_file(scope: Scope) -> Table:
    return pages.drift_export(_ranked(scope, _by(scope)))


def _ledger_file(scope: Scope) -> Table | None:
    rows = _ledger_rows(scope)
    return None if rows is None else ledger.ledger_export(rows, METRICS[_metric(scope)])


def _why_file(scope: Scope) -> Table | None:
    return why.why_export(_sides(scope, _by(scope)))


def _trend_file(scope: Scope) -> Table:
    found = trends.trend(parts().facts, scope, scope.said("whose"), figures())
    return courses.trend_export(found.days, found.bids)


_FILES: Final = {"drift": _drift_file, "ledger": _ledger_file, "why": _why_file, "trends": _trend_file}


@movement.get("/<name>/export.<ending>")
def export(name: str, ending: str) -> Response:
    """All rows behind a view as a file."""
    if name not in _FILES:
        raise NotFound(f"“{name}” is not a table of Movement.", remedy=f"Export {', '.join(_FILES)}.")
    _need(current_scope(), name)
    made = _FILES[name](current_scope())
    if made is None:
        raise NotFound("There is no change to write down.", remedy="Choose other days.")
    return hand_out(made, ending)
