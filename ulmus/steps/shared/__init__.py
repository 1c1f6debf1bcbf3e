"""What several kinds of step use, and is no kind itself."""
