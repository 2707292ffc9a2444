"""A note as it is written."""

from __future__ import annotations

from wtforms import StringField
from wtforms.validators import Length

from nimbus_reef.store.people.notes import LONGEST
from nimbus_reef.web.kit.forms import ReefForm, stripped


class NoteForm(ReefForm):
    """A note on a thing: a row of a view."""

    view = StringField("view", [Length(1, 16)])
    row = StringField("row", [Length(1, 64)])
    thing = StringField("thing", filters=[stripped])
    place = StringField("place", filters=[stripped])
    text = StringField(
        "note",
        [Length(1, LONGEST, f"Enter 1 to {LONGEST:,} characters.")],
        filters=[stripped],
        description="Enter a shorter note.",
    )
