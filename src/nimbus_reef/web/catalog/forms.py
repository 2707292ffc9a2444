"""What is typed into Catalog: a naming pattern, a new name, the catch-all."""

from __future__ import annotations

from wtforms import StringField
from wtforms.validators import InputRequired, Length

from nimbus_reef.core.naming import LONGEST
from nimbus_reef.web.kit.forms import Above, FigureField, ReefForm, stripped


class PatternForm(ReefForm):
    """How the account's campaigns are called."""

    pattern = StringField(
        "The pattern",
        [Length(max=LONGEST, message=f"At most {LONGEST} characters.")],
        filters=[stripped],
        description="Write it like {product} · {purpose} · {match}.",
    )


class NameForm(ReefForm):
    """A campaign and what it is to be called."""

    row = StringField("The campaign", [InputRequired("No product selected.")])
    name = StringField(
        "The new name", [Length(1, 255, "Enter 1 to 255 characters.")], filters=[stripped], description="Write another."
    )


class CatchAllForm(ReefForm):
    """The catch-all: a bid and a daily budget, its name, products left out."""

    bid = FigureField("The bid", [Above(0)], description="Enter an amount such as 0.12.")
    budget = FigureField("The daily budget", [Above(0)], description="Enter an amount such as 12.")
    name = StringField("The name", [Length(max=255, message="At most 255 characters.")], filters=[stripped])
    without = StringField("Products left out", filters=[stripped])
