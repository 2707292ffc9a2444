"""Delivery: placements, hours, budgets, boosts."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any, Final

import polars as pl
from flask import Blueprint, flash, make_response, redirect, render_template, request, url_for
from flask import Response as PageResponse
from werkzeug.datastructures import MultiDict
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis import movement as movement_work
from nimbus_reef.analysis import tables
from nimbus_reef.analysis.delivery import boosts, budgets, files, hours, placements, plan_prices, solutions
from nimbus_reef.analysis.delivery.solutions import Solved
from nimbus_reef.core import click_prices
from nimbus_reef.core import hours as rules
from nimbus_reef.core.boosts import BID, WEEK
from nimbus_reef.core.changes import Change
from nimbus_reef.core.model import Bidding, Placement
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.formats.tables import Table
from nimbus_reef.formats.typed import whole
from nimbus_reef.store.people import plans
from nimbus_reef.store.reading import delivery_frames
from nimbus_reef.web.acting import HANDFUL, accept_one, acted, back_to, by_htmx, pushed, put, selected
from nimbus_reef.web.delivery import boost_pages, budget_pages, hour_pages, pages, placement_pages
from nimbus_reef.web.delivery.forms import BoostForm, TotalForm
from nimbus_reef.web.exports.routes import hand_out
from nimbus_reef.web.kit.candidates import Candidate, of_worded
from nimbus_reef.web.kit.judging import worked_out_first
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.offered import Worded
from nimbus_reef.web.kit.prices import REMEDY, rise_words
from nimbus_reef.web.kit.tables import TableView
from nimbus_reef.web.params import Scope
from nimbus_reef.web.parts import current_scope, figures, is_first_answer, must_write, parts

delivery = Blueprint("delivery", __name__, url_prefix="/delivery")
_GROUPS_A_PAGE: Final = 25
_WORST: Final = 12


@delivery.get("/")
def look() -> AnyResponse:
    """The area opens on placements."""
    return redirect(current_scope().link(url_for("delivery.view", name="placements")))


def _known(name: str) -> None:
    if name not in pages.VIEWS:
        raise NotFound(f"Delivery has no view “{name}”.", remedy="Choose one under the title.")


@delivery.get("/<name>")
def view(name: str) -> str:
    """One of the area's views."""
    _known(name)
    scope = current_scope()
    if scope.newest is None:
        return render_template("delivery/empty.html", view=name, views=pages.VIEWS)
    if _NEEDS[name]:
        need(parts().facts, scope, _NEEDS[name], figures())
    if name in ("hours", "budgets"):
        worked_out_first(
            parts().facts,
            scope,
            lambda: budgets.is_held(parts().facts, scope.look),
            [(hours.KIND, scope.window)],
            first=is_first_answer(),
        )
    made = _VIEWS[name](scope)
    drawer = _placement_drawer(scope, scope.open) if scope.open and name == "placements" else None
    return render_template(f"delivery/{name}.html", view=name, views=pages.VIEWS, drawer=drawer, **made)


@delivery.get("/<name>/evidence")
def evidence(name: str) -> PageResponse:
    """The drawer alone, for swapping in."""
    if name != "placements":
        raise NotFound("There is nothing to open here.", remedy="Follow a link of the page.")
    scope = current_scope()
    shown = render_template("delivery/_drawer.html", view=name, drawer=_placement_drawer(scope, scope.open))
    return pushed(make_response(shown), scope.link(url_for("delivery.view", name=name)))


def _here(name: str) -> str:
    return url_for("delivery.view", name=name)


# --- placements -----------------------------------------------------------------------


def _groupings(scope: Scope) -> tuple[str, ...]:
    return (*placements.GROUPS, *movement_work.name_parts(scope.account))


