"""The web side: accounts, a JSON API with a generated OpenAPI document, live events, and the app's files."""

from .http.app import create_app

__all__ = ["create_app"]
