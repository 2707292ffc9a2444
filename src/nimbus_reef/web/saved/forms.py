"""A view of a table under a name."""

from __future__ import annotations

from wtforms import StringField
from wtforms.validators import Length

from nimbus_reef.store.people.saved_views import LONGEST_NAME
from nimbus_reef.web.kit.forms import ReefForm, stripped


class ViewForm(ReefForm):
    """What a view is called, and the table it is of."""

    place = StringField("place")
    name = StringField(
        "name",
        [Length(1, LONGEST_NAME, f"Name the view with at most {LONGEST_NAME} characters.")],
        filters=[stripped],
        description="Enter a shorter name.",
    )
