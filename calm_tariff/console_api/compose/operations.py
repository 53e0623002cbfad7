"""The operations of an API version."""

from __future__ import annotations

from collections.abc import Iterator

from fastapi import APIRouter, Query
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import PART, as_csv
from calm_tariff.services.compose import strangers
from calm_tariff.services.compose.apis import operations
from calm_tariff.services.compose.apis.operations import Answers, OperationPage, OperationTyped, OperationView, Standing

router = APIRouter(tags=["APIs"], route_class=Again)


class OperationIn(BaseModel):
    """An operation."""

    method: str
    path: str = Field(max_length=200)
    summary: str = Field(default="", max_length=200)
    groups: list[str] = []

    def typed(self) -> OperationTyped:
        """As the service takes it."""
        return OperationTyped(self.method, self.path, self.summary, [g.strip() for g in self.groups if g.strip()])


class AnswersIn(BaseModel):
    """Whether an operation answers from the back end or with its document's example."""

    answers: Answers


class GroupingIn(BaseModel):
    """Operations to put into a group, or to take out."""

    operations: list[int]
    group: str
    belongs: bool = True


class TryingIn(BaseModel):
    """Operations to let anyone try in the sandbox, or nobody without an account."""

    operations: list[int]
    allowed: bool = True


@router.put("/operations/{operation_id}/answers")
def set_answers(ctx: Asking, operation_id: int, typed: AnswersIn) -> OperationView:
    """Have an operation answer from the back end, or with its document's example."""
    return operations.set_answers(ctx, operation_id, typed.answers)


@router.get("/apis/{version_id}/operations")
def list_operations(
    ctx: Asking,
    version_id: int,
    words: str = "",
    group: str | None = None,
    standing: Standing | None = None,
    after: int = Query(default=0, ge=0, le=10**9),
    limit: int = Query(default=100, ge=1, le=2000),
) -> OperationPage:
    """Operations of a version, a page at a time."""
    return operations.page(ctx, version_id, words, group, standing=standing, after=after, limit=limit)


@router.get("/apis/{version_id}/operations.csv", response_class=Response)
def export_operations(
    ctx: Asking,
    version_id: int,
    words: str = "",
    group: str | None = None,
    standing: Standing | None = None,
) -> Response:
    """The same as CSV, all of them."""

    def rows() -> Iterator[OperationView]:
        after: int | None = 0
        while after is not None:
            found = operations.page(ctx, version_id, words, group, standing=standing, after=after, limit=PART)
            yield from found.operations
            after = found.after

    return as_csv("operations", OperationView, rows())


@router.post("/apis/{version_id}/operations", status_code=201)
def add_operation(ctx: Asking, version_id: int, operation: OperationIn) -> OperationView:
    """A new operation."""
    return operations.add(ctx, version_id, operation.typed())


@router.post("/apis/{version_id}/groups")
def group_operations(ctx: Asking, version_id: int, wanted: GroupingIn) -> int:
    """Put operations into a group or take them out; answers how many changed."""
    return operations.put_into_group(ctx, version_id, wanted.operations, wanted.group, wanted.belongs)


@router.post("/apis/{version_id}/operations/trying")
def let_anyone_try(ctx: Asking, version_id: int, wanted: TryingIn) -> int:
    """Let operations be tried in the sandbox without an account, or no longer; answers how many changed."""
    return strangers.let_anyone_try(ctx, version_id, wanted.operations, wanted.allowed)


@router.put("/operations/{operation_id}")
def save_operation(ctx: Asking, operation_id: int, operation: OperationIn) -> OperationView:
    """Change an operation."""
    return operations.save(ctx, operation_id, operation.typed())


@router.delete("/operations/{operation_id}", status_code=204)
def remove_operation(ctx: Asking, operation_id: int) -> None:
    """Take an operation away that nobody sells or counts."""
    operations.remove(ctx, operation_id)
