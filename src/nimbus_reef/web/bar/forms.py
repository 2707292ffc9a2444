"""What the scope bar lets people set."""

from __future__ import annotations

from wtforms import DateField, StringField
from wtforms.validators import Optional

from nimbus_reef.core.own_limits import Limit
from nimbus_reef.store.people import own_limits
from nimbus_reef.web.kit.forms import FigureField, ReefForm, stripped


class AimForm(ReefForm):
    """A target ACOS or a bid limit for good, of the account or of something in it; nothing entered takes it back."""

    percent = FigureField("target or limit", description="Enter a number such as 28 or 0.80.")
    what = StringField("what", default=own_limits.TARGET_ACOS)
    level = StringField("level")
    of = StringField("of", filters=[stripped])
    until = DateField("until", validators=[Optional()])
    back = StringField("back", default="/")

    @property
    def value(self) -> float | None:
        """What was entered: rates as fractions, bids in units."""
        if self.percent.data is None:
            return None
        return float(self.percent.data) / (1 if self.what.data in (Limit.CEILING, Limit.FLOOR, Limit.GOAL) else 100)
