"""Asking people: what they are shown, whose word is waited for, how they answer, and what comes of it."""

from .approved import Change as Change
from .approved import Composed as Composed
from .approved import as_approved as as_approved
from .approved import compose as compose
from .approved import others as others
from .approved import revise as revise
from .questions import answer as answer
from .questions import let_out as let_out
from .questions import open_question as open_question
from .words import ACT as ACT
from .words import QUESTION as QUESTION
from .words import AnswerRefused as AnswerRefused
from .words import Verdict as Verdict
