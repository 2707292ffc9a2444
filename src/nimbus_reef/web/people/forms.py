"""Signing in."""

from __future__ import annotations

from wtforms import PasswordField, StringField

from nimbus_reef.web.kit.forms import ReefForm, stripped


class SignInForm(ReefForm):
    """Who asks to be let in."""

    email = StringField("address", filters=[stripped])
    password = PasswordField("password", filters=[lambda text: text or ""])
