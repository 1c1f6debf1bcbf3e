"""Telling people when something is wrong: what is wrong now, raised once and mended when it is over, and who hears of it."""
