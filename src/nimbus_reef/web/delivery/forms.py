"""What is typed into Delivery: a total of budgets, a boost."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Any

from wtforms import DateField, StringField
from wtforms.validators import InputRequired, NumberRange, Optional, ValidationError

from nimbus_reef.core import boosts as rules
from nimbus_reef.core.boosts import BID, Boost
from nimbus_reef.web.kit.forms import FigureField, ReefForm, WholeField, stripped

_CONDITION = re.compile(r"(roas|acos|cvr|ctr|orders) (>=|<=|>|<) (\d+(?:\.\d+)?)", re.IGNORECASE)


class TotalForm(ReefForm):
    """What all budgets are to come to a day."""

    total = FigureField("The total", description="Enter an amount such as 235.")


def _is_condition(form: Any, field: Any) -> None:  # noqa: ARG001
    if field.data and not _CONDITION.fullmatch(field.data):
        raise ValidationError(f"“{field.data}” is not a condition.")


class BoostForm(ReefForm):
    """A raise of a campaign's budget or bids."""

    whose = StringField("The campaign", [InputRequired("Choose one.")])
    what = StringField("What it raises", filters=[lambda text: text or BID])
    percent = FigureField(
        "The per cent", [InputRequired("Enter a percentage.")], description="Enter a number such as 20."
    )
    days = StringField("The weekdays", filters=[stripped])
    from_hour = WholeField(
        "From which hour", [Optional(), NumberRange(0, 23, "Enter an hour from 0 to 23.")], default=0
    )
    to_hour = WholeField("To which hour", [Optional(), NumberRange(1, 24, "Enter an hour from 1 to 24.")], default=24)
    first = DateField("The first day", [Optional()], description="Enter a date such as 2026-12-01.")
    last = DateField("The last day", [Optional()], description="Enter a date such as 2026-12-05.")
    condition = StringField(
        "The condition",
        [_is_condition],
        filters=[stripped],
        description="Enter a condition such as ROAS >= 4, or leave it empty.",
    )

    @property
    def boost(self) -> Boost:
        """The boost that is meant, be it possible or not."""
        percent = self.percent.data if isinstance(self.percent.data, Decimal) else Decimal(0)
        end = rules.HOURS if self.to_hour.data is None else int(self.to_hour.data)
        dated = self.first.data or self.last.data
        return Boost(
            "tried",
            self.what.data or BID,
            float(percent),
            rules.weekdays_of(self.days.data or ""),
            int(self.from_hour.data or 0),
            end,
            self.condition.data or "",
            self.first.data or dated,
            self.last.data or dated,
        )

    @property
    def problem(self) -> str | None:
        """Why it cannot be planned."""
        return rules.problem(self.boost)
