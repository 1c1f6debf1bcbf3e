"""Open-source servers from Debian, started on loopback ports: what speaks the protocols here is tried against them for real."""
