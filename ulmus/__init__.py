"""Ulmus: workflows for marketers, written as a page and proved on real items."""

__version__ = "0.1.0"
