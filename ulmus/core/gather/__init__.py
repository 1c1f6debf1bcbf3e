"""What gathering works out by itself: lists kept small, near repeats, nearness in meaning, chapters of a recording.

The modules are imported where they are used: the numeric ones are large.
"""
