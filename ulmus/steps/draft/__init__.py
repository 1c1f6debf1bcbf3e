"""What a model writes or makes."""
