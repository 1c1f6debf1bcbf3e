"""Records: tables, migrations and sealed secrets, in SQLite through SQLAlchemy."""

from .db import Store
from .secrets import Sealer

__all__ = ["Sealer", "Store"]
