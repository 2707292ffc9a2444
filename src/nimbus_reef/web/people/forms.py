"""Signing in, setting up, inviting, and what people change of themselves."""

from __future__ import annotations

from typing import Any

from wtforms import BooleanField, DateField, PasswordField, StringField
from wtforms.validators import AnyOf, Optional, ValidationError

from nimbus_reef.store.people.people import SHORTEST_PASSWORD, Role
from nimbus_reef.web.kit.forms import IdsField, ReefForm, WholeField, stripped


def _as_typed(text: str | None) -> str:
    return text or ""


class SignInForm(ReefForm):
    """Who asks to be let in."""

    email = StringField("address", filters=[stripped])
    password = PasswordField("password", filters=[_as_typed])


class OneselfForm(ReefForm):
    """A name, and a password typed twice."""

    name = StringField("your name", filters=[stripped], description="Enter the name others know.")
    password = PasswordField(
        "password", filters=[_as_typed], description=f"Use at least {SHORTEST_PASSWORD} characters."
    )
    again = PasswordField("repeat password", filters=[_as_typed], description="Enter the same password twice.")

    def validate_name(self, field: StringField) -> None:
        """A name is needed."""
        if not field.data:
            raise ValidationError("Required.")

    def validate_password(self, field: PasswordField) -> None:
        """It has to be long."""
        if len(field.data or "") < SHORTEST_PASSWORD:
            raise ValidationError(f"It has {len(field.data or '')} characters.")

    def validate_again(self, field: PasswordField) -> None:
        """Typed wrongly once, it would lock out whoever typed it."""
        if field.data != self.password.data:
            raise ValidationError("The passwords differ.")


class OwnerForm(OneselfForm):
    """The first owner."""

    email = StringField("e-mail address", filters=[stripped], description="Enter an address such as ann@example.com.")

    def validate_email(self, field: StringField) -> None:
        """It is what one signs in with."""
        if "@" not in (field.data or ""):
            raise ValidationError("Required.")


class RightsForm(ReefForm):
    """What somebody may do, and whose brands they see."""

    role = StringField("role", [AnyOf(list(Role), "Not an option.")], description="Choose a role.")
    brands = IdsField("brands", description="Choose from the list.")
    sends = BooleanField("may send changes to the marketplace", false_values=("", "no"))

    def __init__(self, given: Any, brands: list[tuple[int, str]]) -> None:
        super().__init__(given)
        self.known = {brand_id for brand_id, _ in brands}

    def validate_brands(self, field: IdsField) -> None:
        """Whoever is no owner sees only what is given to them."""
        if not self.known.issuperset(field.data or ()):
            raise ValidationError("This brand does not exist.")
        if self.role.data != Role.OWNER and not field.data:
            raise ValidationError("Choose at least one brand.")


class InviteForm(RightsForm):
    """Somebody who is invited."""

    email = StringField("e-mail address", filters=[stripped], description="Enter an address such as ann@example.com.")
    name = StringField("name", filters=[stripped])


class TrailForm(ReefForm):
    """Which lines of the trail are wanted."""

    person = StringField("person", filters=[stripped])
    what = StringField("what", filters=[stripped])
    first = DateField("from", [Optional()], description="Enter a date such as 2026-11-01.")
    last = DateField("to", [Optional()], description="Enter a date such as 2026-11-30.")


class TokenForm(ReefForm):
    """A token by which a program reads: what it is for, of which account (empty: all), for how many days."""

    called = StringField("what it is for", filters=[stripped])
    of = StringField("account", filters=[stripped])
    days = WholeField("days", description="Choose one of the list.")
