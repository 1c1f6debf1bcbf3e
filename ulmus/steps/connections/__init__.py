"""The kinds of connection: what each needs, and how it is tested with one press."""
