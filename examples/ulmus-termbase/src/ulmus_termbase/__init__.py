"""A connection to a term base, and a step that checks a text against it."""
