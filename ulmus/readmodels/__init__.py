"""What screens show, worked out from journals and tables. No Flask, and nothing that changes anything."""
