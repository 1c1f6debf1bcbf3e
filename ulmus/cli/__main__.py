"""``python -m ulmus.cli``."""

from . import main

main()
