"""What is written into sheets."""
