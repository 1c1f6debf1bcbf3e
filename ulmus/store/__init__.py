"""Records: tables, migrations and sealed secrets, in SQLite through SQLAlchemy."""

from .db import Store
from .secrets import Sealer
from .trouble import DataTrouble

__all__ = ["DataTrouble", "Sealer", "Store"]
