"""Brands: what all workflows of a client together may spend."""

from __future__ import annotations

import datetime as dt

from flask import g
from flask_openapi3 import APIBlueprint, Tag
from pydantic import BaseModel, Field
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..runtime.services import audit
from ..store import tables
from .auth import needs
from .base import Fine, Reply, house, send

bp = APIBlueprint("brands", __name__, url_prefix="/api", abp_tags=[Tag(name="brands")])


class BrandPath(BaseModel):
    key: str


class BrandLimits(BaseModel):
    """Money a day and a month; empty where there is no limit."""

    day_money: float | None = Field(None, ge=0, le=1_000_000)
    month_money: float | None = Field(None, ge=0, le=1_000_000)


class BrandSpending(BrandLimits):
    """A brand's limits, and what it has spent today and this month."""

    name: str
    spent_day: float
    spent_month: float


def spending(session: Session, brand: tables.Brand, now: float) -> BrandSpending:
    """How a brand stands against its limits."""
    today = dt.datetime.fromtimestamp(now).date().isoformat()
    of_brand = select(tables.WorkflowRecord.id).where(tables.WorkflowRecord.brand == brand.key)
    total = select(func.sum(tables.Spending.cost)).where(tables.Spending.workflow_id.in_(of_brand))
    return BrandSpending(
        name=brand.name,
        day_money=(brand.limits or {}).get("day_money"),
        month_money=(brand.limits or {}).get("month_money"),
        spent_day=session.scalar(total.where(tables.Spending.day == today)) or 0.0,
        spent_month=session.scalar(total.where(tables.Spending.day.startswith(today[:7]))) or 0.0,
    )


@bp.get("/brands/<key>/limits", responses={200: BrandSpending})
@needs("reader")
def show(path: BrandPath) -> Reply:
    """A brand's limits and spending."""
    services = house().services
    with services.store.read() as session:
        return send(spending(session, session.get_one(tables.Brand, path.key), services.clock()))


@bp.put("/brands/<key>/limits", responses={200: Fine})
@needs("owner")
def change(path: BrandPath, body: BrandLimits) -> Reply:
    """Set a brand's limits."""
    services = house().services
    with services.store.write() as session:
        brand = session.get_one(tables.Brand, path.key)
        brand.limits = body.model_dump(exclude_none=True)
        audit(session, services.clock(), g.user.email, "set limits", brand.name)
    return send(Fine())
