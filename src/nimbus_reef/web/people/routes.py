"""Signing in and out."""

from __future__ import annotations

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask_login import current_user, login_user, logout_user
from werkzeug.wrappers import Response

from nimbus_reef.store.people import people as store_people
from nimbus_reef.store.people import trail
from nimbus_reef.web.parts import SignedIn, inside, parts
from nimbus_reef.web.people.forms import SignInForm
from nimbus_reef.web.security import limiter, sign_in_limit

people = Blueprint("people", __name__)


@people.route("/sign-in", methods=["GET", "POST"])
@limiter.limit(sign_in_limit, methods=["POST"])
def sign_in() -> Response | str | tuple[str, int]:
    """The sign-in page."""
    target = inside(request.values.get("next", "/"))
    if request.method == "GET":
        if current_user.is_authenticated:
            return redirect(target)
        return render_template("people/sign_in.html", target=target, email="")
    form = SignInForm(request.form)
    email, password = form.email.data or "", form.password.data or ""
    found = store_people.signed_in(parts().store, email, password)
    if found is None:
        flash("Address or password is not right.", "problem")
        return render_template("people/sign_in.html", target=target, email=email), 401
    login_user(SignedIn(found))
    trail.note(parts().store, "signed in", person_id=found.id, account_id=None, detail={})
    return redirect(target)


@people.post("/sign-out")
def sign_out() -> Response:
    """Ends the session."""
    logout_user()
    return redirect(url_for("people.sign_in"))
