"""What is put before a person."""
