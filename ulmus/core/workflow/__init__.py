"""What a workflow is: its model and file format, the kinds its lines may be, checks and sentences."""

from .checks import check, scope_before, surroundings
from .controls import SentencePart, settings_of
from .file import FileProblem, WorkflowFileError, file_schema, read_file, read_needs, write_file
from .kinds import Kinds, KindSpec, Stage, points_at, templates_of
from .model import FailurePolicy, Lane, Limits, Line, Placed, Workflow
from .sentences import sentence
from .settings import read_settings
from .takes import drawn, is_shared, take_name, takes_of
from .world import Around, LineProblem, World

__all__ = [
    "Around",
    "FailurePolicy",
    "FileProblem",
    "KindSpec",
    "Kinds",
    "Lane",
    "Limits",
    "Line",
    "LineProblem",
    "Placed",
    "SentencePart",
    "Stage",
    "Workflow",
    "WorkflowFileError",
    "World",
    "check",
    "drawn",
    "file_schema",
    "read_file",
    "is_shared",
    "points_at",
    "read_needs",
    "read_settings",
    "scope_before",
    "sentence",
    "settings_of",
    "surroundings",
    "take_name",
    "takes_of",
    "templates_of",
    "write_file",
]
