"""The operations of an API version: page by page, with who counts and who sells each."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import asdict, dataclass
from typing import Literal

from sqlalchemy import exists, func, select
from sqlalchemy.orm import Session

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.formats.documents import read_document
from calm_tariff.formats.openapi import METHODS as DESCRIBED
from calm_tariff.formats.openapi_examples import ExampleAnswer, TooLarge, example_of
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.base.locking import all_locked, locked
from calm_tariff.store.compose.apis import ApiDocument, ApiVersion, Operation
from calm_tariff.store.compose.meters import Meter, MeterOperation
from calm_tariff.store.compose.products import Plan, Product, ProductOperation

METHODS = tuple(method.upper() for method in DESCRIBED)
Standing = Literal["unsold", "uncounted"]
Answers = Literal["back end", "example", "sandbox example"]


@dataclass(frozen=True, slots=True)
class OperationTyped:
    """An operation as somebody typed it."""

    method: str
    path: str
    summary: str = ""
    groups: Sequence[str] = ()


@dataclass(frozen=True, slots=True)
class OperationView:
    """An operation with the names of the meters that count it and the plans that sell it.

    `answers`: back end, example, or sandbox example; `example` is the answer it then gives. `tried_by_anyone`: calls
    without a credential may ask for its sandbox.
    """

    id: int
    method: str
    path: str
    summary: str
    groups: list[str]
    meters: list[str]
    plans: list[str]
    answers: str
    example: str | None
    tried_by_anyone: bool


@dataclass(frozen=True, slots=True)
class OperationPage:
    """Some operations, by path; `total` are meant in all, `after` leads to the next page."""

    operations: list[OperationView]
    total: int
    after: int | None


@dataclass(frozen=True, slots=True)
class Uses:
    """Who uses operations: names by operation id."""

    meters: dict[int, list[str]]
    plans: dict[int, list[str]]

    def of(self, operation_id: int) -> list[str]:
        """Everybody that uses one."""
        return [*self.meters.get(operation_id, []), *self.plans.get(operation_id, [])]


def page(
    ctx: Context,
    version_id: int,
    words: str = "",
    group: str | None = None,
    standing: Standing | None = None,
    after: int = 0,
    limit: int = 100,
) -> OperationPage:
    """Operations of a version that have the words in method, path or summary; `after` skips so many."""
    ctx.actor.must_be(*ROLES)
    query = select(Operation).where(Operation.api_version_id == version_id, Operation.retired_at.is_(None))
    for word in words.split():
        said = func.lower(func.concat(Operation.method, " ", Operation.path, " ", Operation.summary))
        query = query.where(said.contains(word.lower(), autoescape=True))
    if group is not None:
        has = func.json_contains(Operation.groups, func.json_quote(group))
        query = query.where(func.json_length(Operation.groups) == 0 if group == "" else has)
    if standing == "unsold":
        query = query.where(~exists().where(ProductOperation.c.operation_id == Operation.id))
    if standing == "uncounted":
        counted = exists().where(
            MeterOperation.c.operation_id == Operation.id,
            Meter.id == MeterOperation.c.meter_id,
            Meter.state != "archived",
        )
        query = query.where(~counted)
    with ctx.reading() as session:
        total = session.scalar(select(func.count()).select_from(query.subquery())) or 0
        found = session.scalars(query.order_by(Operation.path, Operation.method).offset(after).limit(limit)).all()
        used = uses(session, [o.id for o in found])
        more = after + len(found)
        return OperationPage([view(o, used) for o in found], total, more if more < total else None)


def add(ctx: Context, version_id: int, typed: OperationTyped) -> OperationView:
    """A new operation. Raises `Invalid` or `Conflict`, naming the field."""
    ctx.actor.must_be("product manager")
    check([typed])
    with ctx.transaction() as session:
        version = locked(session, ApiVersion, version_id)
        if version is None:
            raise NotFound("there is no such API version", str(version_id))
        made = put(session, version, typed)
        _noted(session, ctx, "added an operation", version, before=None, made=made)
        return view(made, Uses({}, {}))


def save(ctx: Context, operation_id: int, typed: OperationTyped) -> OperationView:
    """Change an operation's method, path, words or groups."""
    ctx.actor.must_be("product manager")
    check([typed])
    with ctx.transaction() as session:
        operation = _get(session, operation_id)
        before = _terms(operation)
        _refuse_twin(session, operation.api_version_id, typed, operation.id)
        operation.method, operation.path = typed.method, typed.path
        operation.summary, operation.groups = typed.summary, list(typed.groups)
        _noted(session, ctx, "changed an operation", operation.api_version, before=before, made=operation)
        return view(operation, uses(session, [operation.id]))


