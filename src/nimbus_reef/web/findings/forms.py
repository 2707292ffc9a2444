"""How findings are put away."""

from __future__ import annotations

from datetime import date

from wtforms import DateField, RadioField, StringField
from wtforms.validators import NumberRange, Optional, ValidationError

from nimbus_reef.web.kit.forms import ReefForm, WholeField, stripped

LONGEST_REASON = 512
_UNTIL = ("day", "clicks", "good")


class PutAwayForm(ReefForm):
    """Until when findings are out of sight, and why."""

    check = StringField("check")
    until = RadioField(
        "Until",
        choices=list(_UNTIL),  # type: ignore[arg-type]  # the stubs are of an older version
        description="Choose a date, a number of clicks, or dismiss.",
    )
    day = DateField("day", [Optional()], description="Choose a later date such as 2026-12-01.")
    clicks = WholeField(
        "clicks",
        [Optional(), NumberRange(1, 100_000, "Enter 1 to 100,000.")],
        description="Enter a whole number above 0.",
    )
    reason = StringField(
        "reason", filters=[stripped, lambda text: text[:LONGEST_REASON]], description="Enter a reason."
    )

    def __init__(self, given: object, today: date) -> None:
        super().__init__(given)
        self.today = today

    def validate_until(self, field: RadioField) -> None:
        """What is chosen has to be said."""
        needed = {"day": self.day, "clicks": self.clicks}.get(field.data or "")
        if needed is not None and needed.data is None and not needed.process_errors:
            raise ValidationError(f"Enter {needed.label.text}.")

    def validate_day(self, field: DateField) -> None:
        """A day that is past would bring it back at once."""
        if self.until.data == "day" and field.data is not None and field.data <= self.today:
            raise ValidationError(f"{field.data} is not after today.")

    def validate_reason(self, field: StringField) -> None:
        """Dismissing is explained."""
        if self.until.data == "good" and not field.data:
            raise ValidationError("Dismissing needs a reason.")

    @property
    def until_day(self) -> date | None:
        """The day on which they come back."""
        return self.day.data if self.until.data == "day" else None

    @property
    def until_clicks(self) -> int | None:
        """After how many more clicks they come back."""
        return self.clicks.data if self.until.data == "clicks" else None
