"""Bringing in OpenAPI documents: read with progress, compared with what is there, then applied whole."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any

import orjson
from sqlalchemy import select
from sqlalchemy.orm import Session, defer

from calm_tariff.core.errors import Conflict, Invalid, NotFound, Stale
from calm_tariff.formats.documents import read_document
from calm_tariff.formats.openapi import Described, describe
from calm_tariff.formats.openapi_excerpt import Proofs, excerpt, sketch
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.compose.apis import operations, versions
from calm_tariff.services.compose.apis.operations import OperationTyped, subject
from calm_tariff.services.compose.apis.versions import ApiTyped
from calm_tariff.services.compose.apis.views import ApiView, get
from calm_tariff.store.admit import subscribers
from calm_tariff.store.base.locking import hold
from calm_tariff.store.compose.apis import ApiDocument, ApiVersion, DocumentReading, Operation
from calm_tariff.store.compose.meters import Meter, MeterOperation
from calm_tariff.store.compose.products import Plan, Product, ProductOperation

ABANDONED = timedelta(minutes=2)
KEPT = timedelta(days=7)
# The text itself is loaded only where it is used: it may be 20 MB.
_LIGHT = (defer(DocumentReading.text),)


@dataclass(frozen=True, slots=True)
class FindingView:
    """What is wrong with a document, and where: a JSON pointer, or a line."""

    weight: str
    where: str
    what: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ReadingView:
    """A document being read, or read. `stage`: reading, read, stopped, failed.

    `operations` can be taken, as `METHOD path`; parts with a finding `left out` can not.
    """

    id: int
    name: str
    stage: str
    done: int
    total: int
    title: str
    version: str
    servers: list[str]
    operations: int
    groups: list[str]
    first: list[str]
    findings: list[FindingView]
    left_out: int
    started_at: datetime
    started_by: str


@dataclass(frozen=True, slots=True)
class Removal:
    """An operation the document has no more, with who uses it now."""

    operation: str
    meters: list[str]
    plans: list[str]
    subscriptions: int


@dataclass(frozen=True, slots=True)
class Change:
    """An operation whose words or groups the document has otherwise."""

    operation: str
    was: str
    becomes: str


@dataclass(frozen=True, slots=True)
class Comparison:
    """A document against the version it would replace."""

    added: list[str]
    changed: list[Change]
    removed: list[Removal]
    unchanged: int


class Stopped(Exception):
    """Somebody stopped the reading."""


def begin(ctx: Context, name: str, text: str) -> ReadingView:
    """Take in a document's text; `read` then reads it. Documents nobody applied are dropped after a week."""
    ctx.actor.must_be("product manager")
    if not text.strip():
        raise Invalid("is empty", "text")
    with ctx.transaction() as session:
        for old in session.scalars(select(DocumentReading).where(DocumentReading.started_at < ctx.now - KEPT)):
            session.delete(old)
        made = DocumentReading(
            name=name.strip()[:200] or "pasted text",
            stage="reading",
            done=0,
            total=0,
            title="",
            version="",
            servers=[],
            operations=[],
            findings=[],
            text=text,
            started_at=ctx.now,
            touched_at=ctx.now,
            started_by=ctx.actor.name,
        )
        session.add(made)
        session.flush()
        return _view(made, ctx.now)


def read(ctx: Context, reading_id: int) -> None:
    """Read a document that was taken in, telling progress as it goes. What is wrong becomes findings."""
    with ctx.transaction() as session:
        text = session.get_one(DocumentReading, reading_id).text
    try:
        document = read_document(text)
        found = describe(document, lambda done, total: _tell(ctx, reading_id, done, total))
    except Stopped:
        return
    except Invalid as error:
        finding = {"weight": "left out", "where": error.where, "what": error.what}
        _settle(ctx, reading_id, stage="failed", findings=[finding])
        return
    listed = [
        {"method": o.method, "path": o.path, "summary": o.summary, "groups": list(o.groups)} for o in found.operations
    ]
    findings = [{"weight": f.weight, "where": f.where, "what": f.what} for f in found.findings]
    _settle(
        ctx,
        reading_id,
        stage="read",
        title=found.title,
        version=found.version[:200],
        servers=list(found.servers),
        operations=listed,
        findings=findings,
        text=orjson.dumps(document).decode(),
        done=len(listed),
    )


def one(ctx: Context, reading_id: int) -> ReadingView:
    """A reading as far as it has come. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _view(_get(session, reading_id), ctx.now)


def stop(ctx: Context, reading_id: int) -> ReadingView:
    """Stop a reading, or put away one that was read."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        reading = _get(session, reading_id, lock=True)
        reading.stage, reading.text, reading.operations = "stopped", "", []
        return _view(reading, ctx.now)


