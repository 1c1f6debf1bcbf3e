"""Text as people count and compare it: characters one sees, words, sentences, links, emoji, HTML as it is read.

Every part of the core that measures, compares or cuts text goes by these.
"""

from .counting import emoji, hashtags, links, mentions, seconds_to_say, without_links, words
from .html import faults, is_html, read
from .normal import contained, normal, said
from .sentences import Span, sentences
from .tongue import tongue_of

__all__ = [
    "Span",
    "contained",
    "emoji",
    "faults",
    "hashtags",
    "is_html",
    "links",
    "mentions",
    "normal",
    "read",
    "said",
    "seconds_to_say",
    "sentences",
    "tongue_of",
    "without_links",
    "words",
]