def remove(ctx: Context, operation_id: int) -> None:
    """Take an operation away. Raises `Conflict` where it is still sold or counted."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        operation = _get(session, operation_id)
        users = uses(session, [operation.id]).of(operation.id)
        if users:
            raise Conflict(f"is still used by {', '.join(users)}; take it out there first", operation.label)
        _noted(session, ctx, "took an operation away", operation.api_version, before=_terms(operation), made=None)
        operation.retired_at = ctx.now


def set_answers(ctx: Context, operation_id: int, answers: Answers) -> OperationView:
    """Have an operation answer from the back end, or with the example of its OpenAPI document, always or in
    the sandbox. Raises `Conflict` where the document gives no example."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        operation = _get(session, operation_id)
        found = None
        if answers != "back end":
            document = session.get(ApiDocument, operation.api_version_id)
            found = _example(document, operation)
            if found is None:
                raise Conflict("the API's OpenAPI document gives no example of a successful answer", operation.label)
        before = operation.answers
        operation.answers, operation.example = answers, asdict(found) if found else None
        auditing.note(
            session,
            ctx,
            "set what an operation answers",
            subject(operation.api_version),
            before={operation.label: before},
            after={operation.label: answers},
        )
        stamps.touch(session, ctx)
        return view(operation, uses(session, [operation.id]))


def _example(document: ApiDocument | None, operation: Operation) -> ExampleAnswer | None:
    if document is None:
        return None
    try:
        return example_of(read_document(document.text), operation.method, operation.path)
    except TooLarge:
        raise Conflict(
            "the API's OpenAPI document gives an example that is too large, or unfolds without end", operation.label
        ) from None


def put_into_group(ctx: Context, version_id: int, ids: Sequence[int], group: str, belongs: bool) -> int:
    """Put operations into a group of their own version, or take them out; returns how many changed."""
    ctx.actor.must_be("product manager")
    group = names.plain(group, "group", 60)
    with ctx.transaction() as session:
        query = select(Operation.id).where(Operation.id.in_(ids), Operation.api_version_id == version_id)
        changed = 0
        for operation in all_locked(session, Operation, session.scalars(query).all()):
            if (group in operation.groups) != belongs:
                others = [g for g in operation.groups if g != group]
                operation.groups = [*others, group] if belongs else others
                changed += 1
        version = session.get(ApiVersion, version_id)
        if version and changed:
            words = f"put {changed} operations into {group}" if belongs else f"took {changed} operations out of {group}"
            auditing.note(session, ctx, words, subject(version))
        return changed


def groups_of(session: Session, version_id: int) -> dict[str, int]:
    """The groups of a version's operations with how many each has; '' stands for those in none."""
    counts: dict[str, int] = {}
    query = select(Operation.groups).where(Operation.api_version_id == version_id, Operation.retired_at.is_(None))
    for (groups,) in session.execute(query):
        for group in groups or [""]:
            counts[group] = counts.get(group, 0) + 1
    return dict(sorted(counts.items()))


