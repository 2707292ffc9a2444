"""Peer figures typed in by hand."""

from __future__ import annotations

from typing import Final

from wtforms import SelectField, StringField
from wtforms.validators import InputRequired, NumberRange, Regexp, ValidationError

from nimbus_reef.core.peers import FEWEST_BRANDS, RATED
from nimbus_reef.web.kit.forms import Above, FigureField, ReefForm, WholeField, stripped

ASKED: Final = ("p20", "p50", "p80")
_LIKE: Final = "Write it like 4.5."


def _mark(percent: int) -> FigureField:
    """The figure under which so many percent of peers lie."""
    name = f"the {percent} % mark"
    return FigureField(name, [InputRequired("Missing."), Above(0)], description=_LIKE)


class PeersForm(ReefForm):
    """A month's figures of one metric in one category: those under which 20, 50 and 80 % of peers lie."""

    metric = SelectField(
        "metric",
        choices=list(RATED),  # type: ignore[arg-type]  # the stubs are of an older version
        description="Choose a metric.",
    )
    peers_of = StringField(
        "month", [Regexp(r"\d{4}-\d\d$", message="It is not a month.")], description="Write it like 2026-11."
    )
    peer_category = StringField(
        "category", [InputRequired("Missing.")], filters=[stripped], description="Name a category."
    )
    p20, p50, p80 = _mark(20), _mark(50), _mark(80)
    brands = WholeField(
        "the number of brands",
        [NumberRange(min=FEWEST_BRANDS, message="Too few brands to compare with.")],
        description=f"Enter {FEWEST_BRANDS} or more.",
    )

    def validate_p80(self, field: FigureField) -> None:
        """Quantiles rise."""
        decimals = [each.data for each in (self.p20, self.p50, field) if each.data is not None]
        if sorted(decimals) != decimals:
            raise ValidationError("Enter the three figures from lowest to highest.")

    @property
    def marks(self) -> list[float]:
        """The three figures, as typed: in percent where the metric is a rate."""
        return [float(self[name].data) for name in ASKED]