def _placements(scope: Scope) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    by = scope.choice("by", _groupings(scope))
    limited = scope.choice("limited", tuple(placement_pages.LIMITED)) if by == "campaign" else ""
    rows = placements.narrowed(placements.judged(facts, scope.look, by), limited)
    named = rows["whose"].cast(pl.String).unique(maintain_order=True)
    of = max(1, -(-len(named) // _GROUPS_A_PAGE))
    page = min(scope.page, of)
    shown = named.slice((page - 1) * _GROUPS_A_PAGE, _GROUPS_A_PAGE)
    now = by == "campaign" or scope.said("whose") or placements.judged_soon(facts, scope.look)
    lines = placement_pages.groups(rows.filter(pl.col("whose").cast(pl.String).is_in(shown.implode())), write)
    return {
        "by": by,
        "groupings": _groupings(scope),
        "limited": limited,
        "limited_choices": tuple(placement_pages.LIMITED.items()),
        "answer": placement_pages.answer(placements.judged(facts, scope.look, "account"), None, write),
        **(_by_campaign(scope) if now else {}),
        "campaigns_told": now,
        "table": TableView(
            here=_here("placements"),
            name="placements",
            heads=placement_pages.table_heads(write, campaigns=by == "campaign"),
            groups=lines if len(lines) > 1 or by != "account" else {"": next(iter(lines.values()), [])},
            page=page,
            pages=of,
            empty="No placement matches." if limited else "No placement data in this period.",
            opens=by == "campaign",
            picks=by == "campaign",
        ),
    }


def _by_campaign(scope: Scope) -> dict[str, Any]:
    """What is told of single campaigns: where off-site is to be limited, which overspend most, the solution of one."""
    facts, write = parts().facts, figures()
    limits = placements.to_limit(facts, scope.look)
    worst = placements.worst(facts, scope.look).filter(pl.col("on_site") > 0).head(_WORST)
    chosen = scope.said("whose") or (worst["campaign"][0] if len(worst) else "")
    if chosen:
        placements.of_campaign(facts, scope.look, chosen)
    return {
        "answer": placement_pages.answer(placements.judged(facts, scope.look, "account"), limits, write),
        "limits": len(limits),
        "worst": placement_pages.worst_lines(worst, write),
        "solved": (
            _solved(scope, chosen)
            if chosen and solutions.solved_known(facts, scope.look, chosen, _planned(scope))
            else None
        ),
        "solving": chosen,
    }


@delivery.get("/placements/campaigns")
def campaigns() -> str:
    """
    What is told of single campaigns alone, asked for after the page that shows it: they may have to
    be judged first.
    """
    scope = current_scope()
    need(parts().facts, scope, _NEEDS["placements"], figures())
    return render_template("delivery/_campaigns_told.html", drawer=None, **_by_campaign(scope))


@delivery.get("/placements/solution")
def solution() -> str:
    """A campaign's solution alone, asked for after the page that shows it: its targets may have to be judged first."""
    scope = current_scope()
    need(parts().facts, scope, _NEEDS["placements"], figures())
    return render_template("delivery/_solved.html", solved=_solved(scope, scope.said("whose")), drawer=None)


def _planned(scope: Scope) -> list[Change]:
    return [each.change for each in plans.planned(parts().store, scope.account.id)]


def _solved(scope: Scope, campaign: str) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    solved = solutions.solved(facts, scope.look, campaign, _planned(scope))
    worded = _solved_worded(scope, solved)
    return {
        "id": campaign,
        "campaign": campaign,
        "drawn": placement_pages.solved_drawn(solved, write),
        "worded": worded,
        "target": write.aim(solved.target_acos),
        "planned": acted(scope, worded.offer),
    }


def _solved_worded(scope: Scope, solved: Solved) -> Worded:
    highest = None
    if solved.offer is not None and solved.bidding == Bidding.UP_AND_DOWN.value:
        now = plan_prices.campaigns_of(parts().facts, scope.look, [solved.campaign])[solved.campaign]
        then = click_prices.after(now, [change for change, _ in solved.offer.changes])
        highest = max(max(click_prices.highest_bids(then, weekday)[Placement.TOP_OF_SEARCH]) for weekday in WEEK)
    return placement_pages.solved_worded(solved, highest, figures())


def _placement_row(scope: Scope, row_id: str) -> Mapping[str, Any]:
    rows = placements.judged(parts().facts, scope.look).filter(pl.col("row_id") == row_id)
    if rows.is_empty():
        raise NotFound("This placement had no figures in these days.", remedy="Choose other days, or close it.")
    row = rows.row(0, named=True)
    return {**row, "limited": row["offsite_limited"] == "yes"}


def _placement_drawer(scope: Scope, row_id: str) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    row = _placement_row(scope, row_id)
    days = facts.monthly_days(scope.account.id, placements.KIND, scope.window)
    brought = write.counted(row["orders"], "order") if row["orders"] else "no order"
    if row["placement"] == Placement.OFF_SITE.value:
        worded = placement_pages.limit_worded(row, placements.limit_offer(scope.look, row, days), write)
    else:
        worded = _solved_worded(scope, solutions.solved(facts, scope.look, str(row["campaign"]), _planned(scope)))
    return {
        "id": row_id,
        "name": placement_pages.NAMES.get(row["placement"], row["placement"]),
        "where": str(row["campaign"]),
        "bold": f"{write.counted(row['clicks'], 'click')} brought {brought} for {write.micro(row['spend'])}.",
        "rest": (
            f"At {write.money(row['cpc'], 2)} a click it must convert {write.rate(row['needed_cvr'])}; it converts"
            f" {write.rate(row['cvr'])}."
            if row["clicks"]
            else ""
        ),
        "worded": worded,
        "planned": acted(scope, worded.offer),
        "changes": 0 if worded.offer is None else len(worded.offer.changes),
        "links": [
            ("Its base bid and adjustments, drawn", scope.choose(_here("placements"), whose=str(row["campaign"]))),
            ("What a click can cost, hour by hour", scope.choose(_here("boosts"), whose=str(row["campaign"]))),
            ("Its targets", scope.elsewhere(url_for("targeting.table", name="targets"), campaign=str(row["campaign"]))),
        ],
    }


# --- hours ------------------------------------------------------------------------------


def _hours(scope: Scope) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    grid = hours.grid(facts, scope.look)
    metric = scope.choice("metric", hours.METRICS)
    if metric in hour_pages.NEED_TRADE and not grid.trade:
        metric = "spend"
    drawn = scope.said("segments")
    segments = hours.drawn_segments(drawn) if drawn else hours.found_segments(facts, scope.look)
    sums = hours.segment_sums(facts, scope.look, segments)
    held = facts.monthly_days(scope.account.id, hours.KIND, scope.window)
    times = delivery_frames.weekdays_held(facts, scope.account.id, hours.KIND, scope.window)

    def dried() -> dict[tuple[int, int], tuple[float, str]]:
        return hour_pages.dried_by_cell(hours.dry(facts, scope.look), times, held, by_day=grid.by_day)

    by_hour = hours.by_hour(facts, scope.look)
    starved = rules.starved(by_hour["spend"].to_list(), by_hour["organic"].to_list()) if grid.trade else ()
    rows, told = budgets.held(facts, scope.look), _hours_told(scope)
    worded = budget_pages.worded(rows, budgets.moved(facts, scope.look), write, hours_told=told)
    return {
        "metric": metric,
        "metrics": [
            (key, words)
            for key, (words, _) in hour_pages.METRICS.items()
            if grid.trade or key not in hour_pages.NEED_TRADE
        ],
        "answer": hour_pages.answer(sums, budget_pages.dry_words(rows, write), starved, write),
        "rows": hour_pages.grid_rows(
            grid, metric, facts.kept("dried cells", scope.account.id, dried, scope.window, scope.look.part), write
        ),
        "brackets": hour_pages.brackets(sums, write),
        "boxes": hour_pages.boxes(sums),
        "percent": _USUAL_PERCENT,
        "trade_days": (
            hour_pages.trade_words(held, facts.held_days(scope.account.id, hours.TRADE, scope.window), write)
            if grid.trade
            else ""
        ),
        "by_day": grid.by_day,
        "trade": grid.trade,
        "drawn": drawn,
        "starved": starved,
        "worded": worded,
        "planned": acted(scope, worded.offer),
        "dry": budget_pages.dry_lines(budgets.lines(rows.filter("runs_dry").head(6)), write),
        "table": TableView(
            here=_here("hours"),
            name="segments",
            heads=hour_pages.segment_heads(write),
            groups={"": hour_pages.segment_lines(sums, write)},
            opens=False,
        ),
    }


# --- budgets ------------------------------------------------------------------------------


def _total(scope: Scope, given: str) -> float | None:
    form = TotalForm(MultiDict({"total": given}), scope.account.locale).checked()
    if form.total.data is None:
        return None
    if not 0 < form.total.data < 10**9:
        raise BadInput("The total of all budgets has to be above 0.", remedy="Write it like 235.")
    return float(form.total.data)


def _hours_told(scope: Scope) -> bool:
    """Whether hours are held day by day: only then is it known which are dry."""
    return bool(parts().facts.days(scope.account.id, hours.KIND, scope.window))


def _budgets(scope: Scope) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    rows, told = budgets.held(facts, scope.look), _hours_told(scope)
    moved = budgets.moved(facts, scope.look, _total(scope, scope.said("total")))
    changed = pl.col("campaign").is_in([each.campaign for each in moved.budgets])
    # What runs dry, what gives, then the rest by spend.
    ordered = rows.sort(~pl.col("runs_dry"), pl.col("missed") <= 0, ~changed, maintain_order=True)
    page, of = tables.page_of(len(ordered), scope.page)
    shown = budgets.lines(ordered.slice((page - 1) * tables.PAGE_ROWS, tables.PAGE_ROWS))
    worded = budget_pages.worded(rows, moved, write, hours_told=told)
    return {
        "answer": budget_pages.answer(rows, moved, write, hours_told=told),
        "total": scope.said("total"),
        "now": write.number(moved.before),
        "worded": worded,
        "planned": acted(scope, worded.offer),
        "table": TableView(
            here=_here("budgets"),
            name="budgets",
            heads=budget_pages.table_heads(write),
            groups={"": budget_pages.lines(shown, moved, write)},
            page=page,
            pages=of,
            opens=False,
            empty="No campaign has a known budget and figures in these days.",
        ),
    }


@delivery.post("/budgets/move")
def move() -> AnyResponse | str:
    """Puts the move of budgets into the plan."""
    must_write()
    scope = current_scope()
    rows = budgets.held(parts().facts, scope.look)
    moved = budgets.moved(parts().facts, scope.look, _total(scope, request.form.get("total", "")))
    worded = budget_pages.worded(rows, moved, figures(), hours_told=True)
    return put(
        scope,
        [of_worded("budgets", worded, "no budget can be moved")],
        title="Budgets to move, before it is done",
        thing="budgets",
        action=url_for("delivery.move"),
        back=back_to(scope, scope.elsewhere(_here("budgets"))),
    )


# --- boosts --------------------------------------------------------------------------------


def _boost_form(given: Mapping[str, str], locale: str) -> BoostForm:
    """The form as sent; a sale event stands for its days."""
    values = dict(given)
    if event := values.pop("event", ""):
        first, _, last = event.partition("..")
        values |= {"first": first, "last": last}
    return BoostForm(MultiDict({name: value for name, value in values.items() if value}), locale)


def _boosts(scope: Scope) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    rows = budgets.held(facts, scope.look)
    offered = rows["campaign"].sort().to_list()
    busiest = rows.sort("spend", descending=True)["campaign"].head(1).to_list()
    chosen = scope.said("whose") or next(iter(busiest), "")
    if not chosen:
        return {"held": None, "campaigns": offered}
    held = boosts.boosted(facts, scope.look, chosen, _planned(scope))
    tried, problem, instead = None, "", ""
    if scope.said("percent"):
        form = _boost_form({**_given(scope), "whose": chosen}, scope.account.locale).checked()
        boost, wrong = form.boost, form.problem
        if wrong:
            problem = f"A boost {wrong}."
            instead = boost_pages.lowered(boost.percent, held, boost, write) if -99 < boost.percent < 0 else ""
        else:
            tried = boost
    usual = tried.weekdays[0] if tried and tried.weekdays else 1
    weekday = int(scope.choice("weekday", (str(usual), *(str(day) for day in files.WEEKDAYS))))
    offer = boosts.offer(scope.look, chosen, tried) if tried else None
    planned = acted(scope, offer)
    # What is in the plan already is drawn as part of it, not once more.
    shown = tried if planned.left else None
    told = (
        plan_prices.accepted(facts, scope.look, _planned(scope), [[each for each, _ in offer.changes]])
        if offer and shown
        else None
    )
    made = boost_pages.drawn(held, shown, weekday, write)
    return {
        "held": held,
        "campaigns": offered,
        "answer": boost_pages.answer(held, made, weekday, shown, write),
        "made": made,
        "weekday": weekday,
        "weekdays": files.WEEKDAYS,
        "in_force": boost_pages.boost_lines(held, write),
        "days": boost_pages.day_choices(_given(scope)["days"]),
        "events": [
            (f"{row[1]}..{row[2]}", f"{row[0]}, {row[1]} to {row[2]}")
            for row in delivery_frames.events(facts, scope.account.id).rows()
        ],
        "given": _given(scope),
        "tried": tried,
        "tried_words": (
            f"{tried.what} +{tried.percent:.0f} %, {boost_pages.when(tried)}, {tried.from_hour}–{tried.to_hour} h"
            if tried
            else ""
        ),
        "problem": problem,
        "instead": instead,
        "planned": planned,
        "dearer": f"{rise_words(told.refused[0], write)}. {REMEDY}" if told and told.refused else "",
        "segments": (
            hours.found_segments(facts, scope.look)
            if facts.held_days(scope.account.id, hours.KIND, scope.window)
            else ()
        ),
    }


_USUAL_PERCENT: Final = "20"
"""What a boost of hours that somebody marked is tried with first."""
_BOOST: Final = ("what", "percent", "days", "from_hour", "to_hour", "first", "last", "event", "condition")


def _given(scope: Scope) -> dict[str, str]:
    return {name: scope.said(name) for name in _BOOST}


@delivery.post("/boosts/plan")
def plan_boost() -> AnyResponse:
    """Puts a boost into the plan; BadInput for what a marketplace cannot do."""
    must_write()
    scope, write = current_scope(), figures()
    given = {name: request.form.get(name, "") for name in (*_BOOST, "whose")}
    form = _boost_form(given, scope.account.locale).checked()
    if form.problem:
        raise BadInput(f"A boost {form.problem}.", remedy="Change it and look at the highest bid again.")
    boost = form.boost
    held = boosts.boosted(parts().facts, scope.look, form.whose.data or "", _planned(scope))
    made = boost_pages.drawn(held, boost, (boost.weekdays or (1,))[0], write)
    then = (
        f"a click can then cost up to {write.money(made.highest, 2)}"
        if boost.what == BID
        else f"the budget can then rise to {write.money(made.highest, 2)} a day"
    )
    reason = f"{boost_pages.when(boost)}, {boost.from_hour}–{boost.to_hour} h; {then}"
    worded = Worded(boosts.offer(scope.look, held.campaign, boost), "boost", (reason,))
    accept_one(scope, of_worded(held.campaign, worded, ""))
    flash("1 change added to the plan.", "accepted")
    return redirect(scope.choose(_here("boosts"), **{name: given[name] for name in (*_BOOST, "whose")}))


# --- accepting -------------------------------------------------------------------------------


def _offered(scope: Scope, keys: Sequence[str], *, any_limit: bool = False) -> list[Candidate]:
    """
    What is proposed on placements: off-site rows are limited, any other asks for its campaign's solution, each campaign
    once. any_limit: also where that is only possible.
    """
    facts, write, made, solved = parts().facts, figures(), [], set[str]()
    days = facts.monthly_days(scope.account.id, placements.KIND, scope.window)
    for key in keys:
        row = _placement_row(scope, key)
        campaign = str(row["campaign"])
        if row["placement"] == Placement.OFF_SITE.value:
            worded = placement_pages.limit_worded(row, placements.limit_offer(scope.look, row, days), write)
            made.append(of_worded(key, replace(worded, proposed=worded.proposed or any_limit), _NO_LIMIT, row))
        elif campaign not in solved:
            solved.add(campaign)
            told = _solved_worded(scope, solutions.solved(facts, scope.look, campaign, _planned(scope)))
            made.append(of_worded(key, told, _RIGHT))
    return made


_NO_LIMIT: Final = "off-site is limited already, or not above target there"
_RIGHT: Final = "bids and adjustments are right as they are, or the campaign sold nothing"


@delivery.post("/placements/accept")
def accept() -> AnyResponse | str:
    """Puts what is proposed on a placement into the plan; a base bid with its adjustments is shown first."""
    must_write()
    scope, row = current_scope(), request.form.get("row", "")
    (candidate,) = _offered(scope, [row], any_limit=True)
    if len(candidate.package) > HANDFUL:
        return _put(scope, [candidate], "accept")
    accept_one(scope, candidate)
    return _swapped(scope, row)


def _put(scope: Scope, offered: Sequence[Candidate], deed: str) -> AnyResponse | str:
    return put(
        scope,
        offered,
        title=f"{figures().counted(len(offered), 'proposal')} on placements, before it is done",
        thing="campaign",
        action=url_for(f"delivery.{deed}"),
        back=back_to(scope, scope.link(_here("placements"), open="")),
    )


@delivery.post("/placements/accept-many")
def accept_many() -> AnyResponse | str:
    """
    Puts what is proposed on the selected placements into the plan; on all off-site ones above target where none is
    selected.
    """
    must_write()
    scope = current_scope()
    keys = selected() or placements.to_limit(parts().facts, scope.look)["row_id"].to_list()
    return _put(scope, _offered(scope, keys), "accept_many")


@delivery.post("/placements/solve")
def solve() -> AnyResponse | str:
    """Puts a campaign's base bid and adjustments into the plan."""
    must_write()
    scope, campaign = current_scope(), request.form.get("row", "")
    worded = _solved_worded(scope, solutions.solved(parts().facts, scope.look, campaign, _planned(scope)))
    return put(
        scope,
        [of_worded(campaign, worded, _RIGHT)],
        title=f"Base bid and adjustments of {campaign}, before it is done",
        thing="campaign",
        action=url_for("delivery.solve"),
        back=scope.choose(_here("placements"), whose=campaign),
    )


@delivery.post("/placements/take-back")
def take_back() -> AnyResponse:
    """Undoes an acceptance from the drawer, or of a solution."""
    who, scope = must_write(), current_scope()
    plans.remove_many(parts().store, scope.account.id, who.id, request.form.getlist("change", type=whole))
    return _swapped(scope, request.form.get("row", ""))


def _swapped(scope: Scope, row: str) -> AnyResponse:
    if not by_htmx():
        response = make_response("", 303)
        response.headers["Location"] = scope.link(_here("placements"), open=row if ":" in row else "")
        return response
    return make_response(
        render_template("delivery/_accepted.html", view="placements", drawer=_placement_drawer(scope, row))
    )


# --- files -----------------------------------------------------------------------------------


def _file(scope: Scope, name: str) -> Table:
    """A table as the page has it: placements by its grouping, budgets with its total."""
    facts = parts().facts
    if name == "placements":
        by = scope.choice("by", _groupings(scope))
        limited = scope.choice("limited", tuple(placement_pages.LIMITED)) if by == "campaign" else ""
        return files.placements_table(placements.narrowed(placements.judged(facts, scope.look, by), limited))
    if name == "budgets":
        moved = budgets.moved(facts, scope.look, _total(scope, scope.said("total")))
        return files.budgets_table(budgets.lines(budgets.held(facts, scope.look)), moved)
    return files.FILES[name](facts, scope.look)


@delivery.get("/<name>/export.<ending>")
def export(name: str, ending: str) -> AnyResponse:
    """All rows of a view as a file."""
    if name not in files.FILES:
        raise NotFound(f"“{name}” is not a table of Delivery.", remedy=f"Export {', '.join(files.FILES)}.")
    scope = current_scope()
    need(parts().facts, scope, _NEEDS[name], figures())
    return hand_out(_file(scope, name), ending)


_VIEWS: Final[Mapping[str, Callable[[Scope], dict[str, Any]]]] = {
    "placements": _placements,
    "hours": _hours,
    "budgets": _budgets,
    "boosts": _boosts,
}
_NEEDS: Final[Mapping[str, tuple[str, ...]]] = {**files.NEEDS, "boosts": ()}
