"""What brings material."""
