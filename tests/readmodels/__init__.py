"""What screens show, worked out from journals and tables."""
