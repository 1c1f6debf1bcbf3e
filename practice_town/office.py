"""The office: a calendar as an iCalendar feed (RFC 5545), and a customer database that calls out when a record is new."""

from __future__ import annotations

import hashlib
import hmac
import json
import time
from datetime import UTC, datetime, timedelta
from urllib.parse import urlsplit

import httpx
from flask import Blueprint, Response, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from .faults import common
from .sites import state

bp = Blueprint("office", __name__)
CUSTOMERS = [
    {
        "id": "C-1041",
        "name": "Ottoline Varley",
        "company": "Varley Kitchen Gardens",
        "town": "Ostrey",
        "email": "ottoline@varley.example",
    },
    {"id": "C-1042", "name": "Bram Okonjo", "company": "Okonjo & Daughters", "town": "Tillerby", "email": "bram@okonjo.example"},
    {
        "id": "C-1043",
        "name": "Petra Lindqvist",
        "company": "The Lock House",
        "town": "Marrow Bank",
        "email": "petra@lockhouse.example",
    },
]
ENTRIES = [
    (1.5, "Planting plan for the spring packets", "The seed shed", "Which packets go into the spring list."),
    (16, "The Okonjo yard about the hull", "Tillerby slipway", "What can be done before Easter, and what it costs."),
    (26, "Boat handover with the Lindqvists", "Tillerby wharf", "Two children, first time on a boat."),
    (50, "Market day, stall 14", "Ostrey square", "Bring the tomato tasters."),
]


@bp.get("/calendar/office.ics")
def calendar() -> Response:
    """The office's calendar; its entries stand some hours from now, and one comes every Monday."""
    fault = common(state().fault("calendar"))
    if fault is not None:
        return fault
    return Response(state().calendar or _entries(), mimetype="text/calendar")


def _entries() -> str:
    now = datetime.now(UTC).replace(minute=0, second=0, microsecond=0)
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Practice town//Office//EN"]
    for hours, title, place, notes in ENTRIES:
        start = now + timedelta(hours=hours)
        lines += _event(f"{title}-{start:%Y%m%d}", start, title, place, notes, *_guests(title))
    monday = now - timedelta(days=now.weekday() + 7, hours=now.hour - 9)
    lines += _event(
        "monday-round", monday, "Monday round of the shed", "The seed shed", "What germinated, what did not.", "RRULE:FREQ=WEEKLY"
    )
    return "\r\n".join([*lines, "END:VCALENDAR", ""])


def _guests(title: str) -> list[str]:
    """Customers who are meant by what an entry is called, as its guests."""
    return [
        f"ATTENDEE;CN={one['name']};PARTSTAT=ACCEPTED:mailto:{one['email']}"
        for one in CUSTOMERS
        if one["name"].split()[-1] in title
    ]


def _event(uid: str, start: datetime, title: str, place: str, notes: str, *more: str) -> list[str]:
    form = "%Y%m%dT%H%M%SZ"
    return [
        "BEGIN:VEVENT",
        f"UID:{uid.lower().replace(' ', '-')}@office.example",
        f"DTSTART:{start.strftime(form)}",
        f"DTEND:{(start + timedelta(hours=1)).strftime(form)}",
        f"SUMMARY:{title}",
        f"LOCATION:{place}",
        f"DESCRIPTION:{notes}",
        "ATTENDEE:mailto:ines@hedgelane.example",
        *more,
        "END:VEVENT",
    ]


@bp.get("/customers")
def customers() -> str:
    """The customer database's page: its records, and whom it calls about a new one."""
    return render_template(
        "customers.html",
        customers=CUSTOMERS,
        calls=list(reversed(state().calls))[:30],
        changes=list(reversed(state().changes))[:30],
        said=request.args.get("said", ""),
    )


@bp.post("/customers/call")
def call() -> AnyResponse:
    """Call an address on this machine about a record, signed where a secret is given."""
    address = request.form.get("address", "").strip()
    record = next((c for c in CUSTOMERS if c["id"] == request.form.get("record")), CUSTOMERS[0])
    secret = request.form.get("secret", "").strip()
    body = json.dumps({"event": "record.new", "record": record}).encode()
    headers = {"Content-Type": "application/json"}
    if secret:
        stamp = str(int(time.time()))
        asked = urlsplit(address)
        head = "".join(f"{line}\n" for line in ("v2", stamp, "POST", asked.path, asked.query))
        signature = hmac.new(secret.encode(), head.encode() + body, hashlib.sha256).hexdigest()
        headers |= {"Ulmus-Timestamp": stamp, "Ulmus-Signature": f"v2={signature}"}
    if not address.startswith(("http://127.0.0.1:", "http://localhost:")):
        return redirect(url_for("office.customers", said="Only addresses on this machine can be called."))
    try:
        answer = httpx.post(address, content=body, headers=headers, timeout=60, trust_env=False)
        told = f"{answer.status_code}: {answer.text[:300]}"
    except httpx.HTTPError as error:
        told = f"No answer ({type(error).__name__})."
    with state().lock:
        state().calls.append({"at": time.time(), "address": address, "record": record["id"], "told": told})
        state().save()
    return redirect(url_for("office.customers", said=told))
