"""Pieces: what goes out, as data. `forms` says what each form is made of, `lengths` how long a text is as a channel counts it,
`takes` what a channel takes and what of a piece it would refuse, `parting` a long text in parts, `brief` a piece in a few words, `words` all
of it as plain text.

Nothing here knows a channel or a kind of line; a piece is read from what the outbox keeps, whatever version wrote it.
"""

from .brief import Brief, in_brief
from .changes import CHANGEABLE, changed
from .forms import (
    Act,
    Article,
    Attached,
    FilePiece,
    FormName,
    LeftOut,
    Letter,
    Listing,
    Mailing,
    Message,
    Piece,
    Post,
    SetAsidePart,
    attached,
    read,
)
from .lengths import CHARACTERS, Counting, length
from .parting import parted, shortened
from .takes import ANYTHING, Takes, refusals
from .words import in_words, text_of

__all__ = [
    "CHANGEABLE",
    "changed",
    "ANYTHING",
    "CHARACTERS",
    "Act",
    "Article",
    "Attached",
    "Brief",
    "Counting",
    "FilePiece",
    "FormName",
    "LeftOut",
    "Letter",
    "Listing",
    "Mailing",
    "Message",
    "Piece",
    "Post",
    "SetAsidePart",
    "Takes",
    "attached",
    "in_brief",
    "in_words",
    "length",
    "parted",
    "read",
    "refusals",
    "shortened",
    "text_of",
]
