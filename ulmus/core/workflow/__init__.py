"""What a workflow is: its model and file format, the kinds its lines may be, checks and sentences."""

from .checks import LineProblem, World, check, scope_before
from .file import FileProblem, WorkflowFileError, file_schema, read_file, write_file
from .kinds import Kinds, KindSpec, Stage, field_control, templates_of
from .model import FailurePolicy, Line, Workflow
from .sentences import SentencePart, sentence

__all__ = [
    "FailurePolicy",
    "FileProblem",
    "KindSpec",
    "Kinds",
    "Line",
    "LineProblem",
    "SentencePart",
    "Stage",
    "Workflow",
    "WorkflowFileError",
    "World",
    "check",
    "field_control",
    "file_schema",
    "read_file",
    "scope_before",
    "sentence",
    "templates_of",
    "write_file",
]
