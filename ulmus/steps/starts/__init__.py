"""What sets a run off."""
