"""Ulmus: workflows for marketers, written as a page and proved on real items."""

__version__ = "0.2.0"
