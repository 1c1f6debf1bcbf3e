"""A visitor of the API: a test client that signs in and sends the CSRF token along."""

from __future__ import annotations

from functools import cache
from typing import Any

from flask.testing import FlaskClient
from flask_openapi3 import OpenAPI

from tests.runtime.house import WithHouse
from ulmus.api import create_app
from ulmus.api.http.base import House
from ulmus.api.security import auth
from ulmus.api.security.passwords import hash_password
from ulmus.store import tables

PASSWORD = "a good password"


class Visitor:
    """Somebody with a browser."""

    def __init__(self, client: FlaskClient) -> None:
        self.client = client
        self.csrf = ""

    def sign_in(self, email: str) -> Visitor:
        answer = self.client.post("/api/session", json={"email": email, "password": PASSWORD})
        assert answer.status_code == 200, answer.text
        self.csrf = answer.json["csrf"]
        return self

    def ask(self, method: str, path: str, status: int = 200, **more: Any) -> Any:
        answer = self.client.open(f"/api{path}", method=method, headers={"X-CSRF-Token": self.csrf}, **more)
        assert answer.status_code == status, f"{method} {path}: {answer.status_code} {answer.text[:500]}"
        return answer.json if answer.is_json else answer.get_data(as_text=True)

    def get(self, path: str, status: int = 200, **query: Any) -> Any:
        return self.ask("GET", path, status, query_string=query)

    def post(self, path: str, body: Any = None, status: int = 200) -> Any:
        return self.ask("POST", path, status, json={} if body is None else body)

    def put(self, path: str, body: Any, status: int = 200) -> Any:
        return self.ask("PUT", path, status, json=body)

    def patch(self, path: str, body: Any, status: int = 200) -> Any:
        return self.ask("PATCH", path, status, json=body)

    def delete(self, path: str, status: int = 200) -> Any:
        return self.ask("DELETE", path, status)


@cache
def application() -> OpenAPI:
    """The application, made once: its addresses are the same round every house."""
    return create_app(None)


class WithApi(WithHouse):
    """A test class with a house that has an API and four people."""

    hashes: dict[str, str] = {}

    def setUp(self) -> None:
        super().setUp()
        WithApi.hashes.setdefault("p", hash_password(PASSWORD))
        with self.services.store.write() as session:
            for role in auth.ROLES:
                session.add(tables.User(email=f"{role}@a.example", name=role.title(), role=role, password=self.hashes["p"]))
        self.house = House(self.services, self.engine, self.proofs, [])
        self.app = application()
        self.app.extensions["ulmus"] = self.house
        self.owner = self.visitor("owner")

    def visitor(self, role: str = "") -> Visitor:
        visitor = Visitor(self.app.test_client())
        return visitor.sign_in(f"{role}@a.example") if role else visitor