def compare(ctx: Context, reading_id: int, version_id: int) -> Comparison:
    """What applying a document to a version would add, change and remove, and whom removals touch."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        described = _described(_get(session, reading_id))
        version = get(session, version_id)
        here = {o.label: o for o in version.operations}
        there = {f"{o.method} {o.path}": o for o in described}
        gone = [o for label, o in here.items() if label not in there]
        changed = [
            Change(label, _words(here[label].summary, here[label].groups), _words(o.summary, o.groups))
            for label, o in there.items()
            if label in here and (here[label].summary, tuple(here[label].groups)) != (o.summary, o.groups)
        ]
        return Comparison(
            [label for label in there if label not in here],
            changed,
            _removals(session, gone),
            len(here) - len(gone) - len(changed),
        )


def apply_as_new(ctx: Context, reading_id: int, typed: ApiTyped, agreed: bool) -> ApiView:
    """A new version from a document. Raises `Conflict` where parts are left out and nobody agreed to it."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        reading = _ready(session, reading_id, agreed)
        whole = replace(typed, operations=[_typed(o) for o in _described(reading)])
        version = versions.describe(session, ctx, whole)
        _keep(session, ctx, version, reading)
        version_id = version.id
    return versions.one(ctx, version_id)


def apply_to(ctx: Context, reading_id: int, version_id: int, edition: int, agreed: bool) -> ApiView:
    """Make a version what the document says. Operations gone from it are retired, and leave the
    products and unsealed meters that had them. Raises `Stale` or `Conflict`."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        reading = _ready(session, reading_id, agreed)
        version = get(session, version_id, lock=True)
        if version.edition != edition:
            raise Stale("somebody else has changed this API meanwhile", version.api.name, version.edition)
        here = {o.label: o for o in version.operations}
        described = _described(reading)
        kept = {f"{o.method} {o.path}" for o in described}
        gone = [o for label, o in here.items() if label not in kept]
        removals = _removals(session, gone)
        for operation in gone:
            operation.retired_at = ctx.now
            session.execute(ProductOperation.delete().where(ProductOperation.c.operation_id == operation.id))
            unsealed = select(Meter.id).where(Meter.sealed_at.is_(None))
            session.execute(
                MeterOperation.delete().where(
                    MeterOperation.c.operation_id == operation.id, MeterOperation.c.meter_id.in_(unsealed)
                )
            )
        session.flush()
        added = 0
        for one_of in described:
            known = here.get(f"{one_of.method} {one_of.path}")
            if known:
                known.summary, known.groups = one_of.summary, list(one_of.groups)
            else:
                operations.put(session, version, _typed(one_of), checked=True)
                added += 1
        version.edition += 1
        _keep(session, ctx, version, reading)
        touched = [f"{r.operation}: {', '.join([*r.meters, *r.plans])}" for r in removals if r.meters or r.plans]
        auditing.note(
            session,
            ctx,
            "brought in an OpenAPI document",
            subject(version),
            before={"removed": [o.label for o in gone]},
            after={"document": reading.name, "added": added, "touched": touched},
        )
        stamps.touch(session, ctx)
    return versions.one(ctx, version_id)


def sold_by(ctx: Context, plan_id: int, gateway: str, version_id: int | None = None) -> dict[str, Any]:
    """The OpenAPI document of what a plan sells of one version, as a caller sees it.

    Where a plan sells operations of several versions, `version_id` says which. Raises `NotFound`.
    """
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        plan = session.get(Plan, plan_id)
        if plan is None:
            raise NotFound("there is no such plan", str(plan_id))
        query = (
            select(Operation)
            .join(ProductOperation, ProductOperation.c.operation_id == Operation.id)
            .where(ProductOperation.c.product_id == plan.product_id, Operation.retired_at.is_(None))
            .order_by(Operation.path)
        )
        sold = session.scalars(query).all()
        versions = {o.api_version_id: o.api_version for o in sold}
        if version_id is None and len(versions) > 1:
            names = ", ".join(f"{v.id} ({v.api.name} {v.version})" for v in versions.values())
            raise Invalid(f"the plan sells several versions; say which: {names}", "version_id")
        version = versions.get(version_id or next(iter(versions), 0))
        if version is None:
            raise NotFound("the plan sells nothing of this version", str(version_id))
        mine = [o for o in sold if o.api_version_id == version.id]
        return sold_document(session, ctx, plan.product, mine, f"{plan.product.name} · {plan.name}", gateway)


def sold_document(
    session: Session, ctx: Context, product: Product, sold: Sequence[Operation], sold_as: str, gateway: str
) -> dict[str, Any]:
    """The OpenAPI document of operations of one version, as callers of a product at a gateway see it."""
    version = sold[0].api_version
    kept = session.get(ApiDocument, version.id)
    name = f"{version.api.name} {version.version} · {sold_as}"
    document = (
        orjson.loads(kept.text)
        if kept
        else sketch(name, version.version, [(o.method, o.path, o.summary, tuple(o.groups)) for o in sold])
    )
    proofs = Proofs(product.credential_kinds, product.key_header, product.key_query, f"{ctx.web_address}/oauth2/token")
    return excerpt(document, [(o.method, o.path) for o in sold], name, gateway + version.base_path, proofs)


def _removals(session: Session, gone: Sequence[Operation]) -> list[Removal]:
    ids = [o.id for o in gone]
    used = operations.uses(session, ids)
    subscribed = subscribers.subscriptions_by_operation(session, ids)
    return [
        Removal(o.label, used.meters.get(o.id, []), used.plans.get(o.id, []), subscribed.get(o.id, 0)) for o in gone
    ]


def _tell(ctx: Context, reading_id: int, done: int, total: int) -> None:
    with ctx.transaction() as session:
        reading = session.get_one(DocumentReading, reading_id, options=_LIGHT)
        if reading.stage != "reading":
            raise Stopped
        reading.done, reading.total, reading.touched_at = done, total, ctx.now


def _settle(ctx: Context, reading_id: int, **found: Any) -> None:
    with ctx.transaction() as session:
        reading = session.get_one(DocumentReading, reading_id, options=_LIGHT)
        if reading.stage == "reading":
            for name, value in found.items():
                setattr(reading, name, value)
            reading.touched_at = ctx.now


def _get(session: Session, reading_id: int, lock: bool = False) -> DocumentReading:
    if lock:
        hold(session, DocumentReading, reading_id)
    found = session.get(DocumentReading, reading_id, options=_LIGHT, populate_existing=lock)
    if found is None:
        raise NotFound("there is no such document", str(reading_id))
    return found


def _ready(session: Session, reading_id: int, agreed: bool) -> DocumentReading:
    reading = _get(session, reading_id, lock=True)
    if reading.stage != "read":
        raise Conflict(f"is {_stage(reading, None)}, so it cannot be applied", reading.name)
    left_out = sum(f["weight"] == "left out" for f in reading.findings)
    if left_out and not agreed:
        raise Conflict(f"{left_out} parts would be left out; agree to that, or mend the document", reading.name)
    if not reading.operations:
        raise Conflict("describes no operation that can be taken", reading.name)
    return reading


def _keep(session: Session, ctx: Context, version: ApiVersion, reading: DocumentReading) -> None:
    kept = session.get(ApiDocument, version.id)
    if kept is None:
        session.add(ApiDocument(api_version_id=version.id, name=reading.name, text=reading.text, imported_at=ctx.now))
    else:
        kept.name, kept.text, kept.imported_at = reading.name, reading.text, ctx.now
    session.delete(reading)
    session.flush()


def _described(reading: DocumentReading) -> list[Described]:
    return [Described(o["method"], o["path"], o["summary"], tuple(o["groups"])) for o in reading.operations]


def _typed(o: Described) -> OperationTyped:
    return OperationTyped(o.method, o.path, o.summary, o.groups)


def _words(summary: str, groups: Sequence[str]) -> str:
    return f"{summary or 'no words'} ({', '.join(groups) or 'no group'})"


def _stage(reading: DocumentReading, now: datetime | None) -> str:
    abandoned = now is not None and reading.stage == "reading" and reading.touched_at < now - ABANDONED
    return "stopped" if abandoned else reading.stage


def _view(reading: DocumentReading, now: datetime) -> ReadingView:
    findings = [FindingView(f["weight"], f["where"], f["what"]) for f in reading.findings]
    groups = sorted({g for o in reading.operations for g in o["groups"]})
    return ReadingView(
        id=reading.id,
        name=reading.name,
        stage=_stage(reading, now),
        done=reading.done,
        total=reading.total,
        title=reading.title,
        version=reading.version,
        servers=list(reading.servers),
        operations=len(reading.operations),
        groups=groups,
        first=[f"{o['method']} {o['path']}" for o in reading.operations[:12]],
        findings=findings,
        left_out=sum(f.weight == "left out" for f in findings),
        started_at=reading.started_at,
        started_by=reading.started_by,
    )