def uses(session: Session, ids: Sequence[int]) -> Uses:
    """Meters (not archived) and plans (not withdrawn) by operation."""
    meters: dict[int, list[str]] = {}
    plans: dict[int, list[str]] = {}
    counted = (
        select(MeterOperation.c.operation_id, Meter.name)
        .join(Meter, Meter.id == MeterOperation.c.meter_id)
        .where(MeterOperation.c.operation_id.in_(ids), Meter.state != "archived")
        .order_by(Meter.name)
    )
    sold = (
        select(ProductOperation.c.operation_id, Product.name, Plan.name)
        .join(Product, Product.id == ProductOperation.c.product_id)
        .outerjoin(Plan, (Plan.product_id == Product.id) & (Plan.state != "withdrawn"))
        .where(ProductOperation.c.operation_id.in_(ids))
        .order_by(Product.name, Plan.place)
    )
    for operation, name in session.execute(counted):
        meters.setdefault(operation, []).append(name)
    for operation, product, plan in session.execute(sold):
        plans.setdefault(operation, []).append(f"{product} · {plan}" if plan else product)
    return Uses(meters, plans)


def put(session: Session, version: ApiVersion, typed: OperationTyped, checked: bool = False) -> Operation:
    """Add an operation to a version, or bring a retired one back. Raises `Conflict` for a second one,
    unless the caller has `checked` that it is none."""
    if not checked:
        _refuse_twin(session, version.id, typed, None)
    known = session.scalar(
        select(Operation).where(
            Operation.api_version_id == version.id, Operation.method == typed.method, Operation.path == typed.path
        )
    )
    operation = known or Operation(api_version_id=version.id, method=typed.method, path=typed.path)
    operation.summary, operation.groups, operation.retired_at = typed.summary, list(typed.groups), None
    session.add(operation)
    session.flush()
    return operation


def check(typed: Iterable[OperationTyped]) -> None:
    """Raise `Invalid`, naming the field, for operations that cannot be routed."""
    seen: dict[tuple[str, str], int] = {}
    for place, operation in enumerate(typed):
        where = f"operations[{place}]"
        if operation.method not in METHODS:
            raise Invalid(f"must be one of {', '.join(METHODS)}", f"{where}.method")
        path = operation.path
        if not path.startswith("/") or "//" in path or any(c in path for c in "?# "):
            raise Invalid("must begin with a slash and be a plain path", f"{where}.path")
        if re.sub(r"\{[^{}/]+\}", "", path).count("{"):
            raise Invalid("has a brace without its partner", f"{where}.path")
        shape = (operation.method, re.sub(r"\{[^{}/]+\}", "{}", path))
        if shape in seen:
            raise Invalid(f"is the same as operation {seen[shape] + 1}", f"{where}.path")
        seen[shape] = place


def subject(version: ApiVersion) -> tuple[str, int, str]:
    """How the record names a version."""
    return ("API", version.id, f"{version.api.name} {version.version}")


def view(o: Operation, used: Uses) -> OperationView:
    """A stored operation as people see it."""
    return OperationView(
        id=o.id,
        method=o.method,
        path=o.path,
        summary=o.summary,
        groups=list(o.groups),
        meters=used.meters.get(o.id, []),
        plans=used.plans.get(o.id, []),
        answers=o.answers,
        example=o.example["body"] if o.example else None,
        tried_by_anyone=o.tried_by_anyone,
    )


def _refuse_twin(session: Session, version_id: int, typed: OperationTyped, but: int | None) -> None:
    shape = re.sub(r"\{[^{}/]+\}", "{}", typed.path)
    query = select(Operation).where(
        Operation.api_version_id == version_id, Operation.method == typed.method, Operation.retired_at.is_(None)
    )
    for other in session.scalars(query):
        if other.id != but and re.sub(r"\{[^{}/]+\}", "{}", other.path) == shape:
            raise Conflict(f"{other.label} leads there already", "path")


def _get(session: Session, operation_id: int) -> Operation:
    found = locked(session, Operation, operation_id)
    if found is None or found.retired_at:
        raise NotFound("there is no such operation", str(operation_id))
    return found


def _terms(o: Operation) -> dict[str, object]:
    return {"method": o.method, "path": o.path, "summary": o.summary, "groups": list(o.groups)}


def _noted(
    session: Session,
    ctx: Context,
    what: str,
    version: ApiVersion,
    before: dict[str, object] | None,
    made: Operation | None,
) -> None:
    auditing.note(session, ctx, what, subject(version), before=before, after=_terms(made) if made else None)
    stamps.touch(session, ctx)
