"""What the scope bar lets people set."""

from __future__ import annotations

from wtforms import StringField

from nimbus_reef.web.kit.forms import FigureField, ReefForm, stripped


class AimForm(ReefForm):
    """A target ACOS for good, of the account or of something in it; an empty percentage takes it back."""

    percent = FigureField("target, in %", description="Enter a number such as 28.")
    level = StringField("level")
    of = StringField("of", filters=[stripped])
    back = StringField("back", default="/")

    @property
    def target_acos(self) -> float | None:
        """The target as a fraction."""
        return None if self.percent.data is None else float(self.percent.data / 100)
