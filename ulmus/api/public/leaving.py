"""Leaving a mailing, by the address that stands in each of its letters. Opening it changes nothing; pressing does (RFC 8058)."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, redirect, request
from flask_openapi3 import Tag
from pydantic import BaseModel

from ...runtime import leaving, links, results
from ..http.base import Body, Fine, Problem, Refusal, Reply, house, send
from ..http.describing import Part
from ..security.auth import room

bp = Part("leaving", __name__, url_prefix="/api", abp_tags=[Tag(name="mailings")])
outside = Blueprint("leaving_outside", __name__)
LARGEST = 10_000


class LeavePath(BaseModel):
    token: str


class LeaveView(BaseModel):
    """Which mailing an address gets, and whether it has left."""

    mailing: str
    address: str
    left: bool


class LeaveBody(Body):
    """Whether to leave, or to come back after all."""

    leave: bool


@bp.get("/leave/<token>", responses={200: LeaveView, 404: Problem})
def look(path: LeavePath) -> Reply:
    """What there is to leave. Looking changes nothing."""
    mailing, address = _read(path.token)
    with house().services.store.read() as session:
        left = leaving.found(session, address) is not None
    return send(LeaveView(mailing=mailing, address=address, left=left))


@bp.post("/leave/<token>", responses={200: Fine, 404: Problem})
@room(LARGEST)
def change(path: LeavePath, body: LeaveBody) -> Reply:
    """Leave, or come back."""
    mailing, address = _read(path.token)
    services = house().services
    with services.store.write() as session:
        if body.leave:
            leaving.leave(session, address, mailing, services.clock())
        else:
            leaving.come_back(session, address)
    return send(Fine())


@outside.get("/to/<token>")
def pressed(token: str) -> Any:
    """Lead a reader on to a link of a mailing, and count that."""
    try:
        return redirect(results.press(house().services, token, request.method == "GET"))
    except links.LinkError as error:
        return str(error), 404, {"Content-Type": "text/plain; charset=utf-8"}


@outside.post("/leave/<token>")
@room(LARGEST)
def one_click(token: str) -> tuple[dict[str, str], int]:
    """What a mail program sends when somebody presses its own button (RFC 8058, section 3.1)."""
    try:
        mailing, address = leaving.read(house().services.sealer.key, token)
    except links.LinkError as error:
        return {"message": str(error)}, 404
    services = house().services
    with services.store.write() as session:
        leaving.leave(session, address, mailing, services.clock())
    return {"message": "You have left the list."}, 200


def _read(token: str) -> tuple[str, str]:
    try:
        return leaving.read(house().services.sealer.key, token)
    except links.LinkError as error:
        raise Refusal(str(error), 404) from None
