"""The form by which a brand account is made: at the first start, and among the accounts."""

from __future__ import annotations

from typing import Any

from wtforms import StringField
from wtforms.validators import AnyOf, InputRequired, ValidationError

from nimbus_reef.core.targeting import ASSUMED_TARGET
from nimbus_reef.web.kit.countries import countries, usual
from nimbus_reef.web.kit.forms import FigureField, ReefForm, stripped

_HIGHEST = 500


class AccountForm(ReefForm):
    """
    A brand on a marketplace in a country, and what a sale may cost: a target, the margin it follows from, or later.
    What goes with the country is taken from it where nothing else is chosen.
    """

    brand = StringField(
        "brand", [InputRequired("Required.")], filters=[stripped], description="Enter the brand’s name."
    )
    marketplace = StringField(
        "marketplace", [InputRequired("Required.")], filters=[stripped], description="Enter the marketplace."
    )
    country = StringField("country", description="Choose one from the list.")
    currency = StringField(
        "currency",
        filters=[stripped, str.upper],
        description="Three letters such as EUR. Empty: the country’s currency.",
    )
    timezone = StringField(
        "time zone", filters=[stripped], description="Such as Europe/Berlin. Empty: the country’s time zone."
    )
    number_style = StringField(
        "number style", filters=[stripped], description="Such as de_DE. Empty: the country’s style."
    )
    aim = StringField(
        "target",
        [AnyOf(("target", "margin", "later"))],
        default="target",
        description="Choose how to enter the target.",
    )
    target = FigureField("target ACOS, in %", description="Enter a number such as 28.")
    margin = FigureField("margin before ads, in %", description="Enter a number such as 45.")
    profit = FigureField("profit after ads, in %", description="Enter a number such as 15.")

    @property
    def assumed(self) -> str:
        """The target of an account that has none yet, in percent."""
        return f"{ASSUMED_TARGET * 100:g}"

    @property
    def countries(self) -> tuple[tuple[str, str], ...]:
        """What is to choose from."""
        return countries()

    def validate_country(self, field: StringField) -> None:
        """One has to be chosen."""
        if usual(field.data or "") is None:
            raise ValidationError("Choose one.")

    def validate_aim(self, field: StringField) -> None:
        """The target, however it is given, has to be one."""
        if field.data == "target" and self.target.data is None:
            raise ValidationError("No target entered.")
        if field.data == "margin" and (self.margin.data is None or self.profit.data is None):
            raise ValidationError("Enter both margin and profit.")
        if self.target_acos is not None and not 0 < self.target_acos * 100 < _HIGHEST:
            raise ValidationError("This gives an impossible target.")

    @property
    def target_acos(self) -> float | None:
        """As a fraction: the given target, or margin less profit. None when it is set later."""
        if self.aim.data == "later":
            return None
        if self.aim.data == "margin":
            return float((self.margin.data or 0) - (self.profit.data or 0)) / 100
        return float(self.target.data or 0) / 100

    @property
    def own_margin(self) -> float | None:
        """The margin as a fraction, None where it was not given."""
        return float(self.margin.data) / 100 if self.aim.data == "margin" and self.margin.data is not None else None

    def values(self) -> dict[str, Any]:
        """What the account is made of; what was left open as the country has it."""
        found = usual(self.country.data or "")
        return {
            "brand_name": self.brand.data,
            "marketplace": self.marketplace.data,
            "country": self.country.data,
            "currency": self.currency.data or (found.currency if found else ""),
            "timezone": self.timezone.data or (found.timezone if found else ""),
            "locale": self.number_style.data or (found.locale if found else "en"),
            "target_acos": self.target_acos,
        }
