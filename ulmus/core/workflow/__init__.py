"""What a workflow is: its model and file format, the kinds its lines may be, checks and sentences."""

from .checks import Around, LineProblem, World, check, scope_before, surroundings
from .file import FileProblem, WorkflowFileError, file_schema, read_file, read_needs, write_file
from .kinds import Kinds, KindSpec, Stage, field_control, templates_of
from .model import FailurePolicy, Lane, Limits, Line, Placed, Workflow
from .sentences import SentencePart, sentence
from .takes import drawn, take_name, takes_of

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
    "field_control",
    "file_schema",
    "read_file",
    "read_needs",
    "scope_before",
    "sentence",
    "surroundings",
    "take_name",
    "takes_of",
    "templates_of",
    "write_file",
]
