"""What people write in the evidence drawer."""

from __future__ import annotations

from wtforms import StringField
from wtforms.validators import Length

from nimbus_reef.store.people.notes import LONGEST
from nimbus_reef.web.kit.forms import ReefForm, stripped


class NoteForm(ReefForm):
    """A note on a row."""

    row = StringField("row")
    text = StringField(
        "note",
        [Length(1, LONGEST, f"It has 1 to {LONGEST:,} characters.")],
        filters=[stripped],
        description="Write a little, or a little less.",
    )
