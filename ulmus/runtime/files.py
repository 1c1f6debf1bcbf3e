"""Files that people hand in: kept once by their content, in the data folder."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Any

from ..store import tables
from .services import Services

LONGEST_NAME = 300


def keep(services: Services, name: str, kind: str, content: bytes) -> dict[str, Any]:
    """Keep a file; gives it as a value: name, type, size, and where it can be fetched."""
    sha = hashlib.sha256(content).hexdigest()
    path = _path(services, sha)
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        part = path.with_suffix(".part")
        part.write_bytes(content)
        part.replace(path)
    clean = Path(name.replace("\\", "/")).name[:LONGEST_NAME] or "file"
    with services.store.write() as session:
        if session.get(tables.StoredFile, sha) is None:
            session.add(tables.StoredFile(sha=sha, name=clean, type=kind[:120], size=len(content), created_at=services.clock()))
    return {"name": clean, "type": kind[:120], "size": len(content), "link": f"{services.public_url}/api/files/{sha}"}


def fetch(services: Services, sha: str) -> tuple[tables.StoredFile, bytes] | None:
    """A kept file and its content, or ``None``."""
    with services.store.read() as session:
        record = session.get(tables.StoredFile, sha)
    path = _path(services, sha)
    return (record, path.read_bytes()) if record is not None and path.exists() else None


def _path(services: Services, sha: str) -> Path:
    return services.store.folder / "files" / sha[:2] / sha
