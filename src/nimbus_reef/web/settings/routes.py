"""Accounts: adding, describing, putting to rest; and every setting of one, with what it changes."""

from __future__ import annotations

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from nimbus_reef.core.targeting import Aims
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.formats.figures import Figures
from nimbus_reef.jobs import demo_brands
from nimbus_reef.store.people import account_settings, accounts, logos, target_acos
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.web import new_account
from nimbus_reef.web.current import account_of, must_manage, must_write, my_accounts, person, services
from nimbus_reef.web.kit.account_forms import AccountForm
from nimbus_reef.web.kit.stale import typed_anew
from nimbus_reef.web.settings import pages
from nimbus_reef.web.settings.forms import DescribeForm, typed

settings = Blueprint("settings", __name__, url_prefix="/accounts")


@settings.get("/")
def index() -> str:
    """One's accounts; owners see archived ones too, and can add others."""
    return _accounts_page(AccountForm(None))


def _accounts_page(form: AccountForm) -> str:
    store = services().store
    every = accounts.all_accounts(store, resting=True) if person().manages else my_accounts()
    newest = {each.id: services().facts.newest_day(each.id) for each in every}
    return render_template(
        "settings/accounts.html",
        accounts=every,
        newest=newest,
        form=form,
        demo_held=demo_brands.loaded(store),
        demo_days=services().config.demo_days,
    )


@settings.post("/add")
def add() -> Response | tuple[str, int]:
    """Another brand account."""
    who = must_manage()
    form = AccountForm(request.form)
    try:
        form.checked()
        new_account.check(form)
        result = new_account.add(services().store, form, who.id)
    except BadInput as problem:
        flash(str(problem), "problem")
        return _accounts_page(form), 400
    flash(f"{result.brand}, {result.country} added. Load its first report.")
    return redirect(url_for("intake.index", account=result.key))


@settings.get("/<key>")
def account(key: str) -> str:
    """All settings of an account."""
    found = account_of(key)
    figures = Figures(found.locale, found.currency)
    return render_template(
        "settings/account.html",
        account=found,
        groups=pages.groups(found.settings, figures),
        figures=figures,
        aims=_aim_lines(target_acos.aims(services().store, found), figures),
        logo=logos.of_account(services().store, found.id),
    )


def _aim_lines(now: Aims, figures: Figures) -> list[tuple[str, str, str]]:
    named = [("campaign", now.campaigns), ("portfolio", now.portfolios), ("product", now.products)]
    return [(level, name, figures.aim(value)) for level, own in named for name, value in own]


@settings.post("/<key>")
def save(key: str) -> Response:
    """Keeps what was typed, all of it or nothing, and says what it moves."""
    who, found = must_write(), account_of(key)
    lines = [line for _, group in pages.groups(found.settings, Figures(found.locale, found.currency)) for line in group]
    names = typed_anew(request.form, {line.key: line.value for line in lines}, {line.key: line.label for line in lines})
    after = typed({name: request.form[name] for name in names}, found.settings, found.locale)
    changed = account_settings.change(services().store, found.id, who.id, found.settings, after)
    flash(pages.changed_words(changed))
    return redirect(url_for("settings.account", key=key))


@settings.post("/<key>/logo")
def logo(key: str) -> Response:
    """Saves the logo of the client's report, or removes it where no file is sent."""
    who, found = must_write(), account_of(key)
    sent = request.files.get("logo")
    content = sent.read(logos.LARGEST + 1) if sent is not None else b""
    logos.put(services().store, found.id, who.id, content)
    flash("Logo saved." if content else "Logo removed.")
    return redirect(url_for("settings.account", key=key))


@settings.post("/<key>/describe")
def describe(key: str) -> Response:
    """Marketplace, currency, time zone, number style."""
    who, found = must_manage(), account_of(key)
    now = {
        "marketplace": found.marketplace,
        "currency": found.currency,
        "timezone": found.timezone,
        "number_style": found.locale,
    }
    names = typed_anew(request.form, now, {})
    form = DescribeForm(request.form).checked()
    accounts.describe(
        services().store,
        found.id,
        who.id,
        **{("locale" if name == "number_style" else name): form[name].data for name in names if form[name].data},
    )
    flash("Saved. Numbers and dates now use this format.")
    return redirect(url_for("settings.account", key=key))


def _any(key: str) -> Account:
    found = accounts.by_key(services().store, key)
    if found is None:
        raise NotFound(f"There is no account “{key}”.", remedy="Choose one from the list.")
    return found


@settings.post("/<key>/rest")
def rest(key: str) -> Response:
    """Puts an account to rest, or wakes it."""
    who = must_manage()
    found = _any(key)
    accounts.rest(services().store, found.id, who.id, resting=not found.resting)
    flash(
        f"{found.brand}, {found.country}"
        f" {'is active again' if found.resting else 'is archived. It is kept and shown only here'}."
    )
    return redirect(url_for("settings.index"))
