"""What arranges other steps."""
