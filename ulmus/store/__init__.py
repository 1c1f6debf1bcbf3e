"""Records: tables, migrations and sealed secrets, in SQLite through SQLAlchemy."""

from .db import Store, write_json
from .secrets import KEY, Sealer
from .trouble import DataTrouble, words_for

__all__ = ["KEY", "DataTrouble", "Sealer", "Store", "words_for", "write_json"]
